// What a title tells to a pointer at rest is told by a press, by focus and by touch as well.
const TIP = "tip";
let shown = null;

function hide() {
  document.getElementById(TIP)?.remove();
  shown = null;
}

function show(part) {
  if (shown === part) return;
  hide();
  const tip = document.createElement("p");
  tip.id = TIP;
  tip.textContent = part.title;
  document.body.append(tip);
  const [box, own] = [part.getBoundingClientRect(), tip.getBoundingClientRect()];
  const below = box.bottom + own.height + 8 < innerHeight;
  tip.style.left = `${Math.max(8, Math.min(box.left, innerWidth - own.width - 8))}px`;
  tip.style.top = `${below ? box.bottom + 4 : Math.max(8, box.top - own.height - 4)}px`;
  shown = part;
}

// What is all in sight needs no tip; nor does a row's own link, whose press opens all there is to tell.
const tells = (part) => part?.title && part.title.trim() !== part.textContent.trim() && !part.matches(".row-link, [data-row] th");

export function startTips() {
  document.addEventListener("focusin", (event) => {
    if (!event.target.matches(":focus-visible")) return;
    const part = event.target.closest("[title]") ?? event.target.querySelector(":scope > [title]");
    if (tells(part)) show(part);
    else hide();
  });
  document.addEventListener("focusout", hide);
  document.addEventListener("click", (event) => {
    const part = event.target.closest("[title]");
    // A link or a button does what it does.
    if (tells(part) && !event.target.closest("a, button, input, select, textarea, summary, label")) show(part);
    else hide();
  });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape") hide(); });
  addEventListener("scroll", hide, { passive: true, capture: true });
}
