import { mkdirSync, writeFileSync } from "node:fs";
import { hostname } from "node:os";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { systemReport } from "@/core/protocol/agent";
import { mountsOf } from "@/kinds/files/volume-snapshot";
import { freshFolder } from "../../tests/depot";
import { describeSystem, machineName } from "./system";

/** The disk of a machine, with what its system says of itself. */
function disk(files: Readonly<Record<string, string>>): string {
  const root = freshFolder("machine");
  mkdirSync(join(root, "etc"));
  for (const [name, text] of Object.entries(files)) writeFileSync(join(root, "etc", name), text);
  return root;
}
/** As `/proc/self/mounts` has them: spaces and other odd characters as octal numbers. */
const mounted = (...lines: [device: string, path: string, system: string][]) =>
  mountsOf(
    lines
      .map(
        ([device, path, system]) => `${device} ${path.replaceAll(" ", "\\040")} ${system} rw,relatime 0 0\n`,
      )
      .join(""),
  );

describe("what an agent says of its machine", () => {
  it("is its name and its system, from its own disk", () => {
    const root = disk({
      hostname: "voss-lt-01\n",
      "os-release": 'NAME="Debian GNU/Linux"\nPRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\nID=debian\n',
    });
    const report = describeSystem(root, root);
    expect(report).toMatchObject({ hostname: "voss-lt-01", system: "Debian GNU/Linux 12 (bookworm)" });
    expect(systemReport.safeParse(report).success).toBe(true);
    // the disk of another machine is its only volume
    expect(report.volumes.map(({ path }) => path)).toEqual(["/"]);
    expect(report.volumes[0]!.size).toBeGreaterThan(report.volumes[0]!.free);
  });

  it.each([
    ["Hanne's laptop\n", "Hanne-s-laptop"],
    ["küche.vossel.example", "k-che.vossel.example"],
    ["x".repeat(80), "x".repeat(63)],
    ["\n", hostname()],
  ])("has a name that can be one, where the disk says %j", (said, name) => {
    expect(machineName(disk({ hostname: said }))).toBe(name.replace(/[^A-Za-z0-9._-]/g, "-").slice(0, 63));
  });

  it("has a system and a name also where its disk does not say which", () => {
    const report = describeSystem(disk({}), "/nowhere/at/all");
    expect(report.system).toBe("Linux");
    expect(report.hostname.length).toBeGreaterThan(0);
    expect(report.workFolder).toBeUndefined();
    expect(systemReport.safeParse(report).success).toBe(true);
  });

  it("has each disk and share once, under the name of its folder, and nothing that only looks like one", () => {
    const photos = join(freshFolder("volumes"), "Hanne's photos (älter)");
    mkdirSync(photos);
    const volumes = (...lines: Parameters<typeof mounted>) =>
      describeSystem("/", "/", mounted(...lines)).volumes.map(({ path }) => path);
    expect(
      volumes(
        ["proc", "/proc", "proc"],
        ["/dev/vda", "/", "ext4"],
        ["tmpfs", "/dev/shm", "tmpfs"],
        ["/dev/vdb1", Buffer.from(photos).toString("latin1"), "xfs"],
        // the same disk again
        ["/dev/vda", "/usr", "ext4"],
        ["server:/share", "/not/there/now", "nfs4"],
      ),
    ).toEqual(["/", photos]);
  });

  it("has the folder that it works in: on what it lies, and how much is free there", () => {
    const folder = freshFolder("agent");
    const report = (...lines: Parameters<typeof mounted>) =>
      describeSystem("/", join(folder, "not made yet"), mounted(...lines)).workFolder;
    expect(report(["/dev/vda", "/", "ext4"])).toMatchObject({ fileSystem: "ext4", onSystemVolume: true });
    expect(report(["/dev/vda", "/", "ext4"], ["server:/home", folder, "nfs4"])).toMatchObject({
      fileSystem: "nfs4",
      onSystemVolume: false,
    });
    expect(report(["/dev/vda", "/", "ext4"])!.free).toBeGreaterThan(0);
    // a folder beside it whose name begins in the same way is another one
    expect(report(["/dev/vda", "/", "ext4"], ["server:/home", folder.slice(0, -1), "nfs4"])).toMatchObject({
      fileSystem: "ext4",
    });
    expect(report()).toBeUndefined();
  });
});
