// Listening: one sound at a time, from any point, whichever screen names the track. The ruler is the player.
import { say } from "./announce.js";
import { currentRow } from "./rows.js";
import { drawRuler, loadPicture } from "./soundruler.js";

const audio = new Audio();
audio.preload = "none";
const now = { track: "", title: "", mark: null, level: null };
const unplayable = new Set();

export const clock = (seconds, thousandths = false) => {
  const whole = Math.floor(seconds);
  const text = `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
  return thousandths ? `${text}.${String(Math.floor((seconds % 1) * 1000)).padStart(3, "0")}` : text;
};
const pageOf = (track) => document.body.dataset.trackAddress.replace("/0/", `/${track}/`);
// Sounds that are no tracks say themselves where they are.
const ownAddresses = new Map();
const soundOf = (track) => ownAddresses.get(track) ?? `${pageOf(track)}sound/${unplayable.has(track) ? "?decoded" : ""}`;
const panels = () => [...document.querySelectorAll("[data-hearing]")];
// What the deep look told of a track: the data of its fragment.
const lookOf = (track) => document.querySelector(`[data-look="${track}"]`)?.dataset ?? {};
const panelOf = (track) => panels().find((panel) => panel.dataset.track === track);

// What each panel shows: from and to in seconds, the marked stretch, and where listening would begin.
const states = new WeakMap();
export function stateOf(panel) {
  if (!states.has(panel)) {
    const end = Number(panel.dataset.seconds);
    states.set(panel, { start: 0, end, whole: end, at: 0, mark: null, picture: null });
  }
  return states.get(panel);
}

function show(panel) {
  const state = stateOf(panel);
  const ruler = panel.querySelector("[data-ruler]");
  const share = (seconds) => (100 * (seconds - state.start)) / (state.end - state.start);
  const at = panel.querySelector("[data-at]");
  at.style.left = `${Math.max(0, Math.min(100, share(state.at)))}%`;
  at.hidden = state.at < state.start || state.at > state.end;
  at.classList.toggle("is-late", share(state.at) > 88);
  at.firstElementChild.textContent = clock(state.at, true);
  at.firstElementChild.hidden = state.at === 0;
  panel.querySelector("[data-from]").textContent = clock(state.at, true);
  ruler.setAttribute("aria-valuenow", Math.round(state.at));
  ruler.setAttribute("aria-valuetext", `${clock(state.at)} of ${clock(state.whole)}`);
  const mark = panel.querySelector("[data-mark]");
  mark.hidden = !state.mark;
  if (state.mark) {
    const [from, to] = [Math.max(0, share(state.mark[0])), Math.min(100, share(state.mark[1]))];
    mark.style.left = `${from}%`;
    mark.style.width = `${Math.max(0, to - from)}%`;
  }
}

function showAll() {
  const playing = !audio.paused && now.track;
  const panel = panelOf(now.track);
  if (panel) {
    stateOf(panel).at = audio.currentTime;
    show(panel);
  }
  document.querySelectorAll("[data-play]").forEach((button) => {
    const track = (button.closest("[data-hearing]") || panels()[0])?.dataset.track;
    button.firstChild.textContent = playing && track === now.track ? "Pause " : "Play ";
  });
  const head = document.getElementById("heard");
  head.hidden = !now.track;
  head.querySelector("[data-hush]").textContent = playing ? "Pause" : "Play on";
  const link = head.querySelector("[data-heard]");
  link.textContent = now.title;
  link.href = !now.track ? "#" : ownAddresses.has(now.track) ? location.href : pageOf(now.track);
  head.querySelector("[data-heard-at]").textContent = clock(audio.currentTime);
  document.querySelectorAll("tr[data-track]").forEach((row) => row.classList.toggle("is-heard", Boolean(playing) && row.dataset.track === now.track));
}

function tell(text) {
  const panel = panelOf(now.track);
  const line = panel?.querySelector("[data-trouble]");
  if (!line) {
    // No ruler of this track is on the page.
    if (text) say(`${now.title}: ${text}`, "error");
    return;
  }
  line.textContent = text;
  line.hidden = !text;
}

function load(track, title, at) {
  now.track = track;
  now.title = title;
  audio.src = soundOf(track);
  audio.currentTime = at;
  tell("");
}

// Every sound at one loudness where that was asked for; none is raised, so that nothing can clip.
function settleLevel() {
  const panel = panelOf(now.track);
  const wanted = panel?.querySelector("[data-level]")?.value;
  const lufs = Number(lookOf(now.track).lufs ?? NaN);
  audio.volume = wanted && !Number.isNaN(lufs) ? Math.min(1, 10 ** ((Number(wanted) - lufs) / 20)) : 1;
}

function play(track, title, at) {
  const own = document.querySelector(`[data-track="${track}"][data-sound]`)?.dataset.sound;
  if (own) ownAddresses.set(track, own);
  if (now.track !== track) load(track, title, at);
  else if (at !== undefined) audio.currentTime = at;
  const panel = panelOf(track);
  now.mark = panel ? stateOf(panel).mark : null;
  settleLevel();
  audio.play().catch(() => showAll());
}

// What space is about: the track whose ruler has the focus, else the row the user is at, else the track of the page.
function namedHere() {
  const row = currentRow();
  return document.activeElement?.closest("[data-hearing]") || (row?.dataset.track ? row : null) || panels()[0];
}

export const canBeHeard = () => Boolean(namedHere() || now.track);

export function playOrPause() {
  const named = namedHere();
  if (!named && !now.track) return;
  const track = named?.dataset.track ?? now.track;
  if (!audio.paused && track === now.track) audio.pause();
  else {
    const panel = panelOf(track);
    const at = track === now.track ? undefined : panel ? stateOf(panel).at : 0;
    play(track, named?.dataset.title ?? now.title, at);
  }
}

function seek(panel, seconds) {
  const state = stateOf(panel);
  state.at = Math.max(0, Math.min(state.whole - 0.001, seconds));
  if (now.track === panel.dataset.track) audio.currentTime = state.at;
  show(panel);
}

async function look(panel, start, end) {
  const state = stateOf(panel);
  const least = Math.min(state.whole, 0.25);
  const length = Math.max(least, Math.min(state.whole, end - start));
  state.start = Math.max(0, Math.min(state.whole - length, start));
  state.end = state.start + length;
  const view = panel.querySelector("[data-view]");
  if (view) view.value = length >= state.whole - 0.001 ? "whole" : state.mark && state.mark[0] === state.start ? "mark" : "near";
  show(panel);
  state.picture = "ready" in lookOf(panel.dataset.track) ? await loadPicture(panel, state) : null;
  draw(panel);
}

const draw = (panel) => drawRuler(panel, stateOf(panel), lookOf(panel.dataset.track));

const keys = {
  ArrowLeft: (panel, state) => seek(panel, state.at - 1),
  ArrowRight: (panel, state) => seek(panel, state.at + 1),
  PageUp: (panel, state) => seek(panel, state.at + 10),
  PageDown: (panel, state) => seek(panel, state.at - 10),
  Home: (panel) => seek(panel, 0),
  End: (panel, state) => seek(panel, state.whole),
};

// Keys of the whole page that concern the panel there is.
export const hearingKeys = {
  ",": (panel, state) => seek(panel, state.at - 5),
  ".": (panel, state) => seek(panel, state.at + 5),
  "+": (panel, state) => look(panel, state.at - (state.end - state.start) / 4, state.at + (state.end - state.start) / 4),
  "-": (panel, state) => look(panel, state.start - (state.end - state.start) / 2, state.end + (state.end - state.start) / 2),
  0: (panel, state) => look(panel, 0, state.whole),
  m: (panel, state) => {
    // First press: from here. Second: to here. Third: nothing is marked.
    if (state.mark && state.mark[1] < state.whole) state.mark = null;
    else if (state.mark && state.at > state.mark[0]) state.mark = [state.mark[0], state.at];
    else state.mark = [state.at, state.whole];
    if (now.track === panel.dataset.track) now.mark = state.mark;
    show(panel);
  },
};
export const panelHere = () => document.activeElement?.closest("[data-hearing]") || panels()[0];

function startPanel(panel) {
  if (panel.dataset.started) return;
  panel.dataset.started = "1";
  const state = stateOf(panel);
  if (panel.dataset.track === now.track) state.at = audio.currentTime;
  const ruler = panel.querySelector("[data-ruler]");
  const secondsAt = (event) => {
    const box = ruler.getBoundingClientRect();
    return state.start + (Math.max(0, Math.min(box.width, event.clientX - box.left)) / box.width) * (state.end - state.start);
  };
  let pressed = null;
  ruler.addEventListener("pointerdown", (event) => {
    if (event.button) return;
    ruler.setPointerCapture(event.pointerId);
    pressed = { x: event.clientX, seconds: secondsAt(event) };
  });
  ruler.addEventListener("pointermove", (event) => {
    if (!pressed || Math.abs(event.clientX - pressed.x) < 5) return;
    const other = secondsAt(event);
    state.mark = [Math.min(pressed.seconds, other), Math.max(pressed.seconds, other)];
    show(panel);
  });
  ruler.addEventListener("pointerup", (event) => {
    if (!pressed) return;
    const dragged = Math.abs(event.clientX - pressed.x) >= 5;
    if (!dragged && state.mark && (pressed.seconds < state.mark[0] || pressed.seconds > state.mark[1])) state.mark = null;
    seek(panel, dragged ? state.mark[0] : pressed.seconds);
    if (now.track === panel.dataset.track) now.mark = state.mark;
    pressed = null;
  });
  ruler.addEventListener("keydown", (event) => {
    if (!keys[event.key]) return;
    event.preventDefault();
    keys[event.key](panel, state);
  });
  panel.querySelector("[data-level]")?.addEventListener("change", settleLevel);
  panel.querySelector("[data-view]")?.addEventListener("change", (event) => {
    if (event.target.value === "mark" && state.mark) look(panel, ...state.mark);
    else look(panel, 0, state.whole);
  });
  new ResizeObserver(() => draw(panel)).observe(ruler);
  look(panel, 0, state.whole);
}

function startPanels() {
  panels().forEach(startPanel);
  showAll();
}

export function startHearing() {
  const repeat = () => {
    if (now.mark && audio.currentTime >= now.mark[1]) audio.currentTime = now.mark[0];
  };
  // A window that is not seen draws no frames, but what is marked repeats there too.
  audio.addEventListener("timeupdate", repeat);
  const follow = () => {
    repeat();
    showAll();
    if (!audio.paused) requestAnimationFrame(follow);
  };
  audio.addEventListener("play", follow);
  ["pause", "ended", "seeked", "loadedmetadata"].forEach((name) => audio.addEventListener(name, showAll));
  audio.addEventListener("error", async () => {
    if (!now.track || !audio.getAttribute("src")) return;
    const at = audio.currentTime;
    if (!unplayable.has(now.track)) {
      // This browser does not play the file as it is: hear it decoded.
      unplayable.add(now.track);
      const { track, title } = now;
      load(track, title, at);
      audio.play().catch(() => showAll());
      return;
    }
    const answer = await fetch(soundOf(now.track), { headers: { Range: "bytes=0-1" } });
    tell(answer.status === 409 ? await answer.text() : "This browser cannot play the sound. Try again, or download the file.");
    showAll();
  });
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-hush]")) {
      if (audio.paused) audio.play().catch(() => showAll());
      else audio.pause();
    }
    const line = event.target.closest("[data-hear-row]")?.closest("[data-track]");
    if (line) {
      if (!audio.paused && line.dataset.track === now.track) audio.pause();
      else play(line.dataset.track, line.dataset.title, line.dataset.track === now.track ? undefined : 0);
    }
    const button = event.target.closest("[data-play]");
    if (!button) return;
    const panel = button.closest("[data-hearing]") || panels()[0];
    if (!panel) return;
    if (!audio.paused && panel.dataset.track === now.track) audio.pause();
    else play(panel.dataset.track, panel.dataset.title, panel.dataset.track === now.track ? undefined : stateOf(panel).at);
  });
  document.addEventListener("htmx:afterSettle", (event) => {
    startPanels();
    // A picture that has been made meanwhile.
    const ready = event.detail.elt.closest?.("[data-look][data-ready]");
    const panel = ready && panelOf(ready.dataset.look);
    if (panel && !stateOf(panel).picture) look(panel, stateOf(panel).start, stateOf(panel).end);
  });
  const redraw = () => panels().forEach(draw);
  new MutationObserver(redraw).observe(document.documentElement, { attributeFilter: ["data-theme"] });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", redraw);
  startPanels();
}
