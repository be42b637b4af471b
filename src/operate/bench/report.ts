import { type Figure, json, removeLeftFolders } from "./ground";

/** Measures some figures. */
export type Part = () => Promise<Figure[]>;

async function measure(part: Part): Promise<void> {
  for (const figure of await part()) {
    if (json) console.log(JSON.stringify(figure));
    else {
      console.log(
        `${figure.name.padEnd(44)} ${figure.value.toFixed(2).padStart(8)} ${figure.unit.padEnd(4)} ${figure.against.padEnd(30)} ${figure.againstValue.toFixed(2).padStart(8)}   ratio ${figure.ratio.toFixed(2).padStart(6)}, wanted ${figure.wanted}  ${figure.holds ? "holds" : "falls short"}`,
      );
    }
  }
}

/** Lets some work measure parts, and takes away what they left, also where it is broken off, or nobody reads what it says. */
export async function runMeasuring(work: (measuring: typeof measure) => Promise<void>): Promise<void> {
  process.on("exit", removeLeftFolders);
  for (const signal of ["SIGINT", "SIGTERM", "SIGHUP"] as const) process.on(signal, () => process.exit(1));
  process.stdout.on("error", () => process.exit(1));
  await work(measure);
}
