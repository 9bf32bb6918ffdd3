// Keys that act without a modifier can be switched off (WCAG 2.1.4): for who speaks to the machine, or rests a hand on it.
const off = () => document.documentElement.dataset.keys === "off";

function switchKeys(on) {
  if (on) delete document.documentElement.dataset.keys;
  else document.documentElement.dataset.keys = "off";
  document.cookie = `keys=${on ? "on" : "off"};path=/;max-age=31536000;samesite=strict`;
  document.querySelector("[data-keys-said]").textContent = on ? "On." : "Off. Keys with Ctrl or Alt, arrows, Enter and Tab still act.";
}

export function startSingleKeys() {
  // Before anything else hears of it. In a field, and on a ruler that has the focus, a key is meant for that.
  window.addEventListener("keydown", (event) => {
    if (!off() || event.key.length !== 1 || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.target.closest?.("input:not([type=checkbox]), select, textarea, [role=slider]")) return;
    event.stopImmediatePropagation();
  }, true);
  document.addEventListener("change", (event) => {
    if (event.target.matches("[data-keys-switch]")) switchKeys(event.target.checked);
  });
}
