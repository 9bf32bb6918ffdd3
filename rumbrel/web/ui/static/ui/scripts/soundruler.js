// The picture of a sound on its ruler: loudness, envelope, spectrum and time, drawn for the stretch that is looked at.
const STEPS_SECONDS = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200];
const QUIETEST_LUFS = -50;
const [FAINTEST_DB, LOUDEST_DB] = [-100, -20];
const TICKS_HZ = [100, 200, 500, 1000, 2000, 5000, 10000, 20000, 40000, 80000];

export async function loadPicture(panel, state) {
  const columns = Math.max(2, Math.min(2400, Math.round(panel.querySelector("[data-ruler]").clientWidth)));
  const answer = await fetch(`${panel.dataset.picture}?start=${state.start}&end=${state.end}&columns=${columns}`);
  if (!answer.ok) return null;
  const found = await answer.json();
  found.levels = Uint8Array.from(atob(found.spectrum), (sign) => sign.charCodeAt(0));
  return found;
}

// Colours by their role: the theme's, as the browser works them out.
export function rulerColours(element) {
  const probe = document.createElement("span");
  element.append(probe);
  const found = {};
  for (const role of ["accent", "ink", "second", "rule", "bar", "ground", "refusal"]) {
    probe.style.color = `var(--color-${role})`;
    found[role] = getComputedStyle(probe).color;
  }
  probe.remove();
  return found;
}

const numbers = (colour) => (colour.match(/[\d.]+/g) ?? [0, 0, 0]).slice(0, 3).map(Number);

// How far up a frequency lies, from 0 to 1: bands are as wide as their edges say.
export function heightOf(hertz, picture) {
  const edges = picture.edges_hz;
  const above = edges.findIndex((edge) => edge > hertz);
  if (above < 1) return above === 0 ? 0 : 1;
  return (above - 1 + (hertz - edges[above - 1]) / (edges[above] - edges[above - 1])) / picture.bands;
}

// Words over a picture stand on the page's ground: nobody could read them otherwise.
function plated(context, text, x, y, paint, colour) {
  context.fillStyle = paint.ground;
  context.fillRect(x - 2, y - 9, context.measureText(text).width + 4, 12);
  context.fillStyle = colour;
  context.fillText(text, x, y);
}

export function drawFrequencies(context, picture, top, width, height, paint) {
  let last = Infinity;
  for (const hertz of TICKS_HZ) {
    if (hertz >= picture.top_hz) break;
    const y = top + height * (1 - heightOf(hertz, picture));
    context.strokeStyle = paint.second;
    context.beginPath();
    context.moveTo(0, Math.round(y) + 0.5);
    context.lineTo(6, Math.round(y) + 0.5);
    context.stroke();
    if (last - y < 14 || y < top + 10) continue;
    plated(context, hertz < 1000 ? `${hertz} Hz` : `${hertz / 1000} kHz`, 9, y + 4, paint, paint.second);
    last = y;
  }
}

// What the shades mean, from the faintest to the loudest.
function drawKey(context, right, y, paint) {
  const [wide, tall] = [96, 8];
  const [ground, ink] = [numbers(paint.ground), numbers(paint.accent)];
  const ends = [`${FAINTEST_DB} dB`.replace("-", "−"), `${LOUDEST_DB} dB`.replace("-", "−")];
  const rooms = ends.map((text) => context.measureText(text).width);
  const left = right - rooms[1] - 6 - wide;
  for (let step = 0; step < wide; step += 1) {
    const mixed = ground.map((part, at) => Math.round(part + (step / (wide - 1)) * (ink[at] - part)));
    context.fillStyle = `rgb(${mixed.join(",")})`;
    context.fillRect(left + step, y - tall, 1, tall);
  }
  context.strokeStyle = paint.rule;
  context.strokeRect(left + 0.5, y - tall + 0.5, wide - 1, tall - 1);
  context.fillStyle = paint.second;
  context.fillText(ends[0], left - rooms[0] - 6, y);
  context.fillText(ends[1], left + wide + 6, y);
}

