// The focus stays where it was, by what a thing is: after a part of the page is replaced, the same thing has it again, or
// what took its place. A form that leads to a page gives it back to the button that was pressed.
const KEY = "focus";
const FOCUSABLE = "a[href], button:not([disabled]), input:not([type=hidden]):not([disabled]), select:not([disabled]), textarea:not([disabled]), summary, [tabindex]";

const within = (part) => [...part.querySelectorAll(FOCUSABLE)].filter((each) => each.checkVisibility({ visibilityProperty: true }));
const sameness = (part) => [part.tagName, part.name, part.type === "text" ? "" : part.value, part.dataset.open, part.getAttribute("aria-label") ?? part.textContent.trim()].join("\n");

// Its identity, and that of each part that holds it: which one of what can have the focus there it is.
function identify(part) {
  const holders = [];
  for (let each = part.parentElement; each && each !== document.body; each = each.parentElement) {
    if (each.id) holders.push({ id: each.id, place: within(each).indexOf(part) });
  }
  return { part, id: part.id, same: sameness(part), holders, top: part.getBoundingClientRect().top };
}

function giveBack({ id, same, holders }) {
  const itself = id ? document.getElementById(id) : null;
  if (itself?.checkVisibility() && !itself.disabled) return itself;
  for (const { id: holderId, place } of holders) {
    const holder = document.getElementById(holderId);
    if (!holder?.checkVisibility()) continue;
    const there = within(holder);
    // Of what was drawn anew, the next thing to do is to take it back; no field that keys would be typed into.
    const next = there.slice(Math.min(place, there.length - 1)).find((each) => !each.matches("input, textarea, select"));
    const found = there.find((each) => sameness(each) === same) ?? holder.querySelector("[data-key=u]") ?? next;
    if (found) return found;
    holder.tabIndex = -1;
    return holder;
  }
  return document.getElementById("work");
}

// The same thing stays where it was on the screen, whatever came or went above it; another one comes into sight.
function keepStill(part, { id, top }) {
  const box = part.getBoundingClientRect();
  const inSight = box.top >= 0 && box.bottom <= innerHeight;
  if (part.id && part.id === id) scrollBy({ top: box.top - top, behavior: "instant" });
  else if (!inSight) part.scrollIntoView({ block: "nearest" });
}

// A part stays where it is on the screen while something above it changes.
export function still(part, change) {
  const top = part?.getBoundingClientRect().top;
  change();
  if (part) scrollBy({ top: part.getBoundingClientRect().top - top, behavior: "instant" });
}

function keepFocus() {
  let [asked, held] = [null, null];
  const here = () => (document.activeElement && document.activeElement !== document.body ? identify(document.activeElement) : null);
  document.addEventListener("htmx:beforeRequest", (event) => {
    if (here()) asked = { ...here(), by: event.detail.elt };
  });
  // What has the focus when a press is answered, not when it is made: one may be elsewhere by then. A button that can be
  // pressed once only has lost it meanwhile.
  document.addEventListener("htmx:beforeSwap", (event) => {
    const lost = asked && asked.by === event.detail.requestConfig?.elt && (asked.part.disabled || !asked.part.isConnected);
    held = here() ?? (lost ? asked : null);
  });
  document.addEventListener("htmx:afterSettle", () => {
    if (!held) return;
    if (!document.activeElement || document.activeElement === document.body) giveBack(held).focus({ preventScroll: true });
    keepStill(document.activeElement, held);
    held = null;
  });
}

export function startFocus() {
  keepFocus();
  document.addEventListener("submit", (event) => {
    const button = event.submitter || document.activeElement;
    if (!event.target.hasAttribute("hx-post") && button?.id) sessionStorage.setItem(KEY, button.id);
  });
  const id = sessionStorage.getItem(KEY);
  sessionStorage.removeItem(KEY);
  if (id && document.activeElement === document.body) document.getElementById(id)?.focus({ preventScroll: true });
}
