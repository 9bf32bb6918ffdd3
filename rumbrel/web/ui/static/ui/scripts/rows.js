// The row the user is at. Rows are replaced as work goes on; the one the user is at stays so.
import { say } from "./announce.js";

const all = () => [...document.querySelectorAll("tr[data-row]")];
let currentId = "";

export const currentRow = () => document.querySelector("tr[data-row].is-current");

export function chooseRow(row) {
  all().forEach((each) => each.classList.toggle("is-current", each === row));
  currentId = row.id;
}

export function walkRows(step) {
  const rows = all();
  if (!rows.length) return;
  const next = rows[Math.max(0, Math.min(rows.length - 1, rows.indexOf(currentRow()) + step))];
  chooseRow(next);
  next.scrollIntoView({ block: "nearest" });
  next.querySelector("a, button:not([data-pull])")?.focus({ preventScroll: true });
}

// The row whose mark was pressed last: with shift, all from there to here are pulled at once. Where there is no shift, a
// press says that the next two marks are its ends.
let markedId = "";
let ranging = false;

function switchRange(on) {
  ranging = on;
  if (on) markedId = "";
  document.querySelectorAll("[data-range-switch]").forEach((button) => button.setAttribute("aria-pressed", String(on)));
  if (on) say("Press the mark of the first track, then that of the last.");
}

function pullRange(row) {
  const rows = all();
  const ends = [rows.indexOf(document.getElementById(markedId)), rows.indexOf(row)].sort((one, other) => one - other);
  if (ends[0] < 0) return false;
  const between = rows.slice(ends[0], ends[1] + 1).filter((each) => each.id.startsWith("track-"));
  const form = document.getElementById("pull-range");
  form.elements.ids.value = between.map((each) => each.id.slice("track-".length)).join(" ");
  switchRange(false);
  form.elements.back.value = location.pathname + location.search;
  form.requestSubmit();
  return true;
}

export function markRow(row, toHere) {
  const button = row?.querySelector("[data-pull]");
  if (!button) return false;
  if (toHere && document.getElementById("pull-range") && pullRange(row)) return true;
  button.click();
  return true;
}

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-range-switch]")) switchRange(!ranging);
  const row = event.target.closest("tr[data-row]");
  if (!row) return;
  if (event.target.closest("[data-pull]") && (event.shiftKey || ranging) && document.getElementById("pull-range") && pullRange(row)) {
    event.preventDefault();
    event.stopPropagation();
    return;
  }
  chooseRow(row);
  if (event.target.closest("[data-pull]")) markedId = row.id;
}, true);
document.addEventListener("htmx:afterSettle", () => {
  if (currentId && !currentRow()) document.getElementById(currentId)?.classList.add("is-current");
});
