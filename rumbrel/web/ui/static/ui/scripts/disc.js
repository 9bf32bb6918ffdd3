// The disc's screen: one selection on ruler, table and groove; gaps and order changed where they are seen.
/* global htmx, Sortable */
import { say, speak } from "./announce.js";
import { refuse } from "./fields.js";
import { still } from "./focus.js";
import { inTurn } from "./queue.js";
import { currentRow } from "./rows.js";

const screen = () => document.getElementById("disc");
const rows = () => [...document.querySelectorAll("#disc tr[data-key]")];
const isBusy = () => screen()?.hasAttribute("data-busy");
let openKey = "";
// While the screen is replaced, fields that vanish were not left by the user.
let swapping = false;
let leaving = false;
let entered = false;
let typed = null;
// What stands in forms that were not sent, or whose sending was refused.
let unsent = new Map();

const act = (name, values) => inTurn("disc", screen().dataset.act.replace("NAME", name), () => ({ revision: screen().dataset.revision, ...values }));

function mark(key) {
  document.querySelectorAll("#disc [data-key]").forEach((each) => {
    if (each.tagName !== "TR") each.classList.toggle("is-chosen", Boolean(key) && each.dataset.key === key);
  });
  const name = document.querySelector(`#disc-ruler .length[data-key="${key}"]`)?.dataset.name;
  const line = document.getElementById("disc-named");
  if (line) line.textContent = name ?? "";
}

// An answer may come while the user is at the next field already: he stays there, and keeps what he typed.
function keepTyped(event) {
  if (event.detail.target?.id !== "disc") return;
  const field = document.activeElement?.closest("#disc input, #disc select, #disc textarea, #disc button, #disc a");
  swapping = true;
  entered = false;
  const sent = event.detail.requestConfig?.path;
  const refused = event.detail.serverResponse?.includes("message-error");
  unsent = new Map([...document.querySelectorAll("#disc .text-form [id]")]
    .filter((each) => "defaultValue" in each && each.value !== each.defaultValue)
    .filter((each) => refused || new URL(each.form.action).pathname !== sent)
    .map((each) => [each.id, each.value]));
  typed = field?.id ? { id: field.id, value: field.value, changed: field.value !== field.defaultValue, at: field.selectionStart } : null;
}

function giveBackForms() {
  unsent.forEach((value, id) => { const each = document.getElementById(id); if (each) each.value = value; });
}

function giveBack() {
  swapping = false;
  giveBackForms();
  const field = typed && document.getElementById(typed.id);
  if (!field) return;
  if (typed.changed && "defaultValue" in field) field.value = typed.value;
  const sentence = typed.changed && document.querySelector("#disc .message-error");
  if (sentence) refuse(field, sentence);
  field.focus({ preventScroll: true });
  if (typed.at !== null && field.setSelectionRange && field.type === "text") field.setSelectionRange(typed.at, typed.at);
  const sends = entered && typed.changed;
  typed = null;
  // Enter was pressed while the field was on its way back.
  if (sends) field.blur();
}

const markCurrent = () => mark(currentRow()?.dataset.key ?? openKey);

// By a press, with the link that was pressed; or again, after the disc was drawn anew.
function open(key, source) {
  openKey = key;
  const address = screen().dataset.trackPage.replace("/track/0/", `/track/${key}/`);
  htmx.ajax("GET", address, { source, target: "#track-panel", swap: "innerHTML" });
}

// What a notch or a length is pulled to, in the ruler's own units.
function unitsOf(svg, event) {
  const box = svg.getBoundingClientRect();
  return ((event.clientX - box.left) / box.width) * svg.viewBox.baseVal.width;
}

const seconds = (sectors) => String(Math.round((sectors / 75) * 100) / 100);

