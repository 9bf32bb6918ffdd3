// Files dropped on the page that takes them.
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
    const form = document.querySelector("form[data-drop]");
    document.body.classList.remove("is-dropping");
    if (!form || !event.dataTransfer?.files.length) return;
    event.preventDefault();
    form.querySelector("input[type=file]").files = event.dataTransfer.files;
    form.requestSubmit();
  });
}
