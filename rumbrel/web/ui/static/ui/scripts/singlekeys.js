// Keys that act without a modifier can be switched off, and each can be another one (WCAG 2.1.4): for who speaks to the
// machine, or rests a hand on it. Both are kept in cookies of this browser.
const off = () => document.documentElement.dataset.keys === "off";
const YEAR = "path=/;max-age=31536000;samesite=strict";
const TAKEN = " 1234567";

let chosen = readKeys();

// What was chosen for each key as it ships, where that is another.
function readKeys() {
  const kept = document.cookie.split("; ").find((each) => each.startsWith("keymap="));
  try {
    const found = kept ? JSON.parse(decodeURIComponent(kept.slice("keymap=".length))) : {};
    return found && typeof found === "object" ? found : {};
  } catch (error) {
    if (!(error instanceof SyntaxError || error instanceof URIError)) throw error;
    return {};
  }
}

const inForce = (key) => chosen[key] ?? key;

// The key as it ships that a pressed one stands for; "" for one that stands for nothing any more.
function meant(pressed) {
  const shipped = Object.keys(chosen).find((key) => chosen[key] === pressed || chosen[key].toUpperCase() === pressed);
  if (shipped) return chosen[shipped] === pressed ? shipped : shipped.toUpperCase();
  const moved = Object.keys(chosen).some((key) => key === pressed || key.toUpperCase() === pressed);
  return moved ? "" : pressed;
}

function switchKeys(on) {
  if (on) delete document.documentElement.dataset.keys;
  else document.documentElement.dataset.keys = "off";
  document.cookie = `keys=${on ? "on" : "off"};${YEAR}`;
  say(on ? "On." : "Off. Keys with Ctrl or Alt, arrows, Enter and Tab still act.");
}

function say(text) {
  document.querySelector("[data-keys-said]").textContent = text;
}

function keep() {
  document.cookie = `keymap=${encodeURIComponent(JSON.stringify(chosen))};${YEAR}`;
  showFields();
  label(document);
}

function showFields() {
  document.querySelectorAll("[data-key-for]").forEach((field) => { field.value = inForce(field.dataset.keyFor); });
}

function change(field) {
  const [shipped, key] = [field.dataset.keyFor, field.value];
  const holder = [...document.querySelectorAll("[data-key-for]")].find((other) => other !== field && other.value === key);
  if (!key || TAKEN.includes(key) || holder) {
    say(holder ? `${key} is in use: ${holder.getAttribute("aria-label").replace("Key: ", "")}. Choose another.` : "Choose a letter or a sign. Space and 1 to 7 have their own use.");
    field.value = inForce(shipped);
    return;
  }
  if (key === shipped) delete chosen[shipped];
  else chosen[shipped] = key;
  keep();
  say(`Kept: ${key}.`);
}

// Buttons and links name the key that is in force.
function label(part) {
  part.querySelectorAll(":is(a, button)[data-key] > kbd, :is(a, button)[data-theme-switch] > kbd").forEach((sign) => {
    sign.dataset.ships ??= sign.textContent;
    if (sign.dataset.ships.length === 1) sign.textContent = inForce(sign.dataset.ships);
  });
}

export function startSingleKeys() {
  showFields();
  label(document);
  document.addEventListener("htmx:load", (event) => label(event.target));
  // Before anything else hears of it. In a field, and on a ruler that has the focus, a key is meant for that.
  window.addEventListener("keydown", (event) => {
    if (!event.isTrusted || event.key.length !== 1 || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.target.closest?.("input:not([type=checkbox]), select, textarea")) return;
    if (off()) {
      if (!event.target.closest?.("[role=slider]")) event.stopImmediatePropagation();
      return;
    }
    const key = meant(event.key);
    if (key === event.key) return;
    event.stopImmediatePropagation();
    event.preventDefault();
    if (key) event.target.dispatchEvent(new KeyboardEvent("keydown", { key, shiftKey: event.shiftKey, bubbles: true, cancelable: true }));
  }, true);
  document.addEventListener("change", (event) => {
    if (event.target.matches("[data-keys-switch]")) switchKeys(event.target.checked);
    if (event.target.matches("[data-key-for]")) change(event.target);
  });
  document.addEventListener("focusin", (event) => {
    if (event.target.matches("[data-key-for]")) event.target.select();
  });
  document.addEventListener("click", (event) => {
    if (!event.target.matches("[data-keys-reset]")) return;
    chosen = {};
    keep();
    say("All keys are as they ship.");
  });
}
