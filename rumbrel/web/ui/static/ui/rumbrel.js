// Keyboard, theme, dropping files and ordering lists. Everything works without it, but slower.
(() => {
  "use strict";
  const all = (selector, root = document) => [...root.querySelectorAll(selector)];
  const rows = () => all("tr[data-row]");
  const current = () => document.querySelector("tr[data-row].is-current");

  // Rows are replaced as work goes on; the one the user is at stays so.
  let currentId = "";
  function choose(row) {
    rows().forEach((each) => each.classList.toggle("is-current", each === row));
    currentId = row.id;
  }

  function walk(step) {
    const list = rows();
    if (!list.length) return;
    const at = list.indexOf(current());
    const next = list[Math.max(0, Math.min(list.length - 1, at + step))];
    choose(next);
    next.scrollIntoView({ block: "nearest" });
    next.querySelector("a, button")?.focus({ preventScroll: true });
  }

  function switchTheme() {
    const root = document.documentElement;
    const dark = root.dataset.theme ? root.dataset.theme === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
    root.dataset.theme = dark ? "light" : "dark";
    document.cookie = `theme=${root.dataset.theme};path=/;max-age=31536000;samesite=strict`;
  }

  const keys = {
    j: () => walk(1),
    k: () => walk(-1),
    p: () => current()?.querySelector("[data-pull]")?.click(),
    d: switchTheme,
    "/": () => document.querySelector("[type=search]")?.focus(),
    "?": () => { location.href = "/help/"; },
    f: () => document.querySelector("[data-key=f]")?.click(),
    l: () => document.querySelector("[data-key=l]")?.click(),
  };

  document.addEventListener("keydown", (event) => {
    const field = event.target.closest("input, select, textarea");
    if (event.key === "Escape" && field) field.blur();
    if (field || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Enter" && event.target === document.body) {
      document.querySelector("[data-key=enter]")?.click();
      return;
    }
    const action = keys[event.key];
    if (action) { event.preventDefault(); action(); }
  });

  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-theme-switch]")) switchTheme();
    const row = event.target.closest("tr[data-row]");
    if (row) choose(row);
  });

  // The search runs while typing; leaving its field must not run it a second time and swap rows under the user.
  document.addEventListener("change", (event) => {
    if (event.target.type === "search") event.stopPropagation();
  }, true);

  // A sentence's choice takes effect at once; its button serves those without scripts.
  document.addEventListener("change", (event) => {
    const form = event.target.closest("form[data-at-once]:not([hx-get])");
    if (form) form.requestSubmit();
  });

  document.addEventListener("dragover", (event) => {
    if (!event.dataTransfer?.types.includes("Files")) return;
    event.preventDefault();
    document.body.classList.add("is-dropping");
  });
  document.addEventListener("dragleave", (event) => {
    if (!event.relatedTarget) document.body.classList.remove("is-dropping");
  });
  document.addEventListener("drop", (event) => {
    const form = document.querySelector("form[data-drop]");
    document.body.classList.remove("is-dropping");
    if (!form || !event.dataTransfer?.files.length) return;
    event.preventDefault();
    form.querySelector("input[type=file]").files = event.dataTransfer.files;
    form.requestSubmit();
  });

  function makeSortable(root) {
    all("tbody[data-sortable]", root).forEach((body) => {
      Sortable.create(body, {
        handle: "[data-handle]",
        animation: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120,
        onEnd: () => {
          const entry = all("tr[data-entry]", body).map((row) => row.dataset.entry);
          htmx.ajax("POST", body.dataset.sortable, { target: "#entries", swap: "outerHTML", values: { entry } });
        },
      });
    });
  }
  document.addEventListener("DOMContentLoaded", () => makeSortable(document));
  document.addEventListener("htmx:afterSettle", () => {
    if (currentId && !current()) document.getElementById(currentId)?.classList.add("is-current");
  });
  document.addEventListener("htmx:afterSettle", (event) => makeSortable(event.target.parentNode || document));
})();
