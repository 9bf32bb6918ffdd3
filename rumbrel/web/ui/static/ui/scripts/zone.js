// The zone of the user's clock, so that pages show times in it from the next one on.
export function startZone() {
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  if (zone && !document.cookie.split("; ").includes(`zone=${zone}`)) {
    document.cookie = `zone=${zone}; path=/; max-age=31536000; samesite=lax`;
  }
}
