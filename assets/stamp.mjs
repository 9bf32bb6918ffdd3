// Records what the CSS was built from, so that the tests can tell when it is stale: the styles, and the classes
// that templates use. A change of words leaves it as it is.
import { createHash } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { execFileSync } from "node:child_process";

const root = new URL("..", import.meta.url).pathname;
const listed = (...found) => execFileSync("find", found, { encoding: "utf8" }).trim().split("\n").sort();
const styles = [`${root}assets/rumbrel.css`, ...listed(`${root}assets/components`, "-name", "*.css")];
const templates = listed(`${root}rumbrel/web`, "-path", "*/templates/*", "-name", "*.html");
const classes = new Set();
for (const path of templates) {
  for (const [, text] of readFileSync(path, "utf8").matchAll(/class="([^"]*)"/g)) {
    for (const name of text.replace(/{[{%].*?[%}]}/g, " ").split(/\s+/)) if (name) classes.add(name);
  }
}
const sources = createHash("sha256");
for (const path of styles) sources.update(readFileSync(path));
sources.update([...classes].sort().join(" "));
const built = createHash("sha256").update(readFileSync(`${root}rumbrel/web/ui/static/ui/rumbrel.css`));
writeFileSync(`${root}assets/built.sha256`, `${sources.digest("hex")}\n${built.digest("hex")}\n`);
