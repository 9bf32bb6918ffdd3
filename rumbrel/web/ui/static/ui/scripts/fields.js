// What was typed and refused stands in its field again, marked, and tied to the sentence that says why.
const KEY = "typed";
const FIELDS = "input:not([type=hidden]):not([type=password]):not([type=file]):not([type=submit]), select, textarea";
const isTick = (field) => field.type === "checkbox" || field.type === "radio";
const pathOf = (form) => new URL(form.action, location).pathname;

function keep(form) {
  const values = [...form.querySelectorAll(FIELDS)].filter((field) => field.name)
    .map((field) => [field.name, field.value, isTick(field) ? field.checked : null]);
  sessionStorage.setItem(KEY, JSON.stringify({ path: pathOf(form), values }));
}

// Ties a field to the sentence that refuses it.
export function refuse(field, sentence) {
  sentence.id ||= "refusal";
  field.setAttribute("aria-invalid", "true");
  field.setAttribute("aria-describedby", sentence.id);
}

function giveBack() {
  const kept = JSON.parse(sessionStorage.getItem(KEY) ?? "null");
  sessionStorage.removeItem(KEY);
  const sentence = document.querySelector(".messages .message-error");
  const form = kept && sentence && [...document.forms].find((each) => pathOf(each) === kept.path && each.querySelector(FIELDS));
  if (!form) return;
  const changed = [];
  for (const [name, value, ticked] of kept.values) {
    const field = [...form.querySelectorAll(FIELDS)].find((each) => each.name === name && (ticked === null || each.value === value));
    if (!field) continue;
    if (ticked !== null) field.checked = ticked;
    else if (field.value !== value) {
      field.value = value;
      changed.push(field);
    }
  }
  form.closest("details")?.setAttribute("open", "");
  changed.forEach((field) => refuse(field, sentence));
  changed[0]?.focus();
}

export function startFields() {
  document.addEventListener("submit", (event) => {
    if (event.target.method === "post" && !event.target.hasAttribute("hx-post")) keep(event.target);
  });
  giveBack();
  document.addEventListener("input", (event) => event.target.removeAttribute("aria-invalid"));
}
