import { execFile, spawn } from "node:child_process";
import { once } from "node:events";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { promisify } from "node:util";
import { AGENT_ENVIRONMENT, AGENT_FLAGS } from "../agent-program";

const PROGRAM = join(dirname(fileURLToPath(import.meta.url)), "bench-engine.mjs");
const argumentsOf = (what: readonly string[]) => [...AGENT_FLAGS, PROGRAM, ...what];
const env = { ...process.env, ...AGENT_ENVIRONMENT };

/** The words that the engine's program says when it does one thing alone. */
export async function inProgram(...what: readonly string[]): Promise<string[]> {
  const { stdout } = await promisify(execFile)(process.execPath, argumentsOf(what), { env });
  return stdout.trim().split(" ");
}

/** Lets the engine's program say what it says; this one ends where it ends otherwise than well. */
export async function beEngine(...what: readonly string[]): Promise<void> {
  const program = spawn(process.execPath, argumentsOf(what), { env, stdio: "inherit" });
  const end = () => program.kill();
  process.on("exit", end);
  const [code] = await once(program, "exit");
  process.off("exit", end);
  if (code !== 0) process.exit(1);
}
