// A sample and its source: one is heard at a time, and changing over keeps the place.
import { say } from "./announce.js";

const audio = new Audio();
audio.preload = "none";
let heard = null;

const startOf = (button) => Number(button.dataset.sampleStart);
const buttons = () => [...document.querySelectorAll("[data-sample]")];

function show() {
  const playing = heard && !audio.paused;
  buttons().forEach((button) => button.setAttribute("aria-pressed", String(Boolean(playing) && button === heard)));
  const at = document.querySelector("[data-sample-at]");
  if (at) at.textContent = playing ? `${Math.max(0, audio.currentTime - startOf(heard)).toFixed(1)} s` : "";
}

function hear(button) {
  const place = heard && heard.isConnected && !audio.paused ? audio.currentTime - startOf(heard) : 0;
  heard = button;
  audio.src = button.dataset.sample;
  audio.currentTime = startOf(button) + Math.max(0, place);
  audio.play().catch(() => show());
}

export function startSamples() {
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-sample]");
    if (!button) return;
    if (button === heard && !audio.paused) audio.pause();
    else hear(button);
  });
  audio.addEventListener("timeupdate", () => {
    if (heard && audio.currentTime >= Number(heard.dataset.sampleEnd)) audio.pause();
    if (heard && !heard.isConnected) audio.pause();
    show();
  });
  for (const name of ["play", "pause", "ended"]) audio.addEventListener(name, show);
  audio.addEventListener("error", () => {
    if (heard) say("This cannot be played. Make the sample again.", "error");
  });
}
