import { existsSync, readFileSync } from "node:fs";
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

/** The demo's mail: where its messages lie, and the port it answered at last. */
export const mailFolder = (home: string): string => join(home, "demo/mail");
export const mailPortFile = (home: string): string => join(home, "demo/mail-port");
