// Files dropped on any page are sent by the form that takes them: the page's own, or the one that every page has.
import { say } from "./announce.js";

const gigabytes = (bytes) => `${(bytes / 1e9).toFixed(1)} GB`;

function send(form, files) {
  const bytes = [...files].reduce((sum, file) => sum + file.size, 0);
  const largest = Number(form.dataset.largestBytes);
  if (bytes > largest) {
    say(`These files are ${gigabytes(bytes)}; at most ${gigabytes(largest)} can be dropped at a time. Drop fewer, or name their folder as a source folder.`, "error");
    return;
  }
  say(files.length === 1 ? "Sending 1 file." : `Sending ${files.length} files.`);
  form.querySelector("input[type=file]").files = files;
  form.requestSubmit();
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
    send(document.querySelector("form[data-drop]:not([hidden])") || document.getElementById("drop-form"), event.dataTransfer.files);
  });
}
