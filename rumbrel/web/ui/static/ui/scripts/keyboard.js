// Shortcuts, as Help lists them.
import { currentRow, walkRows } from "./rows.js";
import { switchTheme } from "./theme.js";

const press = (key) => document.querySelector(`[data-key=${key}]`)?.click();

const keys = {
  j: () => walkRows(1),
  k: () => walkRows(-1),
  p: () => currentRow()?.querySelector("[data-pull]")?.click(),
  d: switchTheme,
  f: () => press("f"),
  l: () => press("l"),
  w: () => press("w"),
  "/": () => document.querySelector("[type=search]")?.focus(),
  "?": () => { location.href = "/help/"; },
};

export function startKeyboard() {
  document.addEventListener("keydown", (event) => {
    const field = event.target.closest("input, select, textarea");
    if (event.key === "Escape" && field) field.blur();
    if (field || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Enter" && event.target === document.body) {
      press("enter");
      return;
    }
    const action = keys[event.key];
    if (action) {
      event.preventDefault();
      action();
    }
  });
}
