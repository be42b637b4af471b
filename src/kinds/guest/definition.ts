import { XMLBuilder, XMLParser } from "fast-xml-parser";
import { CodedError } from "@/core/codes";
import { checkedDiskName, type GuestDescription } from "./host";

/** Definitions of guests as libvirt writes them (libvirt.org/formatdomain.html), read and changed without loss. */

/** An element: its name leads to what it contains, `:@` to its attributes. */
type Node = Record<string, unknown>;
const ATTRIBUTES = ":@";
const TEXT = "#text";
const options = {
  preserveOrder: true,
  ignoreAttributes: false,
  attributeNamePrefix: "",
  parseTagValue: false,
  parseAttributeValue: false,
  trimValues: true,
  processEntities: true,
} as const;

export function parseXml(xml: string): Node[] {
  try {
    return new XMLParser(options).parse(xml) as Node[];
  } catch (error) {
    throw new CodedError("source.unreadable", `a definition that is no XML: ${(error as Error).message}`);
  }
}
export const writeXml = (nodes: readonly Node[]): string =>
  new XMLBuilder({ ...options, format: true, suppressEmptyNode: true }).build(nodes as Node[]);

const nameOf = (node: Node): string => Object.keys(node).find((key) => key !== ATTRIBUTES) ?? "";
export const contentOf = (node: Node): Node[] => node[nameOf(node)] as Node[];
export const attributesOf = (node: Node): Record<string, string> =>
  (node[ATTRIBUTES] as Record<string, string> | undefined) ?? {};
export const all = (nodes: readonly Node[], name: string): Node[] =>
  nodes.filter((node) => nameOf(node) === name);
export function one(nodes: readonly Node[], ...path: string[]): Node | null {
  let found: Node | null = null;
  let inside = nodes;
  for (const name of path) {
    found = all(inside, name)[0] ?? null;
    if (!found) return null;
    inside = contentOf(found);
  }
  return found;
}
export const textOf = (node: Node | null): string =>
  node ? String(all(contentOf(node), TEXT)[0]?.[TEXT] ?? "") : "";

const element = (name: string, attributes: Record<string, string>, ...content: Node[]): Node => ({
  [name]: content,
  ...(Object.keys(attributes).length ? { [ATTRIBUTES]: attributes } : {}),
});
const text = (value: string): Node => ({ [TEXT]: value });

/** A disk of a guest as its definition has it. */
export interface DefinedDisk {
  readonly name: string;
  readonly format: string;
  /** How it is stored, such as `file`, `block` or `network`. */
  readonly storage: string;
  /** The file or device that it lies in; null where it lies elsewhere. */
  readonly path: string | null;
}

export interface Definition {
  readonly id: string;
  readonly name: string;
  readonly memory: number;
  readonly processors: number;
  readonly disks: readonly DefinedDisk[];
}

const UNITS: Readonly<Record<string, number>> = {
  b: 1,
  bytes: 1,
  KB: 1000,
  k: 1024,
  KiB: 1024,
  MB: 1e6,
  M: 1024 ** 2,
  MiB: 1024 ** 2,
  GB: 1e9,
  G: 1024 ** 3,
  GiB: 1024 ** 3,
  TiB: 1024 ** 4,
};

/** What we need to know of a definition. CD-ROM and floppy drives are no disks. */
export function readDefinition(xml: string): Definition {
  const domain = one(parseXml(xml), "domain");
  if (!domain) throw new CodedError("source.unreadable", "a definition without a domain");
  const inside = contentOf(domain);
  const memory = one(inside, "memory");
  return {
    id: textOf(one(inside, "uuid")),
    name: textOf(one(inside, "name")),
    memory: Number(textOf(memory)) * (UNITS[memory ? (attributesOf(memory).unit ?? "KiB") : "KiB"] ?? 1024),
    processors: Number(textOf(one(inside, "vcpu"))) || 1,
    disks: diskNodes(inside).map((disk) => {
      const content = contentOf(disk);
      const source = one(content, "source");
      const at = source ? attributesOf(source) : {};
      return {
        name: checkedDiskName(attributesOf(one(content, "target")!).dev ?? ""),
        storage: attributesOf(disk).type ?? "file",
        format: attributesOf(one(content, "driver") ?? {}).type ?? "raw",
        path: at.file ?? at.dev ?? null,
      };
    }),
  };
}

const diskNodes = (domain: readonly Node[]): Node[] =>
  all(contentOf(one(domain, "devices") ?? { devices: [] }), "disk").filter(
    (disk) => (attributesOf(disk).device ?? "disk") === "disk" && one(contentOf(disk), "target"),
  );

