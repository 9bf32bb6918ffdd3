// Rows of a list are ordered by dragging their handles, or with the keys; what is marked goes together.
/* global Sortable */
import { inTurn } from "./queue.js";
import { currentRow } from "./rows.js";

const list = () => document.getElementById("list");
const rowsOf = (body) => [...body.querySelectorAll("tr[data-entry]")];
const markOf = (row) => row?.querySelector("input[name=entry]");

// What is selected stays so, whatever moves.
const marksOf = () => [...document.querySelectorAll("#list input[name=entry]:checked")].map((box) => box.value).join(" ");

const act = (name, values) => inTurn("list", list().dataset.act.replace("NAME", name), () => (
  { revision: list().dataset.revision, page: list().dataset.page, marked: marksOf(), ...values }));

// What is marked, together with one row; that row alone where it is not among them.
function together(row) {
  const marked = rowsOf(row.parentElement).filter((each) => markOf(each).checked);
  return (marked.includes(row) ? marked : [row]).map((each) => each.dataset.entry);
}

function makeSortable() {
  const body = document.querySelector("#list tbody[data-list-rows]");
  if (!body || body.dataset.sorts) return;
  body.dataset.sorts = "1";
  Sortable.create(body, {
    handle: "[data-handle]",
    animation: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120,
    onEnd: (event) => {
      const entry = together(event.item);
      let next = event.item.nextElementSibling;
      while (next && entry.includes(next.dataset.entry)) next = next.nextElementSibling;
      act("move", { entry, before: next?.dataset.entry ?? body.dataset.behind });
    },
  });
}

// Marks from the one pressed last to this one, with shift.
let lastMark = null;
function markRange(box) {
  const rows = rowsOf(box.closest("tbody"));
  const ends = [rows.indexOf(lastMark?.closest("tr")), rows.indexOf(box.closest("tr"))].sort((one, other) => one - other);
  if (ends[0] >= 0) rows.slice(ends[0], ends[1] + 1).forEach((row) => { markOf(row).checked = box.checked; });
}

export function startOrdering() {
  if (!list()) return;
  makeSortable();
  document.addEventListener("htmx:afterSettle", makeSortable);
  document.addEventListener("click", (event) => {
    const box = event.target.closest("#list input[name=entry]");
    if (!box) return;
    if (event.shiftKey) markRange(box);
    lastMark = box;
  });
  document.addEventListener("keydown", (event) => {
    const row = event.target.closest?.("#list tr[data-entry]") ?? currentRow();
    if (!row?.dataset.entry || event.ctrlKey || event.metaKey) return;
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
      event.preventDefault();
      act("step", { entry: together(row), way: event.key === "ArrowUp" ? "up" : "down" });
    } else if (event.key === "x" && !event.altKey && !event.target.closest("input:not([type=checkbox]), select, textarea")) {
      event.preventDefault();
      markOf(row).checked = !markOf(row).checked;
      lastMark = markOf(row);
    }
  });
}
