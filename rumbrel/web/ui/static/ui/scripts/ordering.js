// Rows of a list are ordered by dragging their handles.
/* global Sortable, htmx */
function makeSortable(root) {
  root.querySelectorAll("tbody[data-sortable]").forEach((body) => {
    Sortable.create(body, {
      handle: "[data-handle]",
      animation: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120,
      onEnd: () => {
        const entry = [...body.querySelectorAll("tr[data-entry]")].map((row) => row.dataset.entry);
        const values = { entry, page: body.dataset.page };
        htmx.ajax("POST", body.dataset.sortable, { target: "#entries", swap: "outerHTML", values });
      },
    });
  });
}

export function startOrdering() {
  makeSortable(document);
  document.addEventListener("htmx:afterSettle", (event) => makeSortable(event.target.parentNode || document));
}
