// Voices of one comparison play together, all but one of them silent: changing over keeps the sample.
import { clock } from "./hearing.js";
import { drawFrequencies, drawSpectrum, drawTime, rulerColours } from "./soundruler.js";

const FADE_SECONDS = 0.004;
let engine = null;

class Voices {
  // levels are the factors at which each voice is heard.
  constructor(addresses, seconds, levels = []) {
    this.addresses = addresses;
    this.levels = levels;
    this.seconds = seconds;
    this.context = null;
    this.gains = [];
    this.sources = [];
    this.at = 0;
    this.begun = 0;
    this.heard = 0;
    this.loop = { start: 0, end: seconds };
    this.playing = false;
  }

  async load() {
    if (this.context) return;
    const context = new AudioContext();
    const fetched = this.addresses.map(async (address) => {
      const answer = await fetch(address);
      if (!answer.ok) throw new Error("These sounds are no longer kept. Make the comparison again.");
      return context.decodeAudioData(await answer.arrayBuffer());
    });
    this.buffers = await Promise.all(fetched);
    this.context = context;
  }

  async play() {
    await this.load();
    await this.context.resume();
    this.stop();
    const when = this.context.currentTime + 0.02;
    this.buffers.forEach((buffer, number) => {
      const [source, gain] = [this.context.createBufferSource(), this.context.createGain()];
      Object.assign(source, { buffer, loop: true, loopStart: this.loop.start, loopEnd: this.loop.end });
      gain.gain.value = number === this.heard ? this.level(number) : 0;
      source.connect(gain).connect(this.context.destination);
      source.start(when, this.at);
      this.sources.push(source);
      this.gains.push(gain);
    });
    this.begun = when - this.at;
    this.playing = true;
  }

  stop() {
    if (this.playing) this.at = this.place();
    this.sources.forEach((source) => source.stop());
    this.sources = [];
    this.gains = [];
    this.playing = false;
  }

  place() {
    if (!this.playing) return this.at;
    const passed = Math.max(0, this.context.currentTime - this.begun);
    const { start, end } = this.loop;
    return passed < end ? passed : start + ((passed - start) % (end - start));
  }

  level(number) {
    return this.levels[number] ?? 1;
  }

  hear(number) {
    this.heard = number;
    this.gains.forEach((gain, each) => {
      gain.gain.setTargetAtTime(each === number ? this.level(number) : 0, this.context.currentTime, FADE_SECONDS);
    });
  }

  async move(at) {
    this.at = Math.max(0, Math.min(this.seconds - 0.01, at));
    if (this.at < this.loop.start || this.at >= this.loop.end) this.loop = { start: 0, end: this.seconds };
    if (this.playing) {
      this.playing = false;
      this.sources.forEach((source) => source.stop());
      this.sources = [];
      this.gains = [];
      await this.play();
    }
  }
}

function trouble(text) {
  const line = document.querySelector("[data-compare-trouble]");
  line.textContent = text;
  line.hidden = false;
}

const safely = (promise) => promise.catch((error) => trouble(error.message || "This browser cannot play these sounds."));

// As many pixels as the screen has.
function sized(canvas, place) {
  const [width, height, scale] = [place.clientWidth, place.clientHeight, window.devicePixelRatio || 1];
  canvas.width = Math.round(width * scale);
  canvas.height = Math.round(height * scale);
  const context = canvas.getContext("2d");
  context.scale(scale, scale);
  return [context, width, height];
}

async function drawVoice(section, shown, seconds) {
  const canvas = section.querySelector("canvas");
  const differs = shown === "difference" && section.dataset.voice !== "0";
  const answer = await fetch(`${section.dataset.picture}${differs ? "?difference" : ""}`);
  if (!answer.ok) return;
  const picture = await answer.json();
  picture.levels = Uint8Array.from(atob(picture.spectrum), (sign) => sign.charCodeAt(0));
  const [context, width, height] = sized(canvas, canvas);
  const paint = rulerColours(section);
  context.font = `11px ${getComputedStyle(section.querySelector(".figure") ?? section).fontFamily}`;
  drawSpectrum(context, picture, 0, width, height, paint);
  drawFrequencies(context, picture, 0, width, height, paint);
  canvas.dataset.drawn = `${shown} ${seconds}`;
}

function drawScale(root, seconds) {
  const place = root.querySelector("[data-compare-time]");
  const [context] = sized(place.querySelector("canvas"), place);
  context.font = `11px ${getComputedStyle(root.querySelector(".figure")).fontFamily}`;
  const from = Number(root.dataset.start);
  drawTime(context, { start: from, end: from + seconds }, 0, place.clientWidth, rulerColours(root));
}

