import { execFile, execFileSync } from "node:child_process";
import { promisify } from "node:util";

/** Programs for disks that nobody here wrote: QEMU's and libnbd's, from Debian's packages. */
const PROGRAMS = ["qemu-img", "qemu-io", "qemu-nbd", "nbdinfo", "nbdcopy"] as const;

/** Why they cannot run here; null where they can. In CI they must. */
export function whyNoDiskTools(): string | null {
  const missing = PROGRAMS.filter((program) => {
    try {
      execFileSync("which", [program], { stdio: "ignore" });
      return false;
    } catch {
      return true;
    }
  });
  const why = missing.length ? `missing: ${missing.join(", ")} (packages qemu-utils, libnbd-bin)` : null;
  if (why && process.env.CI) throw new Error(`Disk programs must run in CI; ${why}`);
  return why;
}

const execute = promisify(execFile);

/** What a program wrote; rejects with what it said when it failed. */
export async function run(
  program: (typeof PROGRAMS)[number] | "mke2fs" | "sfdisk",
  ...args: string[]
): Promise<string> {
  const { stdout } = await execute(program, args, { maxBuffer: 64 * 1024 * 1024 });
  return stdout;
}
