// Things are dragged from the shelf onto a device that takes them; by keys and by press the page does the same.
const shelf = () => document.getElementById("shelf");
let dragged = null;

const takes = (device) => dragged && device.dataset.takes === dragged.dataset.shelf;

function drop(device) {
  if (device.id === "socket") {
    // A stick goes into the socket by its own address: the page with it chosen has that press.
    location.assign(dragged.href);
    return;
  }
  const form = device.querySelector(`form[data-put="${dragged.dataset.shelf}"]`);
  form.elements.disc.value = dragged.dataset.key;
  form.submit();
}

export function startBench() {
  if (!shelf()) return;
  document.addEventListener("dragstart", (event) => {
    dragged = event.target.closest?.("[data-shelf]") ?? null;
    if (!dragged) return;
    event.dataTransfer.effectAllowed = "move";
    event.dataTransfer.setData("text/plain", dragged.dataset.key);
    document.querySelectorAll(`[data-takes="${dragged.dataset.shelf}"]`).forEach((device) => device.classList.add("is-open"));
  });
  document.addEventListener("dragend", () => {
    dragged = null;
    document.querySelectorAll(".device.is-open, .device.is-over").forEach((device) => device.classList.remove("is-open", "is-over"));
  });
  document.addEventListener("dragover", (event) => {
    const device = event.target.closest?.(".device");
    document.querySelectorAll(".device.is-over").forEach((each) => { if (each !== device) each.classList.remove("is-over"); });
    if (!device || !takes(device)) return;
    event.preventDefault();
    device.classList.add("is-over");
  });
  document.addEventListener("drop", (event) => {
    const device = event.target.closest?.(".device");
    if (!device || !takes(device)) return;
    event.preventDefault();
    drop(device);
  });
}
