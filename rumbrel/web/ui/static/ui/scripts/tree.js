// Folders within a source folder, below its row: opened by a press, closed by another.
const rowsIn = (key) => [...document.querySelectorAll("tr[data-inside]")].filter((row) => row.dataset.inside.startsWith(key));
const isOpen = (button) => button.getAttribute("aria-expanded") === "true";
// A source folder's key ends with its slash already.
const keyOf = (button) => (button.dataset.tree.endsWith("/") ? button.dataset.tree : `${button.dataset.tree}/`);

function close(button) {
  rowsIn(keyOf(button)).forEach((row) => row.remove());
  button.setAttribute("aria-expanded", "false");
}

// While a scan goes on the table is drawn anew again and again: what is open stays open.
let kept = [];

function keep() {
  kept = [...document.querySelectorAll("#folders [data-tree$='/']")].filter(isOpen).map((button) => [button.dataset.tree, rowsIn(keyOf(button))]);
}

function giveBack() {
  for (const [key, rows] of kept) {
    const button = document.querySelector(`#folders [data-tree="${key}"]`);
    if (!button || isOpen(button)) continue;
    button.setAttribute("aria-expanded", "true");
    button.closest("tr").after(...rows);
  }
  kept = [];
}

export function startTrees() {
  document.addEventListener("htmx:beforeRequest", (event) => {
    const button = event.detail.elt.closest?.("[data-tree]");
    if (!button || !isOpen(button)) return;
    event.preventDefault();
    close(button);
  });
  document.addEventListener("htmx:beforeSwap", (event) => { if (event.detail.target.id === "folders") keep(); });
  document.addEventListener("htmx:afterSwap", (event) => {
    giveBack();
    event.detail.requestConfig?.elt.closest?.("[data-tree]")?.setAttribute("aria-expanded", "true");
  });
}
