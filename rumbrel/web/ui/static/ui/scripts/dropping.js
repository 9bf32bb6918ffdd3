// Files and whole folders dropped on any page are sent one by one, kept in their folders, with progress and a way to stop.
import { say, watchWork } from "./announce.js";

const TRIES = 4;
const gigabytes = (bytes) => `${(bytes / 1e9).toFixed(1)} GB`;
const counted = (number, noun) => `${number.toLocaleString("en")} ${noun}${number === 1 ? "" : "s"}`;
const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
const wait = (seconds) => new Promise((resolve) => setTimeout(resolve, seconds * 1000));

let queue = [];
let run = null;

async function readAll(reader) {
  const found = [];
  for (;;) {
    // A reader gives its entries in turns.
    const turn = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
    if (!turn.length) return found;
    found.push(...turn);
  }
}

async function walk(entry, above, found, unread) {
  if (entry.name.startsWith(".")) return;
  try {
    if (entry.isFile) {
      const file = await new Promise((resolve, reject) => entry.file(resolve, reject));
      found.push({ file, name: above + entry.name });
    } else for (const each of await readAll(entry.createReader())) await walk(each, `${above}${entry.name}/`, found, unread);
  } catch {
    unread.push({ name: above + entry.name, reason: "it could not be read on this device" });
  }
}

function line() {
  const shown = document.createElement("div");
  shown.className = "message message-info";
  const text = document.createElement("span");
  const stop = document.createElement("button");
  stop.type = "button";
  stop.className = "linklike";
  stop.textContent = "Stop";
  stop.addEventListener("click", () => {
    run.stopped = true;
    run.request?.abort();
  });
  shown.append(text, " ", stop);
  document.getElementById("told").replaceChildren(shown);
  return text;
}

function tell(sent) {
  const share = run.bytes ? Math.min(1, (run.done + sent) / run.bytes) : 0;
  const passed = (Date.now() - run.begun) / 1000;
  const left = share > 0.02 && passed > 1 ? ` · ${clock((passed / share) * (1 - share))} left` : "";
  const own = run.current.file.size ? Math.round((100 * sent) / run.current.file.size) : 100;
  run.text.textContent = `Sending ${run.number.toLocaleString("en")} of ${counted(run.total, "file")}: ${Math.round(100 * share)} %${left}. ${run.current.name}: ${own} %.`;
}

// Resolves to what the server said of it; rejects with a reason, and with again where another try may help.
function send(each) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    run.request = request;
    const { dropAddress } = document.body.dataset;
    request.open("POST", `${dropAddress}?name=${encodeURIComponent(each.name)}&size=${each.file.size}`);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.setRequestHeader("X-CSRFToken", JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"]);
    request.upload.addEventListener("progress", (event) => tell(event.loaded));
    request.addEventListener("load", () => {
      let said = {};
      try {
        said = JSON.parse(request.responseText);
      } catch {
        said = { error: request.status === 413 ? "it is too large" : `the server answered ${request.status}` };
      }
      if (request.status === 200) resolve(said);
      else reject({ reason: said.error ?? `the server answered ${request.status}`, again: request.status >= 500 });
    });
    request.addEventListener("error", () => reject({ reason: "the connection was lost", again: true }));
    request.addEventListener("abort", () => reject({ reason: "stopped", again: false }));
    request.send(each.file);
  });
}

async function sendPatiently(each) {
  for (let number = 1; ; number += 1) {
    try {
      return await send(each);
    } catch (failure) {
      if (!failure.again || number === TRIES || run.stopped) throw failure;
      run.text.textContent = `${each.name}: ${failure.reason}. Trying again in ${2 ** number} s.`;
      await wait(2 ** number);
    }
  }
}

