import { XMLParser } from "fast-xml-parser";

/** The XML of WebDAV (RFC 4918) as far as a read-only address speaks it. */

/** The name of a property: its namespace and its local name. */
export interface PropertyName {
  readonly namespace: string;
  readonly name: string;
}
export const DAV = "DAV:";

/** What a PROPFIND asks for. */
export type Asked =
  | { readonly kind: "all" }
  | { readonly kind: "names" }
  | { readonly kind: "some"; readonly properties: readonly PropertyName[] };

interface Node {
  readonly name: string;
  readonly attributes: Readonly<Record<string, string>>;
  readonly children: readonly Node[];
}

type Ordered = Record<string, unknown>;
const ATTRIBUTES = ":@";

function nodesOf(ordered: unknown): Node[] {
  if (!Array.isArray(ordered)) return [];
  return (ordered as Ordered[]).flatMap((one) => {
    const name = Object.keys(one).find((key) => key !== ATTRIBUTES && key !== "#text");
    if (name === undefined || name.startsWith("?")) return [];
    const attributes = (one[ATTRIBUTES] ?? {}) as Record<string, string>;
    return [{ name, attributes, children: nodesOf(one[name]) }];
  });
}

/** The namespaces that hold within a node. */
function spacesWithin(node: Node, outside: ReadonlyMap<string, string>): Map<string, string> {
  const spaces = new Map(outside);
  for (const [name, value] of Object.entries(node.attributes)) {
    if (name === "xmlns") spaces.set("", value);
    else if (name.startsWith("xmlns:")) spaces.set(name.slice(6), value);
  }
  return spaces;
}

function nameOf(node: Node, spaces: ReadonlyMap<string, string>): PropertyName {
  const colon = node.name.indexOf(":");
  const prefix = colon < 0 ? "" : node.name.slice(0, colon);
  return { namespace: spaces.get(prefix) ?? "", name: node.name.slice(colon + 1) };
}

const parser = new XMLParser({
  preserveOrder: true,
  ignoreAttributes: false,
  attributeNamePrefix: "",
  // nothing that a document declares is expanded
  processEntities: false,
  parseTagValue: false,
  parseAttributeValue: false,
});

/** Reads the body of a PROPFIND; an empty one asks for all. Throws where it is no such XML. */
export function readAsked(body: string): Asked {
  if (body.trim() === "") return { kind: "all" };
  const [root] = nodesOf(parser.parse(body, true));
  if (!root) throw new Error("there is no XML element in it");
  const spaces = spacesWithin(root, new Map());
  const top = nameOf(root, spaces);
  if (top.namespace !== DAV || top.name !== "propfind") throw new Error("it is no DAV: propfind");
  for (const child of root.children) {
    const within = spacesWithin(child, spaces);
    const { namespace, name } = nameOf(child, within);
    if (namespace !== DAV) continue;
    if (name === "allprop") return { kind: "all" };
    if (name === "propname") return { kind: "names" };
    if (name === "prop")
      return {
        kind: "some",
        properties: child.children.map((property) => nameOf(property, spacesWithin(property, within))),
      };
  }
  throw new Error("the request names no property");
}

/** Text for XML. Characters that XML 1.0 cannot hold become U+FFFD. */
export const xmlText = (text: string): string =>
  text
    .replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]/g, "\ufffd")
    .replace(
      /[&<>"]/g,
      (char) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[char] as string,
    );

/** Properties of one resource: those of `DAV:` by name, each with its content as XML. */
export type Properties = Readonly<Record<string, string>>;

const element = ({ namespace, name }: PropertyName, content: string): string =>
  namespace === DAV
    ? `<d:${name}>${content}</d:${name}>`
    : namespace === ""
      ? `<${name} xmlns="">${content}</${name}>`
      : `<x:${name} xmlns:x="${xmlText(namespace)}">${content}</x:${name}>`;

const propstat = (inner: string, status: string): string =>
  inner && `<d:propstat><d:prop>${inner}</d:prop><d:status>HTTP/1.1 ${status}</d:status></d:propstat>`;

/** One response of a multistatus. */
export function responseOf(href: string, properties: Properties, asked: Asked): string {
  const own = Object.keys(properties).map((name) => ({ namespace: DAV, name }));
  const wanted = asked.kind === "some" ? asked.properties : own;
  const has = (one: PropertyName) => one.namespace === DAV && Object.hasOwn(properties, one.name);
  const there = wanted
    .filter(has)
    .map((one) => element(one, asked.kind === "names" ? "" : properties[one.name]!))
    .join("");
  const missing = wanted
    .filter((one) => !has(one))
    .map((one) => element(one, ""))
    .join("");
  const stats = propstat(there, "200 OK") + propstat(missing, "404 Not Found");
  // a response without any is not allowed
  return `<d:response><d:href>${xmlText(href)}</d:href>${stats || "<d:propstat><d:prop/><d:status>HTTP/1.1 200 OK</d:status></d:propstat>"}</d:response>`;
}

export const MULTISTATUS_BEGIN = `<?xml version="1.0" encoding="utf-8"?>\n<d:multistatus xmlns:d="DAV:">`;
export const MULTISTATUS_END = "</d:multistatus>";
