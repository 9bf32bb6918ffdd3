// What a press opens is in view: beside the rows where there is room for it, over them where there is not. Closed, one is
// back where one was. The address names what is open, so that reload, back and a copied link show it again.
const NARROW = matchMedia("(max-width: 900px)");

const isOver = (drawer) => drawer.dataset.drawer === "always" || NARROW.matches;
const named = (opener) => history.replaceState(history.state, "", opener ? `#${opener.id}` : location.pathname + location.search);

function closeButton() {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "plain drawer-close";
  button.dataset.drawerClose = "";
  button.innerHTML = "Close <kbd data-always>Esc</kbd>";
  return button;
}

function opened(drawer, opener) {
  drawer.querySelector("[data-drawer-close]")?.remove();
  drawer.prepend(closeButton());
  drawer.dataset.opener = opener.id;
  drawer.scrollTop = 0;
  named(opener);
  // What lies under it cannot keep the focus.
  if (NARROW.matches) drawer.firstElementChild.focus();
}

export function closeDrawer() {
  const drawer = document.querySelector("[data-drawer][data-over]");
  if (!drawer) return false;
  const opener = document.getElementById(drawer.dataset.opener);
  drawer.removeAttribute("data-over");
  drawer.replaceChildren();
  named(null);
  opener?.focus({ preventScroll: true });
  drawer.dispatchEvent(new CustomEvent("drawer-closed", { bubbles: true }));
  return true;
}

export function startDrawers() {
  // Before it is filled, so that nothing moves from one place to the other in sight.
  document.addEventListener("htmx:beforeSwap", (event) => {
    const drawer = event.detail.target;
    if (drawer.matches("[data-drawer]") && event.detail.requestConfig.elt.matches("[data-opens]")) drawer.toggleAttribute("data-over", isOver(drawer));
  });
  document.addEventListener("htmx:afterSwap", (event) => {
    const [drawer, opener] = [event.detail.target, event.detail.requestConfig?.elt];
    if (drawer?.matches("[data-drawer]") && opener?.matches("[data-opens]")) opened(drawer, opener);
  });
  document.addEventListener("click", (event) => { if (event.target.closest("[data-drawer-close]")) closeDrawer(); });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && !event.defaultPrevented && !event.target.closest("input, select, textarea")) closeDrawer();
  });
  const opener = location.hash.length > 1 && document.getElementById(location.hash.slice(1));
  if (opener && opener.matches("[data-opens]")) opener.click();
}
