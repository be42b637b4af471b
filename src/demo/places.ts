import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** Where the demo's world lies in the data folder. */
export const signInFile = (home: string): string => join(home, "demo/sign-in.json");
export const machinesFile = (home: string): string => join(home, "demo/machines.json");

export interface DemoMachine {
  readonly name: string;
  /** Its disk: a folder that its agent takes for `/`. */
  readonly root: string;
  readonly state: string;
  /** Switched off in the story: no agent runs. */
  readonly away: boolean;
}

/** The demo's machines; none without a demo. */
export function demoMachines(home: string): readonly DemoMachine[] {
  return existsSync(machinesFile(home))
    ? (JSON.parse(readFileSync(machinesFile(home), "utf8")) as DemoMachine[])
    : [];
}

/** A stand-in of the demo: where its things lie, and the port it answered at last. */
export interface DemoStandin {
  readonly kind: "mail" | "bucket" | "hosts" | "library" | "inbox" | "receiver";
  readonly folder: string;
  readonly port: number;
  /** What it is told by its environment. */
  readonly env: Readonly<Record<string, string>>;
}
const standinsFile = (home: string): string => join(home, "demo/standins.json");

export function demoStandins(home: string): readonly DemoStandin[] {
  return existsSync(standinsFile(home))
    ? (JSON.parse(readFileSync(standinsFile(home), "utf8")) as DemoStandin[])
    : [];
}
export const writeStandins = (home: string, standins: readonly DemoStandin[]): void =>
  writeFileSync(standinsFile(home), `${JSON.stringify(standins, null, 2)}\n`, { mode: 0o600 });

/** A text with an origin in it, such as an address or settings as JSON, where that origin is at another port now. */
export const withMovedOrigin = (text: string, before: string, after: string): string =>
  // the port of another one may begin with the same digits
  text.replaceAll(new RegExp(`${before.replaceAll(".", "\\.")}(?![0-9])`, "g"), after);
