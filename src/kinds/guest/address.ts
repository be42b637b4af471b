/** The addresses of hypervisor hosts, and what is reached by them. */
export type HostAddress =
  | { readonly by: "libvirt"; readonly uri: string; readonly host: string | null }
  | { readonly by: "service"; readonly url: string; readonly host: string };

const LIBVIRT = /^qemu(?:\+(ssh|tls|unix))?:$/;
/** Names and numbers of hosts; nothing that a program could take for an option. */
const HOST = /^[A-Za-z0-9[][A-Za-z0-9.:[\]-]*$/;
const USER = /^[A-Za-z0-9_][A-Za-z0-9_.-]*$/;

/**
 * An address as it is typed; null for one that leads nowhere or says more than where: a libvirt address can name programs to
 * run on this machine (`command`, `netcat`), so nothing but a socket is taken.
 */
export function hostAddress(text: string): HostAddress | null {
  if (!URL.canParse(text)) return null;
  const url = new URL(text);
  const { protocol, hostname, username, password, pathname, hash } = url;
  if (password || hash) return null;
  if (protocol === "http:" || protocol === "https:")
    return username || url.search || !hostname
      ? null
      : { by: "service", url: text.replace(/\/+$/, ""), host: hostname.replace(/^\[|\]$/g, "") };
  const transport = LIBVIRT.exec(protocol);
  if (!transport || !/^\/(system|session)$/.test(pathname)) return null;
  const remote = transport[1] === "ssh" || transport[1] === "tls";
  if (remote ? !HOST.test(hostname) : hostname !== "") return null;
  if (username && (transport[1] !== "ssh" || !USER.test(username))) return null;
  const given = [...url.searchParams];
  const isSocket = ([name, value]: [string, string]) =>
    name === "socket" && transport[1] === "unix" && /^\/[A-Za-z0-9_./-]+$/.test(value);
  if (!given.every(isSocket) || given.length > 1) return null;
  return { by: "libvirt", uri: text, host: remote ? hostname.replace(/^\[|\]$/g, "") : null };
}
