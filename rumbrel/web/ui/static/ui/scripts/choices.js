import { say } from "./announce.js";

// A sentence's choice takes effect at once when it was made with the pointer. Made with the arrow keys, it waits
// for Enter or for the next field, so that nobody is carried away at the first step.
const takeEffect = (select) => {
  const form = select.closest("form[data-at-once]");
  if (!form) return;
  if (form.hasAttribute("hx-get")) form.dispatchEvent(new CustomEvent("chosen"));
  else form.requestSubmit();
};

export function startChoices() {
  document.addEventListener("keydown", (event) => {
    const select = event.target.closest?.("select.choice");
    if (!select) return;
    if (event.key === "Enter" && select.dataset.pending) {
      event.preventDefault();
      delete select.dataset.pending;
      takeEffect(select);
    } else if (event.key.startsWith("Arrow") || event.key.length === 1) select.dataset.keyed = "1";
  });
  document.addEventListener("pointerdown", (event) => {
    const select = event.target.closest?.("select.choice");
    if (select) delete select.dataset.keyed;
  });
  document.addEventListener("change", (event) => {
    const select = event.target.closest?.("select.choice");
    if (!select) return;
    if (select.dataset.keyed) select.dataset.pending = "1";
    else takeEffect(select);
  });
  document.addEventListener("focusout", (event) => {
    const select = event.target.closest?.("select.choice");
    if (!select?.dataset.pending) return;
    delete select.dataset.pending;
    takeEffect(select);
  });
  // What was chosen elsewhere goes into its field, and takes effect.
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-fill]");
    const field = button && document.getElementById(button.dataset.fill);
    if (!field) return;
    field.value = button.dataset.value;
    field.form.requestSubmit();
  });
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-copy]");
    if (!button) return;
    navigator.clipboard.writeText(button.dataset.copy).then(
      () => say("The path is copied."),
      () => say(`This browser does not let the path be copied: ${button.dataset.copy}`, "error"),
    );
  });
  // A second press of the button that starts work starts it once.
  document.addEventListener("submit", (event) => {
    const button = event.target.querySelector("[data-once]");
    if (!button) return;
    if (event.target.dataset.sent) event.preventDefault();
    event.target.dataset.sent = "1";
  });
  window.addEventListener("pageshow", () => {
    document.querySelectorAll("form[data-sent]").forEach((form) => delete form.dataset.sent);
  });
}
