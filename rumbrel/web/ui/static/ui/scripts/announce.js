// What happens while the user looks elsewhere: said in the page's status line and in the window's title.
/* global htmx */
const WATCHED = "watched";
const MOST_ENDS = 4;
const base = document.title;
let ended = "";

export function say(text, level = "info") {
  const line = document.createElement("p");
  line.className = `message message-${level}`;
  line.textContent = text;
  document.getElementById("told").replaceChildren(line);
}

// The newest ends stay beside each other, and none takes the place of what the page itself said.
function noteEnds(place) {
  while (place.childElementCount > MOST_ENDS) place.firstElementChild.remove();
  if (document.visibilityState !== "hidden") return;
  ended = "Ended · ";
  if (window.Notification?.permission === "granted") new Notification("Rumbrel", { body: place.lastElementChild?.textContent });
}

// Asked for by a press alone; where the browser has been asked before, the button says how it stands.
function showWish(button) {
  const said = { granted: "You will be told when it ends", denied: "This browser blocks notifications" };
  const text = window.Notification && said[Notification.permission];
  button.hidden = !window.Notification;
  if (text) button.textContent = text;
  button.disabled = Boolean(text);
}

function retitle() {
  const share = document.getElementById("head-work")?.dataset.share;
  document.title = share ? `${share} % · ${base}` : `${ended}${base}`;
}

// Work has begun that this page did not know of: its head watches it, or says that it has ended already.
export function watchWork(job) {
  const head = document.getElementById("head-work");
  const watched = [head?.dataset.watched, job].filter(Boolean).join(",");
  if (head) htmx.ajax("GET", `${head.dataset.address}?watched=${watched}`, { target: "#head-work", swap: "outerHTML" });
}

// What the last page saw at work may have ended on the way to this one.
function askForTheLastPages() {
  const watched = sessionStorage.getItem(WATCHED);
  const head = document.getElementById("head-work");
  if (watched && head) htmx.ajax("GET", `${head.dataset.address}?watched=${watched}`, { target: "#head-work", swap: "outerHTML" });
  addEventListener("pagehide", () => {
    sessionStorage.setItem(WATCHED, document.getElementById("head-work")?.dataset.watched ?? "");
  });
}

// A press that came to nothing says so, until one comes to something: htmx leaves the page as it is where the answer is an
// error, or none comes.
function asked(config) {
  return config.verb !== "get" || ["click", "submit", "change", "input", "keydown"].includes(config.triggeringEvent?.type);
}

function watchErrors() {
  const silent = "Rumbrel does not answer. Check that it is running; this page then reconnects.";
  const told = document.getElementById("told");
  let failed = "";
  document.addEventListener("htmx:responseError", (event) => {
    if (!asked(event.detail.requestConfig)) return;
    const page = new DOMParser().parseFromString(event.detail.xhr.responseText, "text/html");
    failed = page.querySelector("main p")?.textContent || "That did not work. Load the page again, then repeat it.";
    say(failed, "error");
  });
  document.addEventListener("htmx:sendError", () => {
    if (told.textContent !== silent) say(silent, "error");
  });
  document.addEventListener("htmx:beforeSwap", (event) => {
    const answered = event.detail.xhr.status < 400 && asked(event.detail.requestConfig);
    if (told.textContent === silent || (answered && told.textContent === failed)) told.replaceChildren();
  });
}

// What a press came to, for who does not see it: the texts that it changed, in the page's order, in one polite line.
// What changes by itself, as a scan goes on, is not said.
const SECONDS_FOR_AN_ANSWER = 4;
const textOf = (part) => part.textContent.replace(/\s+/g, " ").trim();
const texts = () => new Map([...document.querySelectorAll("[data-spoken]")].map((part) => [part.dataset.spoken, textOf(part)]));

// For what a script changes by itself.
export function speak(text) {
  document.getElementById("spoken").textContent = text;
}

function speakResults() {
  let [before, askedAt] = [texts(), 0];
  document.addEventListener("htmx:beforeRequest", (event) => {
    if (asked(event.detail.requestConfig)) askedAt = performance.now();
  });
  document.addEventListener("htmx:afterSettle", () => {
    const now = texts();
    const changed = [...now].filter(([name, text]) => before.get(name) !== text).map(([, text]) => text);
    if (before.has("change") && !now.has("change")) changed.push(`Undone: ${before.get("change")}`);
    before = now;
    if (changed.length && performance.now() - askedAt < 1000 * SECONDS_FOR_AN_ANSWER) {
      speak(changed.join(". "));
    }
  });
}

export function startAnnouncing() {
  watchErrors();
  speakResults();
  const wishes = () => document.querySelectorAll("[data-notify]").forEach(showWish);
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-notify]")) Notification.requestPermission().then(wishes);
  });
  document.addEventListener("htmx:afterSettle", wishes);
  wishes();
  retitle();
  askForTheLastPages();
  document.addEventListener("htmx:oobAfterSwap", (event) => {
    if (event.detail.target.id === "ended") noteEnds(event.detail.target);
  });
  document.addEventListener("htmx:afterSettle", retitle);
  document.addEventListener("visibilitychange", () => {
    if (document.visibilityState === "visible") ended = "";
    retitle();
  });
}
