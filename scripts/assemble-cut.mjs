// Assembles src/store/cutting/cut.wat into cut-module.ts beside it. Run it after changing the one; a test compares both.
import { readFileSync, writeFileSync } from "node:fs";
import wabt from "wabt";

const folder = new URL("../src/store/cutting/", import.meta.url);
const { parseWat } = await wabt();
const { buffer } = parseWat("cut.wat", readFileSync(new URL("cut.wat", folder), "utf8"), { threads: true }).toBinary({});
const lines = Buffer.from(buffer)
  .toString("base64")
  .match(/.{1,100}/g)
  .map((line) => `  "${line}",`);
writeFileSync(
  new URL("cut-module.ts", folder),
  `/** cut.wat, assembled by scripts/assemble-cut.mjs. */
export const CUT_MODULE = Buffer.from(
  [
  ${lines.join("\n  ")}
  ].join(""),
  "base64",
);
`,
);
