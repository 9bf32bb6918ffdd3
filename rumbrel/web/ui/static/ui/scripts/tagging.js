// Tags as a grid: typed in, filled down, pasted from a spreadsheet; what changes is tinted, with the old value under it.
const grid = () => document.getElementById("tag-grid");
const cells = () => [...grid().querySelectorAll(".tag-cell")];
const rowsOf = () => [...grid().tBodies[0].rows];
const cellAt = (row, column) => rowsOf()[row]?.querySelectorAll(".tag-cell")[column];

function placeOf(cell) {
  const row = cell.closest("tr");
  return { row: rowsOf().indexOf(row), column: [...row.querySelectorAll(".tag-cell")].indexOf(cell) };
}

// What was typed, as the form sends it.
function keep() {
  const typed = {};
  cells().filter((cell) => cell.dataset.typed !== undefined).forEach((cell) => {
    (typed[cell.closest("tr").dataset.file] ??= {})[cell.dataset.field] = cell.value;
  });
  document.getElementById("tag-cells").value = Object.keys(typed).length ? JSON.stringify(typed) : "";
  document.getElementById("tag-form").dispatchEvent(new Event("cells"));
}

function type(cell, text) {
  cell.value = text;
  cell.dataset.typed = "";
}

const fit = (cell) => { cell.style.height = "auto"; cell.style.height = `${cell.scrollHeight}px`; };

function show(cell, after) {
  const was = cell.dataset.was;
  if (cell.dataset.typed === undefined) cell.value = after ?? was;
  const changed = after !== undefined && after !== was;
  cell.closest("td").classList.toggle("is-changed", changed);
  const old = cell.nextElementSibling;
  old.hidden = !changed || !was;
  old.textContent = changed ? was : "";
  fit(cell);
}

function read(id) {
  const text = document.getElementById(id)?.textContent;
  return (text && JSON.parse(text)) || {};
}

// After each look at what would change.
function draw() {
  const [changes, counts] = [read("tag-changes"), read("tag-counts")];
  cells().forEach((cell) => show(cell, changes[cell.closest("tr").dataset.file]?.[cell.dataset.field]));
  document.querySelectorAll("[data-count]").forEach((output) => {
    const count = counts[output.dataset.count];
    output.textContent = count === undefined ? "" : `changes ${count}`;
  });
}

// A rectangle of cells, from the one where the selection began to the one that has the focus.
let anchor = null;

function selected() {
  const here = document.activeElement?.closest?.(".tag-cell");
  if (!here) return [];
  const [one, other] = [placeOf(anchor ?? here), placeOf(here)];
  const found = [];
  for (let row = Math.min(one.row, other.row); row <= Math.max(one.row, other.row); row += 1) {
    for (let column = Math.min(one.column, other.column); column <= Math.max(one.column, other.column); column += 1) {
      found.push(cellAt(row, column));
    }
  }
  return found;
}

function mark() {
  const chosen = new Set(anchor ? selected() : []);
  cells().forEach((cell) => cell.closest("td").classList.toggle("is-selected", chosen.size > 1 && chosen.has(cell)));
}

function fillDown(cell) {
  const chosen = selected();
  if (chosen.length < 2) {
    const { row, column } = placeOf(cell);
    const above = cellAt(row - 1, column);
    if (above) type(cell, above.value);
    return;
  }
  const first = placeOf(chosen[0]).row;
  chosen.forEach((each) => {
    const { row, column } = placeOf(each);
    if (row !== first) type(each, cellAt(first, column).value);
  });
}

function paste(cell, text) {
  const lines = text.replace(/\r\n?/g, "\n").replace(/\n$/, "").split("\n").map((line) => line.split("\t"));
  if (lines.length === 1 && lines[0].length === 1) {
    if (selected().length < 2) return false;
    selected().forEach((each) => type(each, lines[0][0]));
    return true;
  }
  const { row, column } = placeOf(cell);
  lines.forEach((line, down) => line.forEach((value, across) => {
    const each = cellAt(row + down, column + across);
    if (each) type(each, value.trim());
  }));
  return true;
}

function go(cell, down, across, extends_) {
  const { row, column } = placeOf(cell);
  const next = cellAt(row + down, column + across);
  if (!next) return;
  if (extends_) anchor ??= cell;
  else anchor = null;
  next.focus();
  if (!extends_) next.select();
  mark();
}

const ARROWS = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };

function pressed(event) {
  const cell = event.target.closest?.(".tag-cell");
  if (!cell) return;
  const control = event.ctrlKey || event.metaKey;
  if (event.key === "Enter") {
    event.preventDefault();
    if (control && selected().length > 1) {
      selected().forEach((each) => type(each, cell.value));
      keep();
    } else go(cell, event.shiftKey ? -1 : 1, 0, false);
  } else if (control && event.key.toLowerCase() === "d") {
    event.preventDefault();
    fillDown(cell);
    keep();
  } else if (event.key === "Escape") {
    event.stopPropagation();
    selected().forEach((each) => { delete each.dataset.typed; each.value = each.dataset.was; });
    anchor = null;
    keep();
    mark();
  } else if (ARROWS[event.key] && event.shiftKey && !control && !event.altKey) {
    event.preventDefault();
    go(cell, ...ARROWS[event.key], true);
  } else if ((event.key === "ArrowUp" || event.key === "ArrowDown") && !control && !event.altKey) {
    event.preventDefault();
    go(cell, ...ARROWS[event.key], false);
  }
}

export function startTagging() {
  if (!grid()) return;
  cells().forEach(fit);
  document.addEventListener("keydown", pressed, true);
  grid().addEventListener("input", (event) => {
    const cell = event.target.closest(".tag-cell");
    if (!cell) return;
    event.stopPropagation();
    cell.value = cell.value.replace(/\n/g, " ");
    cell.dataset.typed = "";
    fit(cell);
    keep();
  });
  grid().addEventListener("change", (event) => event.stopPropagation());
  grid().addEventListener("paste", (event) => {
    const cell = event.target.closest(".tag-cell");
    if (cell && paste(cell, event.clipboardData.getData("text/plain"))) {
      event.preventDefault();
      keep();
    }
  });
  grid().addEventListener("pointerdown", (event) => {
    const cell = event.target.closest(".tag-cell");
    if (!cell) return;
    if (event.shiftKey && document.activeElement?.closest(".tag-cell")) anchor ??= document.activeElement;
    else anchor = null;
    setTimeout(mark);
  });
  document.addEventListener("htmx:afterSettle", (event) => { if (event.detail.elt.id === "preview") draw(); });
  document.getElementById("tag-form").addEventListener("reset", () => setTimeout(() => {
    cells().forEach((cell) => { delete cell.dataset.typed; cell.value = cell.dataset.was; });
    keep();
  }));
  document.querySelector("[data-add-field]")?.addEventListener("change", (event) => {
    event.stopPropagation();
    const address = new URL(location.href);
    address.searchParams.append("field", event.target.value);
    location.assign(address);
  });
}