/** A disk that lies below an image: an export of an NBD server on a socket. */
export interface DiskSource {
  readonly socket: string;
  readonly name: string;
}
const backingOf = ({ socket, name }: DiskSource): Node =>
  element(
    "backingStore",
    { type: "network" },
    element("format", { type: "raw" }),
    element("source", { protocol: "nbd", name }, element("host", { transport: "unix", socket })),
    element("backingStore", {}),
  );

/** Names of the disks whose images lie over others. */
export function disksOverOthers(xml: string): Set<string> {
  const domain = one(parseXml(xml), "domain");
  const over = diskNodes(domain ? contentOf(domain) : []).filter((disk) =>
    one(contentOf(disk), "backingStore", "source"),
  );
  return new Set(over.map((disk) => attributesOf(one(contentOf(disk), "target")!).dev ?? ""));
}

/** Images of disks, and what lies below them, by the names of the disks. */
export interface Images {
  /** Paths of images of the format qcow2. */
  readonly images: ReadonlyMap<string, string>;
  readonly below?: ReadonlyMap<string, DiskSource>;
}

const without = (nodes: readonly Node[], ...names: string[]): Node[] =>
  nodes.filter((node) => !names.includes(nameOf(node)));
const only = (nodes: readonly Node[], names: readonly string[]): Node[] =>
  nodes.filter((node) => names.includes(nameOf(node)));
const set = (node: Node, content: Node[]): Node => {
  node[nameOf(node)] = content;
  return node;
};

/** A disk of a definition with another image. */
function withImage(disk: Node, kept: readonly Node[], { images, below }: Images): Node {
  const target = attributesOf(one(contentOf(disk), "target")!).dev ?? "";
  return {
    disk: [
      element("driver", { name: "qemu", type: "qcow2", discard: "unmap" }),
      element("source", { file: images.get(target)! }),
      ...(below?.has(target) ? [backingOf(below.get(target)!)] : []),
      ...kept,
    ],
    [ATTRIBUTES]: { ...attributesOf(disk), type: "file" },
  };
}

/** The definition that a host has of a guest, with other images for some of its disks; all else stays. */
export function withOtherImages(xml: string, changes: Images): string {
  const document = parseXml(xml);
  const domain = one(document, "domain");
  const devices = domain && one(contentOf(domain), "devices");
  if (!domain || !devices) throw new CodedError("source.unreadable", "a definition without devices");
  const disks = diskNodes(contentOf(domain));
  set(
    devices,
    contentOf(devices).map((device) =>
      disks.includes(device) && changes.images.has(attributesOf(one(contentOf(device), "target")!).dev ?? "")
        ? withImage(
            device,
            without(contentOf(device), "source", "driver", "backingStore", "auth", "mirror", "encryption"),
            changes,
          )
        : device,
    ),
  );
  return writeXml(document);
}

/**
 * What a new guest takes over from a stored definition. The definition may come from another host, or from somebody who would
 * reach the host by it: nothing is taken over that names a program, a device or a file of the host.
 */
const TAKEN = [
  ...["name", "title", "description", "memory", "maxMemory", "currentMemory", "vcpu", "iothreads", "os"],
  ...["features", "cpu", "clock", "on_poweroff", "on_reboot", "on_crash", "pm", "devices"],
];
const TAKEN_OF_OS = ["type", "boot", "bootmenu", "bios", "smbios"];
const TAKEN_OF_DISK = ["target", "boot", "serial", "wwn", "address", "vendor", "product", "readonly"];
const TAKEN_OF_INTERFACE = ["source", "model", "boot", "link", "mtu"];
const INTERFACES = ["network", "bridge", "user"];
const INPUTS = ["mouse", "tablet", "keyboard"];
const DEVICES = ["controller", "sound", "watchdog", "memballoon", "panic"];
/** They are the host's own choice, or empty without what was taken out of them. */
const UNSAID = ["uuid", "metadata", "resource", "seclabel", "sysinfo", "emulator", "audio", "hub"];

export interface NewDefinition {
  readonly xml: string;
  /** Names of what was not taken over. */
  readonly leftOut: readonly string[];
}

