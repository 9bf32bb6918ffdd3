// Answers cross each other: a part of the page may be replaced while a press inside it is still being answered. The answer
// goes to what stands there now; one that is older than what is shown is not shown any more.
const revisionOf = (text) => Number(text?.match(/data-revision="(\d+)"/)?.[1] ?? NaN);

function arrived(event) {
  const detail = event.detail;
  if (!detail.target.isConnected && detail.target.id) {
    detail.target = document.getElementById(detail.target.id) ?? detail.target;
  }
  const [shown, sent] = [Number(detail.target.dataset?.revision ?? NaN), revisionOf(detail.serverResponse)];
  if (sent < shown) detail.shouldSwap = false;
}

export function startSwaps() {
  // At the target itself: what is no longer in the page has no way up to the document.
  document.addEventListener("htmx:beforeRequest", (event) => {
    event.detail.target?.addEventListener("htmx:beforeSwap", arrived);
  });
}
