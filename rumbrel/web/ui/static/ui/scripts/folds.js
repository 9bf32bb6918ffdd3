// Folds that were open are open again after back, forward and reload.
const KEY = `folds ${location.pathname}`;
const folds = () => [...document.querySelectorAll("main details")].filter((fold) => !isMenu(fold));
// A menu lies over the page, and goes when something of it was chosen.
const isMenu = (fold) => fold.matches(".more, .order-menu");
const nameOf = (fold) => fold.id || fold.querySelector("summary")?.textContent.trim().replace(/[\d,.]+/g, "#") || "";

export function startFolds() {
  const [arrival] = performance.getEntriesByType("navigation");
  const again = arrival && ["reload", "back_forward"].includes(arrival.type);
  const open = new Set(again ? JSON.parse(sessionStorage.getItem(KEY) ?? "[]") : []);
  const openAll = () => folds().filter((fold) => open.has(nameOf(fold))).forEach((fold) => { fold.open = true; });
  openAll();
  document.addEventListener("toggle", (event) => {
    if (event.target.tagName !== "DETAILS" || isMenu(event.target) || !event.target.isConnected) return;
    if (event.target.open) open.add(nameOf(event.target));
    else open.delete(nameOf(event.target));
    sessionStorage.setItem(KEY, JSON.stringify([...open]));
  }, true);
  // A fold that is replaced while it is open stays so, and is never seen closed.
  document.addEventListener("htmx:afterSwap", openAll);
}
