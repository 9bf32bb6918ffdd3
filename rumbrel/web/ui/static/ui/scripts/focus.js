// A form that leads to a page gives the focus back to the button that was pressed, or to what took its position.
const KEY = "focus";

export function startFocus() {
  document.addEventListener("submit", (event) => {
    const button = event.submitter || document.activeElement;
    if (!event.target.hasAttribute("hx-post") && button?.id) sessionStorage.setItem(KEY, button.id);
  });
  const id = sessionStorage.getItem(KEY);
  sessionStorage.removeItem(KEY);
  if (id && document.activeElement === document.body) document.getElementById(id)?.focus({ preventScroll: true });
}