export function drawSpectrum(context, picture, top, width, height, paint) {
  const columns = picture.levels.length / picture.bands;
  if (!columns) return;
  const [ground, ink] = [numbers(paint.ground), numbers(paint.accent)];
  const image = new ImageData(columns, picture.bands);
  for (let column = 0; column < columns; column += 1) {
    for (let band = 0; band < picture.bands; band += 1) {
      const db = picture.levels[column * picture.bands + band] + picture.floor;
      const share = Math.max(0, Math.min(1, (db - FAINTEST_DB) / (LOUDEST_DB - FAINTEST_DB)));
      const at = 4 * ((picture.bands - 1 - band) * columns + column);
      for (let part = 0; part < 3; part += 1) image.data[at + part] = ground[part] + share * (ink[part] - ground[part]);
      image.data[at + 3] = 255;
    }
  }
  const small = new OffscreenCanvas(columns, picture.bands);
  small.getContext("2d").putImageData(image, 0, 0);
  context.imageSmoothingEnabled = false;
  context.drawImage(small, 0, top, width, height);
}

function drawEnvelope(context, picture, middle, width, half, paint) {
  context.fillStyle = paint.accent;
  const count = picture.lows.length;
  const wide = width / count;
  for (let column = 0; column < count; column += 1) {
    const high = (picture.highs[column] / 32768) * half;
    const low = (picture.lows[column] / 32768) * half;
    context.fillRect(column * wide, middle - high, Math.max(1, wide), Math.max(1, high - low));
  }
}

function drawLoudness(context, picture, top, width, height, paint, lufs) {
  context.strokeStyle = paint.rule;
  for (const value of [-40, -20]) {
    const at = Math.round(top + (height * value) / QUIETEST_LUFS) + 0.5;
    context.beginPath();
    context.moveTo(0, at);
    context.lineTo(width, at);
    context.stroke();
  }
  const y = (value) => top + height * (1 - (Math.max(QUIETEST_LUFS, Math.min(0, value)) - QUIETEST_LUFS) / -QUIETEST_LUFS);
  if (lufs !== undefined) {
    context.strokeStyle = paint.bar;
    context.setLineDash([3, 3]);
    context.beginPath();
    context.moveTo(0, y(Number(lufs)));
    context.lineTo(width, y(Number(lufs)));
    context.stroke();
    context.setLineDash([]);
  }
  context.strokeStyle = paint.ink;
  context.lineWidth = 1.4;
  context.beginPath();
  picture.loudness.forEach((value, at) => {
    if (value === null) return;
    const x = ((at + 0.5) / picture.loudness.length) * width;
    if (at && picture.loudness[at - 1] !== null) context.lineTo(x, y(value));
    else context.moveTo(x, y(value));
  });
  context.stroke();
  context.lineWidth = 1;
}

function timeText(seconds, step) {
  const whole = Math.floor(seconds + 1e-6);
  const hours = Math.floor(whole / 3600);
  const minutes = Math.floor((whole % 3600) / 60);
  const text = `${hours ? `${hours}:${String(minutes).padStart(2, "0")}` : minutes}:${String(whole % 60).padStart(2, "0")}`;
  const digits = step < 0.1 ? 2 : 1;
  return step < 1 ? `${text}${(seconds - whole).toFixed(digits).slice(1)}` : text;
}

export function drawTime(context, state, top, width, paint) {
  const span = state.end - state.start;
  const step = STEPS_SECONDS.find((each) => (each / span) * width >= 78) ?? 14400;
  context.strokeStyle = paint.ink;
  context.fillStyle = paint.second;
  context.beginPath();
  context.moveTo(0, top + 0.5);
  context.lineTo(width, top + 0.5);
  for (let number = Math.ceil(state.start / step); number * step <= state.end; number += 1) {
    const x = ((number * step - state.start) / span) * width;
    context.moveTo(x + 0.5, top);
    context.lineTo(x + 0.5, top + 6);
    if (width - x > 40) context.fillText(timeText(number * step, step), x + 4, top + 15);
  }
  context.stroke();
}