/** A guest beside the original: with an id and network addresses of its own. Disks without an image are left out. */
export function newDefinition(xml: string, name: string, changes: Images): NewDefinition {
  const domain = one(parseXml(xml), "domain");
  if (!domain) throw new CodedError("store.damaged", "a definition without a domain");
  const leftOut = new Set<string>();
  const taken = (nodes: readonly Node[], names: readonly string[]): Node[] => {
    for (const node of nodes)
      if (![...names, ...UNSAID, TEXT].includes(nameOf(node))) leftOut.add(nameOf(node));
    return only(nodes, names);
  };
  const disks = diskNodes(contentOf(domain));
  const device = (node: Node): Node | null => {
    const kind = nameOf(node);
    const content = contentOf(node);
    if (disks.includes(node)) {
      const target = attributesOf(one(content, "target")!).dev ?? "";
      return changes.images.has(target) ? withImage(node, only(content, TAKEN_OF_DISK), changes) : null;
    }
    // a drive stays, what was in it does not
    if (kind === "disk" && one(content, "target"))
      return set(node, only(content, ["target", "readonly", "address"]));
    if (kind === "serial" || kind === "console")
      return element(kind, { type: "pty" }, ...only(content, ["target"]));
    if (kind === "channel" && ["unix", "spicevmc"].includes(attributesOf(node).type ?? ""))
      return set(node, only(content, ["target", "address"]));
    if (kind === "interface" && INTERFACES.includes(attributesOf(node).type ?? ""))
      return set(
        node,
        taken(content, [...TAKEN_OF_INTERFACE, "mac", "target", "alias", "address"]).filter((part) =>
          TAKEN_OF_INTERFACE.includes(nameOf(part)),
        ),
      );
    if (DEVICES.includes(kind)) return node;
    const { type = "" } = attributesOf(node);
    if (kind === "input" && INPUTS.includes(type)) return node;
    if (kind === "graphics" && ["vnc", "spice"].includes(type))
      return element(
        kind,
        { type, autoport: "yes" },
        element("listen", { type: "address", address: "127.0.0.1" }),
      );
    if (kind === "video") {
      const model = one(content, "model");
      return model ? element(kind, {}, element("model", attributesOf(model))) : null;
    }
    if (!UNSAID.includes(kind)) leftOut.add(kind);
    return null;
  };
  const parts = taken(contentOf(domain), TAKEN).map((part) => {
    switch (nameOf(part)) {
      case "name":
        return element("name", {}, text(name));
      case "os": {
        // the host finds firmware, and a file for its variables, by itself
        const loader = one(contentOf(part), "loader");
        if (loader && attributesOf(loader).type === "pflash")
          part[ATTRIBUTES] = { ...attributesOf(part), firmware: "efi" };
        return set(part, taken(without(contentOf(part), "nvram", "loader", "firmware"), TAKEN_OF_OS));
      }
      case "devices":
        return set(
          part,
          contentOf(part)
            .map(device)
            .filter((one) => one !== null),
        );
      default:
        return part;
    }
  });
  const type = attributesOf(domain).type === "kvm" ? "kvm" : "qemu";
  return { xml: writeXml([element("domain", { type }, ...parts)]), leftOut: [...leftOut].sort() };
}

/** A definition of a guest that comes from elsewhere: its memory, processors and disks, and a serial console. */
export function plainDefinition(
  { memory, processors }: GuestDescription,
  name: string,
  { images, below }: Images,
  type: "kvm" | "qemu",
): string {
  return writeXml([
    element(
      "domain",
      { type },
      element("name", {}, text(name)),
      element("memory", { unit: "b" }, text(String(memory))),
      element("vcpu", {}, text(String(processors))),
      element(
        "os",
        {},
        element("type", { arch: "x86_64", machine: "q35" }, text("hvm")),
        element("boot", { dev: "hd" }),
      ),
      element("features", {}, element("acpi", {}), element("apic", {})),
      element(
        "devices",
        {},
        ...[...images].map(([disk, file]) =>
          element(
            "disk",
            { type: "file", device: "disk" },
            element("driver", { name: "qemu", type: "qcow2", discard: "unmap" }),
            element("source", { file }),
            ...(below?.has(disk) ? [backingOf(below.get(disk)!)] : []),
            element("target", { dev: disk, bus: "virtio" }),
          ),
        ),
        element("serial", { type: "pty" }),
        element("console", { type: "pty" }),
      ),
    ),
  ]);
}

const LETTERS = "abcdefghijklmnopqrstuvwxyz";
/** The name of a disk of a guest that another kind of host named otherwise. */
export function plainName(number: number): string {
  const letter = LETTERS[number];
  if (!letter) throw new CodedError("restore.cannot-write", `a guest with more than ${LETTERS.length} disks`);
  return `vd${letter}`;
}
