// What happens while the user looks elsewhere: said in the page's status line and in the window's title.
const base = document.title;
let ended = "";

export function say(text, level = "info") {
  const line = document.createElement("p");
  line.className = `message message-${level}`;
  line.textContent = text;
  document.getElementById("said").replaceChildren(line);
}

function retitle() {
  const share = document.getElementById("head-work")?.dataset.share;
  document.title = share ? `${share} % · ${base}` : `${ended}${base}`;
}

export function startAnnouncing() {
  retitle();
  document.addEventListener("htmx:oobAfterSwap", (event) => {
    if (event.target.id === "said" && document.visibilityState === "hidden") ended = "Ended · ";
  });
  document.addEventListener("htmx:afterSettle", retitle);
  document.addEventListener("visibilitychange", () => {
    if (document.visibilityState === "visible") ended = "";
    retitle();
  });
}
