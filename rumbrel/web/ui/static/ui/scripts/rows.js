// The row the user is at. Rows are replaced as work goes on; the one the user is at stays so.
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

document.addEventListener("click", (event) => {
  const row = event.target.closest("tr[data-row]");
  if (row) chooseRow(row);
});
document.addEventListener("htmx:afterSettle", () => {
  if (currentId && !currentRow()) document.getElementById(currentId)?.classList.add("is-current");
});
