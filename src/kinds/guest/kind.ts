import type { Kind } from "../kind";

export const GUEST = {
  sources: "guests",
  item: "file",
  items: "files",
  restored: { one: "guest", many: "guests" },
  unit: { one: "guest", many: "guests" },
  starts: true,
  shared: false,
  nameElsewhere: "Enter a name for the new guest.",
  reachedBy: "network",
  connection: {
    name: "Hypervisor host",
    requires:
      "Requires: the address of a libvirt host with QEMU that the console's account may manage, or of a host with the host API and its token.",
  },
} as const satisfies Kind;