function startComparison(root) {
  const seconds = Number(root.dataset.seconds);
  const sections = [...root.querySelectorAll("[data-sound]")];
  engine = new Voices(sections.map((section) => section.dataset.sound), seconds);
  const shown = root.querySelector("[data-compare-shown]");
  const levels = root.querySelector("[data-compare-levels]");
  const setLevels = () => {
    const matched = levels.value === "matched";
    engine.levels = sections.map((section) => (matched ? 10 ** (Number(section.dataset.gainDb) / 20) : 1));
    engine.hear(engine.heard);
  };
  setLevels();
  const draw = () => {
    sections.forEach((section) => drawVoice(section, shown.value, seconds));
    drawScale(root, seconds);
  };
  const button = document.querySelector("[data-compare-play]");
  const show = () => {
    button.firstChild.textContent = engine.playing ? "Pause " : "Play ";
    sections.forEach((section, number) => {
      const pressed = number === engine.heard;
      section.classList.toggle("is-heard", pressed);
      section.querySelector("[data-hear]").setAttribute("aria-pressed", String(pressed));
    });
    root.querySelector("[data-heard-voice]").textContent = sections[engine.heard].dataset.label;
  };
  const toggle = () => safely((engine.playing ? Promise.resolve(engine.stop()) : engine.play()).then(show));
  const hear = (number) => {
    if (number >= sections.length) return;
    engine.hear(number);
    show();
  };
  const follow = () => {
    const share = engine.place() / seconds;
    root.querySelectorAll("[data-voice-at]").forEach((line) => { line.style.left = `${100 * share}%`; });
    const at = Math.round(engine.place());
    const slider = root.querySelector("[data-compare-time]");
    if (slider.getAttribute("aria-valuenow") !== String(at) || !slider.hasAttribute("aria-valuetext")) {
      slider.setAttribute("aria-valuenow", String(at));
      slider.setAttribute("aria-valuetext", `${clock(at)} of ${clock(seconds)}`);
    }
    root.dataset.at = engine.place().toFixed(2);
    root.dataset.playing = String(engine.playing);
    requestAnimationFrame(follow);
  };
  root.addEventListener("click", (event) => {
    const chosen = event.target.closest("[data-hear]");
    if (chosen) hear(sections.indexOf(chosen.closest("[data-voice]")));
    const picture = event.target.closest(".voice-picture");
    if (picture) {
      const box = picture.getBoundingClientRect();
      safely(engine.move((seconds * (event.clientX - box.left)) / box.width));
    }
  });
  button.addEventListener("click", toggle);
  shown.addEventListener("change", draw);
  levels.addEventListener("change", setLevels);
  root.querySelector("[data-compare-loop]").addEventListener("change", (event) => {
    const span = Number(event.target.value);
    const at = engine.place();
    engine.loop = span ? { start: Math.min(at, seconds - 0.1), end: Math.min(seconds, at + span) } : { start: 0, end: seconds };
    safely(engine.move(engine.loop.start || at));
  });
  const keys = (event) => {
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === " ") {
      // A button or a link keeps its own space.
      if (event.target.closest("button, summary, a")) return;
      toggle();
    } else if (/^[1-7]$/.test(event.key)) hear(Number(event.key) - 1);
    else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
      safely(engine.move(engine.place() + (event.key === "ArrowLeft" ? -1 : 1)));
    } else return;
    event.preventDefault();
  };
  document.addEventListener("keydown", keys);
  window.addEventListener("resize", draw);
  new MutationObserver(draw).observe(document.documentElement, { attributeFilter: ["data-theme"] });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", draw);
  draw();
  show();
  follow();
}

function startBlind(form) {
  engine = new Voices([form.dataset.first, form.dataset.second], Infinity);
  const hear = async (which) => {
    const number = which === "second" ? 1 : 0;
    await engine.load();
    engine.seconds = engine.buffers[0].duration;
    if (!engine.playing) {
      engine.heard = number;
      engine.loop = { start: 0, end: engine.seconds };
      await engine.play();
    } else engine.hear(number);
    form.querySelectorAll("[data-blind-hear]").forEach((button) => {
      button.setAttribute("aria-pressed", String(button.dataset.blindHear === which));
    });
    // What plays is what is answered with.
    const answer = form.querySelector("#answer");
    answer.value = which;
    answer.disabled = false;
    form.querySelector("[data-blind-answer]").textContent = `Answer: the ${which}`;
  };
  form.addEventListener("click", (event) => {
    const button = event.target.closest("[data-blind-hear]");
    if (button) safely(hear(button.dataset.blindHear));
  });
  document.addEventListener("keydown", (event) => {
    if (event.target.closest("input, select, textarea")) return;
    if (event.key === "1") safely(hear("first"));
    if (event.key === "2") safely(hear("second"));
  });
}

export function startComparing() {
  const root = document.querySelector("[data-compare]");
  if (root) startComparison(root);
  const form = document.querySelector("[data-blind]");
  if (form) startBlind(form);
}
