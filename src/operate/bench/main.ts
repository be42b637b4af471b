import { benchAdopt } from "./adopt";
import { benchBandwidth } from "./bandwidth";
import { benchConsole } from "./console";
import { benchDatabase } from "./database";
import { benchDeal } from "./deal";
import { ENGINE_PARTS } from "./engine-parts";
import { json } from "./ground";
import { benchGuest } from "./guest";
import { benchInside } from "./inside";
import { benchKeystroke } from "./keystroke";
import { benchLibrary } from "./library";
import { benchMemory } from "./memory";
import { benchPortal } from "./portal";
import { beEngine } from "./program";
import { type Part, runMeasuring } from "./report";

/** As the web runs. */
const PARTS: Record<string, Part> = {
  memory: benchMemory,
  adopt: benchAdopt,
  console: benchConsole,
  keystroke: benchKeystroke,
  deal: benchDeal,
  portal: benchPortal,
  inside: benchInside,
  bandwidth: benchBandwidth,
  database: benchDatabase,
  library: benchLibrary,
  guest: benchGuest,
};

const known = [...ENGINE_PARTS, ...Object.keys(PARTS)];
const wanted = process.argv.slice(2).filter((argument) => argument !== "--json");
const unknown = wanted.find((name) => !known.includes(name));
if (unknown) {
  console.error(`There is no part ${unknown}; there are: ${known.join(", ")}; and --json`);
  process.exit(2);
}
await runMeasuring(async (measure) => {
  for (const name of wanted.length ? wanted : known) {
    const part = PARTS[name];
    if (part) await measure(part);
    else await beEngine(name, ...(json ? ["--json"] : []));
  }
});
