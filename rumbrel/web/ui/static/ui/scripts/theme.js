// Light or dark: as the system has it, until the user says otherwise.
export function switchTheme() {
  const root = document.documentElement;
  const dark = root.dataset.theme ? root.dataset.theme === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  root.dataset.theme = dark ? "light" : "dark";
  document.cookie = `theme=${root.dataset.theme};path=/;max-age=31536000;samesite=strict`;
}

export function startTheme() {
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-theme-switch]")) switchTheme();
  });
}
