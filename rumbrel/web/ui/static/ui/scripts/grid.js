// A table of things is one stop for the tab key, with arrows inside (the grid of the ARIA practices). A cell's controls
// have the focus one after another; a cell without any has it itself, so that each can be read.
const CONTROLS = "a[href], button:not([disabled]), input:not([type=hidden]):not([disabled]), select:not([disabled]), summary";
const STEPS = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0], PageUp: [-10, 0], PageDown: [10, 0] };

const grids = () => document.querySelectorAll("table[data-grid]");
const shown = (part) => part.checkVisibility({ visibilityProperty: true });
const rowsOf = (table) => [...table.rows].filter(shown);
const controlsOf = (cell) => [...cell.querySelectorAll(CONTROLS)].filter(shown);
const cellsOf = (row) => [...row.cells].filter(shown);

// What the tab key comes to: where one was, else the first title, else whatever comes first.
function makeOneStop(table) {
  table.setAttribute("role", "grid");
  const controls = [...table.querySelectorAll(CONTROLS)];
  const stop = controls.find((each) => each === document.activeElement)
    ?? controls.find((each) => each.id && each.id === table.dataset.at)
    ?? table.tBodies[0]?.querySelector("tr.is-current .row-link, .row-link") ?? controls.find((each) => each.closest("tbody")) ?? controls[0];
  controls.forEach((each) => { each.tabIndex = each === stop ? 0 : -1; });
  table.querySelectorAll("td[tabindex], th[tabindex]").forEach((cell) => { if (cell !== document.activeElement) cell.removeAttribute("tabindex"); });
}

function go(table, cell, part) {
  const target = part ?? cell;
  table.querySelectorAll('[tabindex="0"]').forEach((each) => { each.tabIndex = -1; });
  target.tabIndex = 0;
  target.focus({ preventScroll: true });
  target.scrollIntoView({ block: "nearest", inline: "nearest" });
}

// In a field the arrows are the field's own, but at its ends.
function belongsToField(event) {
  const field = event.target;
  if (field.matches("select, input[type=number], input[type=radio], textarea")) return true;
  if (!field.matches("input:not([type=checkbox])")) return false;
  if (event.key === "ArrowLeft") return field.selectionStart > 0 || field.selectionEnd > 0;
  if (event.key === "ArrowRight") return field.selectionEnd < field.value.length;
  return event.key === "Home" || event.key === "End";
}

// The same column of another row; where that row has fewer, its last.
function along(table, row, cell, lines) {
  const rows = rowsOf(table);
  const next = rows[Math.max(0, Math.min(rows.length - 1, rows.indexOf(row) + lines))];
  if (next === row) return null;
  const cells = cellsOf(next);
  return cells[Math.min(cellsOf(row).indexOf(cell), cells.length - 1)];
}

function beside(row, cell, part, way) {
  const stops = cellsOf(row).flatMap((each) => (controlsOf(each).length ? controlsOf(each) : [each]));
  return stops[stops.indexOf(part ?? cell) + way];
}

function ends(table, row, key, whole) {
  const rows = rowsOf(table);
  const cells = cellsOf(whole ? rows[key === "Home" ? 0 : rows.length - 1] : row);
  return cells[key === "Home" ? 0 : cells.length - 1];
}

function pressed(event) {
  const table = event.target.closest?.("table[data-grid]");
  if (!table || event.defaultPrevented || event.altKey || event.shiftKey || event.metaKey || belongsToField(event)) return;
  const cell = event.target.closest("td, th");
  if (!cell) return;
  const [row, part] = [cell.parentElement, event.target === cell ? null : event.target.closest(CONTROLS)];
  const step = event.ctrlKey ? null : STEPS[event.key];
  let next = null;
  if (step) next = step[0] ? along(table, row, cell, step[0]) : beside(row, cell, part, step[1]);
  else if (event.key === "Home" || event.key === "End") next = ends(table, row, event.key, event.ctrlKey);
  else return;
  event.preventDefault();
  if (!next) return;
  const nextCell = next.closest("td, th");
  go(table, nextCell, next === nextCell ? controlsOf(nextCell)[0] : next);
}

export function startGrids() {
  const all = () => grids().forEach(makeOneStop);
  all();
  document.addEventListener("htmx:afterSettle", all);
  document.addEventListener("keydown", pressed);
  document.addEventListener("focusin", (event) => {
    const table = event.target.closest?.("table[data-grid]");
    if (!table || event.target.tabIndex === 0) return;
    table.dataset.at = event.target.id;
    makeOneStop(table);
  });
}
