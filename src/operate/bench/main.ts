import { benchAdopt } from "./adopt";
import { benchBandwidth } from "./bandwidth";
import { benchConsole } from "./console";
import { benchDeal } from "./deal";
import { benchDisk, packOnce } from "./disk";
import { benchFiles, benchRestore } from "./files";
import { type Figure, json, removeLeftFolders } from "./ground";
import { benchInside } from "./inside";
import { benchKeystroke } from "./keystroke";
import { benchMemory, restoreOnce, storeOnce } from "./memory";
import { benchPortal } from "./portal";
import { beProgram } from "./program";
import { benchVersions } from "./versions";

const ENGINE_PART = "--engine-part";
// one thing alone, for a part that measures a program of its own
const [, , alone, ...about] = process.argv;
const ALONE: Record<string, () => Promise<void>> = {
  "--store-once": () => storeOnce(about[0]!, about[1]!, about[2]!, about[3]),
  "--restore-once": () => restoreOnce(about[0]!, about[1]!, about[2]!),
  "--pack-once": packOnce,
};
if (alone && ALONE[alone]) {
  await ALONE[alone]();
  process.exit(0);
}

/** Of the engine: with the agent's settings. */
const ENGINE: Record<string, () => Promise<Figure[]>> = {
  files: benchFiles,
  restore: benchRestore,
  versions: benchVersions,
  disk: benchDisk,
};
/** As the web runs. */
const PARTS: Record<string, () => Promise<Figure[]>> = {
  memory: benchMemory,
  adopt: benchAdopt,
  console: benchConsole,
  keystroke: benchKeystroke,
  deal: benchDeal,
  portal: benchPortal,
  inside: benchInside,
  bandwidth: benchBandwidth,
};

async function measure(part: () => Promise<Figure[]>): Promise<void> {
  for (const figure of await part()) {
    if (json) console.log(JSON.stringify(figure));
    else {
      console.log(
        `${figure.name.padEnd(44)} ${figure.value.toFixed(2).padStart(8)} ${figure.unit.padEnd(4)} ${figure.against.padEnd(30)} ${figure.againstValue.toFixed(2).padStart(8)}   ratio ${figure.ratio.toFixed(2).padStart(6)}, wanted ${figure.wanted}  ${figure.holds ? "holds" : "falls short"}`,
      );
    }
  }
}

// also where it is broken off, or nobody reads what it says any more
process.on("exit", removeLeftFolders);
for (const signal of ["SIGINT", "SIGTERM", "SIGHUP"] as const) process.on(signal, () => process.exit(1));
process.stdout.on("error", () => process.exit(1));

if (alone === ENGINE_PART) await measure(ENGINE[about[0]!]!);
else {
  const known = [...Object.keys(ENGINE), ...Object.keys(PARTS)];
  const wanted = process.argv.slice(2).filter((argument) => argument !== "--json");
  const unknown = wanted.find((name) => !known.includes(name));
  if (unknown) {
    console.error(`There is no part ${unknown}; there are: ${known.join(", ")}; and --json`);
    process.exit(2);
  }
  for (const name of wanted.length ? wanted : known) {
    const part = PARTS[name];
    if (part) await measure(part);
    else await beProgram(ENGINE_PART, name, ...(json ? ["--json"] : []));
  }
}
