// A long list of choices in groups: a search narrows it, and no more can be chosen than there is room for.
function narrow(field) {
  const words = field.querySelector("[data-narrow]").value.toLowerCase().split(/\s+/).filter(Boolean);
  let any = false;
  field.querySelectorAll("[data-group]").forEach((group) => {
    const heading = group.querySelector("summary").textContent.toLowerCase();
    let hits = 0;
    group.querySelectorAll("li").forEach((line) => {
      const text = `${heading} ${line.textContent.toLowerCase()}`;
      line.hidden = !words.every((word) => text.includes(word));
      hits += line.hidden ? 0 : 1;
    });
    group.hidden = !hits;
    if (words.length) group.open = hits > 0;
    any ||= hits > 0;
  });
  field.querySelector("[data-nothing]").hidden = any;
}

function count(field) {
  const boxes = [...field.querySelectorAll("input[type=checkbox]")];
  const chosen = boxes.filter((box) => box.checked).length;
  const full = chosen >= Number(field.dataset.most);
  boxes.forEach((box) => { box.disabled = full && !box.checked; });
  field.querySelector("[data-chosen]").textContent = String(chosen);
}

export function startNarrowing() {
  document.querySelectorAll("[data-narrowed]").forEach((field) => {
    field.querySelector("[data-narrow]").addEventListener("input", () => narrow(field));
    field.addEventListener("change", () => count(field));
    // Enter in the search narrows; it does not start the work.
    field.querySelector("[data-narrow]").addEventListener("keydown", (event) => {
      if (event.key === "Enter") event.preventDefault();
    });
    count(field);
  });
}