// Where a lossy codec's frames showed: a bar over each stretch of the spectrum that proved it.
function drawTraces(context, state, look, top, tall, width, paint) {
  const places = (look.traces ?? "").split(" ").filter(Boolean).map(Number);
  const wide = Number(look.traceSeconds);
  const x = (seconds) => ((seconds - state.start) / (state.end - state.start)) * width;
  context.strokeStyle = context.fillStyle = paint.refusal;
  context.lineWidth = 2;
  for (const place of places) {
    if (place + wide < state.start || place > state.end) continue;
    const [from, to] = [x(place), Math.max(x(place + wide), x(place) + 3)];
    context.strokeRect(from, top + 1, to - from, tall - 2);
  }
  context.lineWidth = 1;
  const first = places.find((place) => place + wide >= state.start && place <= state.end);
  if (first === undefined) return;
  const text = look.traced;
  const room = context.measureText(text).width;
  const left = Math.max(2, Math.min(width - room - 8, x(first) + 2));
  plated(context, text, left + 4, top + tall - 6, paint, paint.refusal);
}

export function drawRuler(panel, state, look) {
  const ruler = panel.querySelector("[data-ruler]");
  const canvas = ruler.querySelector("canvas");
  const [width, height] = [ruler.clientWidth, ruler.clientHeight];
  if (!width || !height) return;
  const scale = window.devicePixelRatio || 1;
  canvas.width = Math.round(width * scale);
  canvas.height = Math.round(height * scale);
  const context = canvas.getContext("2d");
  context.scale(scale, scale);
  const paint = rulerColours(ruler);
  context.font = `11px ${getComputedStyle(panel.querySelector(".figure") ?? panel).fontFamily}`;
  const large = panel.classList.contains("hearing-large");
  const timeTop = height - 20;
  const { picture } = state;
  if (picture && large) {
    const label = (name, unit, y) => {
      context.fillStyle = paint.ink;
      context.fillText(name, 0, y);
      context.fillStyle = paint.second;
      context.fillText(unit, name.length * 7 + 10, y);
    };
    label("Loudness", "LUFS, short term", 10);
    drawLoudness(context, picture, 16, width, 42, paint, look.lufs);
    for (const value of [-20, -40]) plated(context, `−${-value}`, 4, 20 + (42 * value) / QUIETEST_LUFS, paint, paint.second);
    label("Envelope", "dBFS", 74);
    drawEnvelope(context, picture, 128, width, 46, paint);
    for (const value of [0, -6, -12]) {
      const part = 46 * 10 ** (value / 20);
      plated(context, value ? `−${-value}` : "0", 4, 132 - part, paint, paint.second);
    }
    const [top, tall] = [196, timeTop - 196];
    label("Spectrum", `0 to ${picture.top_hz / 1000} kHz, mel scale`, 190);
    drawKey(context, width, 190, paint);
    drawSpectrum(context, picture, top, width, tall, paint);
    drawFrequencies(context, picture, top, width, tall, paint);
    if (look.edgeHz) {
      const y = top + tall * (1 - heightOf(Number(look.edgeHz), picture));
      context.strokeStyle = paint.refusal;
      context.setLineDash([4, 4]);
      context.beginPath();
      context.moveTo(0, y);
      context.lineTo(width, y);
      context.stroke();
      context.setLineDash([]);
      const text = `nothing above ${(look.edgeHz / 1000).toFixed(1)} kHz: ${look.edge}`;
      plated(context, text, width - context.measureText(text).width - 4, Math.max(top + 10, y - 5), paint, paint.refusal);
    }
    if (look.traces) drawTraces(context, state, look, top, tall, width, paint);
  } else if (picture) drawEnvelope(context, picture, timeTop / 2, width, timeTop / 2 - 2, paint);
  drawTime(context, state, timeTop, width, paint);
}
