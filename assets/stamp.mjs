// Records what the CSS was built from, so that the tests can tell when it is stale.
import { createHash } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { execFileSync } from "node:child_process";

const root = new URL("..", import.meta.url).pathname;
const listed = execFileSync("find", [`${root}rumbrel/web`, "-path", "*/templates/*", "-name", "*.html"], { encoding: "utf8" });
const templates = listed.trim().split("\n").map((path) => path.replace("//", "/"));
const byParts = (a, b) => {
  const [x, y] = [a.split("/"), b.split("/")];
  for (let i = 0; i < Math.min(x.length, y.length); i++) if (x[i] !== y[i]) return x[i] < y[i] ? -1 : 1;
  return x.length - y.length;
};
const sources = createHash("sha256");
for (const path of [`${root}assets/rumbrel.css`, ...templates.sort(byParts)]) sources.update(readFileSync(path));
const built = createHash("sha256").update(readFileSync(`${root}rumbrel/web/ui/static/ui/rumbrel.css`));
writeFileSync(`${root}assets/built.sha256`, `${sources.digest("hex")}\n${built.digest("hex")}\n`);
