// Changes of a disc or of a list, one after another, each upon what the one before has made: none of quick ones is passed
// over, and the last one pressed is the last one done.
/* global htmx */
const TARGETS = ["disc", "list"];
const queues = Object.fromEntries(TARGETS.map((id) => [id, { last: Promise.resolve(), waiting: 0 }]));

// They are sent from an element of their own: of requests that wait for one another at one element, htmx keeps the last alone.
const sender = document.createElement("div");
sender.hidden = true;

// Send a change of what has this id; values may be a function, asked when its turn has come.
export function inTurn(id, path, values) {
  const queue = queues[id];
  queue.waiting += 1;
  queue.last = queue.last.catch(() => {}).then(() => htmx.ajax("POST", path, {
    source: sender, target: `#${id}`, swap: "outerHTML", values: typeof values === "function" ? values() : values,
  })).finally(() => { queue.waiting -= 1; });
  return queue.last;
}

export function startQueues() {
  document.body.append(sender);
  document.addEventListener("htmx:confirm", (event) => {
    const { elt, target, verb, path, triggeringEvent } = event.detail;
    if (verb !== "post" || elt === sender || !TARGETS.includes(target?.id)) return;
    const form = elt.closest("form");
    if (!form) return;
    event.preventDefault();
    const values = new FormData(form, triggeringEvent?.submitter ?? null);
    // What it would be told of another's change is its own, made while it waited.
    const follows = queues[target.id].waiting > 0;
    inTurn(target.id, path, () => {
      const revision = document.getElementById(target.id)?.dataset.revision;
      if (follows && revision && values.has("revision")) values.set("revision", revision);
      return values;
    });
  });
}