function pullNotch(svg, notch, down) {
  const [start, gap] = [unitsOf(svg, down), Number(notch.dataset.gap)];
  const scale = Number(svg.dataset.sectors);
  let wanted = gap;
  const move = (event) => {
    // A whole disc is on the ruler: a second is less than a point wide. Ten times as far as it looks, in tenths.
    const sectors = gap + ((unitsOf(svg, event) - start) * scale) / 10;
    wanted = Math.max(0, Math.min(60 * 75, Math.round(sectors / 7.5) * 7.5));
    document.getElementById("disc-named").textContent = `gap before it: ${seconds(wanted)} s`;
  };
  const up = () => {
    removeEventListener("pointermove", move);
    removeEventListener("pointerup", up);
    if (Math.round(wanted) !== gap) act("gap", { key: notch.dataset.key, gap: seconds(wanted) });
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", up);
}

function pullLength(svg, length, down) {
  const lengths = [...svg.querySelectorAll(".length")];
  const drop = svg.querySelector(".ruler-drop");
  let before;
  const move = (event) => {
    if (Math.abs(event.clientX - down.clientX) < 6) return;
    const at = unitsOf(svg, event);
    const next = lengths.find((each) => {
      const box = each.getBBox();
      return at < box.x + box.width / 2;
    });
    before = next?.dataset.key ?? "";
    const end = lengths.at(-1).getBBox();
    const x = next ? next.getBBox().x : end.x + end.width;
    drop.setAttribute("x1", x);
    drop.setAttribute("x2", x);
    drop.setAttribute("visibility", "visible");
  };
  const up = () => {
    removeEventListener("pointermove", move);
    removeEventListener("pointerup", up);
    drop.setAttribute("visibility", "hidden");
    if (before !== undefined && before !== length.dataset.key) act("move", { keys: length.dataset.key, before });
    else document.getElementById(`open-${length.dataset.key}`)?.focus();
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", up);
}

async function preview(key) {
  const place = document.getElementById("disc-preview");
  const answer = await fetch(`${screen().dataset.preview}?offer=${encodeURIComponent(key)}`);
  if (answer.status !== 200 || place.dataset.wanted !== key) return;
  const drawn = await answer.text();
  const head = document.getElementById("disc-free");
  still(document.getElementById("offers"), () => {
    place.innerHTML = drawn;
    place.hidden = false;
    document.getElementById("disc-ruler").hidden = true;
    head.dataset.before ??= head.textContent;
    head.textContent = place.querySelector("[data-head]")?.content.textContent.trim() ?? head.dataset.before;
  });
  if (pressedOffer === key) speak(head.textContent);
}

function endPreview() {
  const place = document.getElementById("disc-preview");
  if (!place) return;
  delete place.dataset.wanted;
  still(document.getElementById("offers"), () => {
    place.hidden = true;
    const head = document.getElementById("disc-free");
    if (head.dataset.before !== undefined) {
      head.textContent = head.dataset.before;
      delete head.dataset.before;
    }
    document.getElementById("disc-ruler").hidden = false;
  });
}

// By press it stays until the next press; by pointer or focus as long as that is there.
let pressedOffer = null;

function pressPreview(button) {
  const key = button.closest("[data-offer]").dataset.offer;
  pressedOffer = pressedOffer === key ? null : key;
  document.querySelectorAll("[data-preview-offer]").forEach((each) => {
    each.setAttribute("aria-pressed", String(each.closest("[data-offer]").dataset.offer === pressedOffer));
  });
  if (pressedOffer === null) {
    endPreview();
    speak(document.getElementById("disc-free").textContent);
  }
  else {
    document.getElementById("disc-preview").dataset.wanted = key;
    preview(key);
  }
}

function offered(event, on) {
  const offer = event.target.closest?.("[data-offer]");
  // A finger does not rest over a line before it presses.
  if (!offer || pressedOffer !== null || event.pointerType === "touch") return;
  if (event.type === "focusin" && !event.target.matches(":focus-visible")) return;
  if (!on) endPreview();
  else {
    document.getElementById("disc-preview").dataset.wanted = offer.dataset.offer;
    preview(offer.dataset.offer);
  }
}

function makeSortable() {
  const body = document.querySelector("#disc tbody[data-disc-rows]");
  if (!body || body.dataset.sorts || isBusy()) return;
  body.dataset.sorts = "1";
  Sortable.create(body, {
    handle: "[data-handle]",
    animation: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120,
    onEnd: (event) => {
      const next = event.item.nextElementSibling;
      act("move", { keys: event.item.dataset.key, before: next?.dataset.key ?? "" });
    },
  });
}

// A text that was typed takes effect when its field is left or Enter is pressed; Escape puts back what was there.
function startCells() {
  document.addEventListener("focusout", (event) => {
    const field = event.target.closest?.("#disc [data-text], #disc [data-gap]:not(g)");
    if (!field || (swapping && !leaving) || field.value === field.defaultValue) return;
    const key = field.closest("tr")?.dataset.key ?? "";
    if (field.hasAttribute("data-gap")) act("gap", { key, gap: field.value });
    else act("text", { key, field: field.dataset.text, value: field.value });
  });
  ["keydown", "pointerdown"].forEach((name) => document.addEventListener(name, (event) => {
    leaving = name === "pointerdown" || event.key === "Enter" || event.key === "Tab";
    if (swapping && event.key === "Enter") entered = true;
    setTimeout(() => { leaving = false; });
  }, true));
  document.addEventListener("keydown", (event) => {
    const field = event.target.closest?.("#disc .cell, #disc .disc-name");
    if (!field) return;
    if (event.key === "Enter") field.blur();
    if (event.key === "Escape") field.value = field.defaultValue;
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step || event.altKey) return;
    const kind = field.id.split("-")[0];
    const all = rows();
    const next = all[all.indexOf(field.closest("tr")) + step];
    document.getElementById(`${kind}-${next?.dataset.key}`)?.focus();
    event.preventDefault();
  });
}

const keyActs = {
  x: (row) => act("leave", { keys: row.dataset.key, out: row.classList.contains("is-out") ? "" : "on" }),
  r: (row) => act("join", { keys: row.dataset.key, on: document.getElementById(`gap-${row.dataset.key}`)?.value === "runs on" ? "" : "on" }),
};

export function startDisc() {
  if (!screen()) return;
  startCells();
  makeSortable();
  document.addEventListener("htmx:beforeSwap", keepTyped);
  // A disc drawn anew has no preview any more.
  document.addEventListener("htmx:afterSettle", () => { if (!document.querySelector("#disc-preview:not([hidden])")) pressedOffer = null; });
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.detail.target?.id === "track-panel") giveBackForms();
    if (event.target.id !== "disc" && event.detail.target?.id !== "disc") return;
    giveBack();
    makeSortable();
    if (openKey && document.getElementById(`disc-row-${openKey}`)) open(openKey);
    markCurrent();
  });
  document.addEventListener("drawer-closed", () => { openKey = ""; });
  document.addEventListener("measured", () => {
    // Nobody loses what he is typing: what was found shows with the next change.
    const typing = document.activeElement?.closest("#disc input, #disc select");
    if (typing) say("The sounds are measured; what was found shows with the next change.");
    else htmx.ajax("GET", screen().dataset.body, { target: "#disc", swap: "outerHTML" });
  });
  document.addEventListener("click", (event) => {
    const shown = event.target.closest("#disc [data-preview-offer]");
    if (shown) pressPreview(shown);
    const link = event.target.closest("#disc [data-open]");
    if (link && !event.ctrlKey && !event.metaKey) {
      event.preventDefault();
      open(link.dataset.open, link);
    }
    if (event.target.closest("#disc tr[data-key]")) setTimeout(markCurrent);
  });
  ["pointerover", "focusin"].forEach((name) => document.addEventListener(name, (event) => {
    const named = event.target.closest?.("#disc [data-key]");
    if (named) mark(named.dataset.key);
    offered(event, true);
  }));
  ["pointerout", "focusout"].forEach((name) => document.addEventListener(name, (event) => {
    if (event.target.closest?.("#disc-ruler [data-key], #disc .groove [data-key]")) markCurrent();
    offered(event, false);
  }));
  document.addEventListener("pointerdown", (event) => {
    const svg = event.target.closest?.("#disc-ruler svg");
    if (!svg || event.button || isBusy()) return;
    const [notch, length] = [event.target.closest(".notch"), event.target.closest(".length")];
    if (notch) pullNotch(svg, notch, event);
    else if (length) pullLength(svg, length, event);
  });
  document.addEventListener("keydown", (event) => {
    const row = event.target.closest?.("#disc tr[data-key]") ?? currentRow();
    if (!row || isBusy()) return;
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
      event.preventDefault();
      act("step", { keys: row.dataset.key, way: event.key === "ArrowUp" ? "up" : "down" });
      return;
    }
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    const change = keyActs[event.key];
    if (change) {
      event.preventDefault();
      change(row);
    }
  });
}
