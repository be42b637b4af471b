import { CodedError } from "@/core/codes";
import { counted } from "@/core/units/duration";
import { trySteps } from "@/store/steps";
import type { OpenConnection } from "../connection-base";
import type { FoundSource, NetworkAccess } from "../network";
import { hostAddress } from "./address";
import { guestOf } from "./browse";
import { STEPS } from "./connecting";
import type { HypervisorHost } from "./host";
import { LibvirtHost } from "./libvirt";
import { GuestReader } from "./reader";
import { restoreGuest } from "./restore";
import { ServiceHost } from "./service";
import type { GuestSettings } from "./settings";
import type { GuestWhat } from "./what";

function hostOf(connection: OpenConnection<GuestSettings>): HypervisorHost {
  const address = hostAddress(connection.address);
  if (!address) throw new CodedError("source.not-reached", `${connection.address} is no address of a host`);
  // whoever manages the hypervisor of this machine manages this machine
  if (address.by === "libvirt" && !address.host && process.env.DEEPKEEP_LOCAL_HYPERVISOR !== "yes")
    throw new CodedError(
      "address.forbidden",
      "the hypervisor of the console's own machine; the operator allows it with DEEPKEEP_LOCAL_HYPERVISOR=yes",
    );
  return address.by === "libvirt"
    ? new LibvirtHost(address.uri, address.host, connection)
    : new ServiceHost(address.url, connection);
}

export const GUEST_ACCESS: NetworkAccess<GuestSettings, GuestWhat> = {
  async test(connection) {
    let host!: HypervisorHost;
    let found: FoundSource[] = [];
    const test = await trySteps([
      [
        STEPS.find,
        async () => {
          host = hostOf(connection);
          await host.find();
          return null;
        },
      ],
      [STEPS.signIn, () => host.signIn()],
      [
        STEPS.list,
        async () => {
          const guests = await host.guests();
          found = guests.map(({ id, name, path }) => ({
            id,
            name: path.length ? `${name} on ${path.at(-1)}` : name,
          }));
          return `${counted(found.length, "guest")} found`;
        },
      ],
    ]);
    return { ...test, found };
  },
  async open(connection, id, what, { sourceId, previous }) {
    const before = previous && (await guestOf(previous.store, previous.root).catch(() => null));
    const opened = await GuestReader.open(
      hostOf(connection),
      id,
      what,
      sourceId.replaceAll("-", "").slice(0, 12),
      before?.checkpoint ?? null,
    );
    return {
      ...opened,
      reset:
        opened.reset ??
        (before && !before.checkpoint
          ? "All disks are read: the host kept no checkpoint with the last recovery point."
          : null),
      folders: ["/"],
    };
  },
  restore: (connection, id, work) => restoreGuest(hostOf(connection), id, work),
};
