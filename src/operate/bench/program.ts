import { execFile } from "node:child_process";
import { promisify } from "node:util";

/** The words that this program says when it does one thing alone, as a program of its own with the agent's settings. */
export async function inProgram(...what: readonly string[]): Promise<string[]> {
  const { stdout } = await promisify(execFile)(
    process.execPath,
    [...AGENT_FLAGS, process.argv[1]!, ...what],
    {
      env: { ...process.env, MALLOC_ARENA_MAX: "2" },
    },
  );
  return stdout.trim().split(" ");
}

/** As in bin/agent. */
const AGENT_FLAGS = ["--max-old-space-size=192", "--max-semi-space-size=4"];
