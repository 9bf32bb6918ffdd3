// Shortcuts, as Help lists them.
import { canBeHeard, hearingKeys, panelHere, playOrPause, stateOf } from "./hearing.js";
import { currentRow, markRow, walkRows } from "./rows.js";
import { switchTheme } from "./theme.js";

// What the page itself offers goes before what every page does.
const press = (key) => (document.querySelector(`main [data-key=${key}]`) ?? document.querySelector(`[data-key=${key}]`))?.click();

const keys = {
  j: () => walkRows(1),
  k: () => walkRows(-1),
  " ": playOrPause,
  p: () => markRow(currentRow(), false) || press("p"),
  P: () => markRow(currentRow(), true),
  d: switchTheme,
  f: () => press("f"),
  l: () => press("l"),
  e: () => press("e"),
  u: () => press("u"),
  w: () => press("w"),
  "/": () => document.querySelector("[type=search]")?.focus(),
  "?": () => { location.href = "/help/"; },
};

export function startKeyboard() {
  document.addEventListener("keydown", (event) => {
    // A mark in a list is no field that anybody types into.
    const field = event.target.closest("input:not([type=checkbox]), select, textarea");
    if (event.key === "Escape" && field) field.blur();
    // What starts or writes takes two keys: Enter alone acts on what has the focus, and on nothing else.
    if (event.key === "Enter" && (event.ctrlKey || event.metaKey) && !event.repeat) {
      event.preventDefault();
      press("main");
      return;
    }
    if (field || event.ctrlKey || event.metaKey || event.altKey) return;
    // A button or a link keeps its own space.
    if (event.key === " " && (event.target.closest("button, summary, input") || !canBeHeard())) return;
    const panel = hearingKeys[event.key] && panelHere();
    const action = panel ? () => hearingKeys[event.key](panel, stateOf(panel)) : keys[event.key];
    if (action) {
      event.preventDefault();
      action();
    }
  });
}
