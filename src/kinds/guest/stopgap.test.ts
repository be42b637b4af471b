import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { MemoryDevice } from "../../../tests/memory-device";
import { patientDevice } from "./stopgap";

const failing = (error: Error, times: number) => {
  const device = new MemoryDevice(4096, true);
  let left = times;
  return Object.assign(device, {
    read: async (_offset: number, length: number) => {
      left -= 1;
      if (left >= 0) throw error;
      return Buffer.alloc(length, 7);
    },
  });
};

describe("a device for a guest that runs from a depot", () => {
  it("waits while the depot does not answer, says so, and goes on", async () => {
    const heard: string[] = [];
    const away = new CodedError("depot.not-reached", "the share is away");
    const device = patientDevice(failing(away, 5), (error) => heard.push(error.message), 5000, 10);
    expect(await device.read(0, 10)).toEqual(Buffer.alloc(10, 7));
    expect(heard).toHaveLength(5);
    expect(heard[0]).toContain("the share is away");
    expect(device).toMatchObject({ size: 4096, readOnly: true });
  });

  it("gives up after its patience, and at once where waiting does not help", async () => {
    const away = new CodedError("depot.not-reached", "away");
    await expect(patientDevice(failing(away, 1000), () => {}, 100, 10).read(0, 10)).rejects.toBe(away);
    const damaged = new CodedError("store.damaged", "altered");
    const started = Date.now();
    await expect(patientDevice(failing(damaged, 1), () => {}, 60_000, 10).read(0, 10)).rejects.toBe(damaged);
    expect(Date.now() - started).toBeLessThan(1000);
  });
});
