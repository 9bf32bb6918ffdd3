// On a narrow page the screens are folded behind one button; without scripts they all stand there.
export function startNavigation() {
  const head = document.querySelector(".head");
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-nav-switch]");
    if (button) unfold(head, button, !head.hasAttribute("data-unfolded"));
  });
  head.addEventListener("keydown", (event) => {
    const button = head.querySelector("[data-nav-switch]");
    if (event.key !== "Escape" || !head.hasAttribute("data-unfolded")) return;
    unfold(head, button, false);
    button.focus();
  });
}

function unfold(head, button, open) {
  head.toggleAttribute("data-unfolded", open);
  button.setAttribute("aria-expanded", String(open));
}