async function end() {
  const token = JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"];
  let folder = "";
  if (run.kept || run.known) {
    try {
      const answer = await fetch(document.body.dataset.dropEnd, { method: "POST", headers: { "X-CSRFToken": token } });
      const said = await answer.json();
      folder = said.folder ?? "";
      if (said.job) watchWork(said.job);
    } catch {
      run.failed.push({ name: "The scan", reason: "the connection was lost; scan the folder of dropped files again" });
    }
  }
  const parts = [`${counted(run.kept, "file")} added${folder && run.kept ? ` to ${folder}` : ""}`];
  if (run.known) parts.push(`${counted(run.known, "file")} already there`);
  if (run.stopped) parts.push(`stopped, ${counted(run.total - run.kept - run.known - run.failed.length, "file")} not sent`);
  const shown = run.failed.slice(0, 5).map((each) => `${each.name}: ${each.reason}.`);
  if (run.failed.length) parts.push(`${counted(run.failed.length, "file")} not`);
  const more = run.failed.length > shown.length ? ` And ${run.failed.length - shown.length} more.` : "";
  say(`${parts.join("; ")}. ${shown.join(" ")}${more}`.trim(), run.failed.length ? "error" : "success");
  removeEventListener("beforeunload", hold);
  run = null;
}

const hold = (event) => event.preventDefault();

async function work() {
  addEventListener("beforeunload", hold);
  while (queue.length && !run.stopped) {
    const each = queue.shift();
    run.number += 1;
    run.current = each;
    tell(0);
    try {
      const said = await sendPatiently(each);
      if (said.known) run.known += 1;
      else run.kept += 1;
    } catch (failure) {
      if (!run.stopped) run.failed.push({ name: each.name, reason: failure.reason });
    }
    run.done += each.file.size;
  }
  queue = [];
  await end();
}

function take(files, unread = []) {
  const largest = Number(document.body.dataset.largestBytes);
  const fits = files.filter((each) => each.file.size <= largest);
  const over = files.filter((each) => each.file.size > largest);
  const refused = [...unread, ...over.map((each) => ({ name: each.name, reason: `it is ${gigabytes(each.file.size)}, and at most ${gigabytes(largest)} can be dropped; name its folder as a source folder` }))];
  if (!fits.length && !refused.length) {
    say("No files came with that. Drop sound files or folders on the page.", "error");
    return;
  }
  queue.push(...fits);
  const bytes = fits.reduce((sum, each) => sum + each.file.size, 0);
  if (run) {
    run.total += fits.length + refused.length;
    run.bytes += bytes;
    run.failed.push(...refused);
    return;
  }
  run = { text: line(), begun: Date.now(), number: 0, total: fits.length + refused.length, bytes, done: 0, kept: 0, known: 0, failed: refused, stopped: false };
  work();
}

const named = (file) => ({ file, name: file.webkitRelativePath || file.name });

async function dropped(transfer) {
  // Entries are lost as soon as this turn is over: they are taken first.
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  const plain = [...transfer.files].map(named);
  if (!entries.some((entry) => entry.isDirectory)) return take(plain);
  const [found, unread] = [[], []];
  say("Looking through what was dropped.");
  for (const entry of entries) await walk(entry, "", found, unread);
  return take(found, unread);
}

export function startDropping() {
  document.addEventListener("dragover", (event) => {
    if (!event.dataTransfer?.types.includes("Files")) return;
    event.preventDefault();
    document.body.classList.add("is-dropping");
  });
  document.addEventListener("dragleave", (event) => {
    if (!event.relatedTarget) document.body.classList.remove("is-dropping");
  });
  document.addEventListener("drop", (event) => {
    document.body.classList.remove("is-dropping");
    if (!event.dataTransfer?.files.length) return;
    event.preventDefault();
    dropped(event.dataTransfer);
  });
  document.addEventListener("submit", (event) => {
    const input = event.target.matches("form[data-drop]") && event.target.querySelector("input[type=file]");
    if (!input) return;
    event.preventDefault();
    take([...input.files].map(named));
    input.value = "";
  });
}
