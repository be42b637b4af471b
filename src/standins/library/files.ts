import {
  createReadStream,
  createWriteStream,
  existsSync,
  mkdirSync,
  readdirSync,
  renameSync,
  rmSync,
  statSync,
} from "node:fs";
import type { IncomingMessage, ServerResponse } from "node:http";
import { basename, dirname, join } from "node:path";
import { pipeline } from "node:stream/promises";

/** The files of the stand-in by WebDAV (RFC 4918, class 1, without properties of its own): a folder of this machine. */

const escaped = (text: string): string =>
  text.replaceAll(/[&<>"]/g, (one) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[one]!);
const encoded = (path: string): string => path.split("/").map(encodeURIComponent).join("/");

/** Changes with each version of a file. */
function etagOf(path: string): string {
  const { mtimeNs, size, ino } = statSync(path, { bigint: true });
  return `"${mtimeNs.toString(36)}-${size.toString(36)}-${ino.toString(36)}"`;
}

function responseOf(prefix: string, folder: string, path: string): string {
  const file = join(folder, path);
  const stat = statSync(file);
  const props = stat.isDirectory()
    ? "<resourcetype><collection/></resourcetype>"
    : `<resourcetype/><getcontentlength>${stat.size}</getcontentlength><getetag>${escaped(etagOf(file))}</getetag>`;
  const href = `${prefix}${encoded(path)}${stat.isDirectory() && !path.endsWith("/") ? "/" : ""}`;
  return `<response><href>${escaped(href)}</href><propstat><prop>${props}<getlastmodified>${stat.mtime.toUTCString()}</getlastmodified></prop><status>HTTP/1.1 200 OK</status></propstat></response>`;
}

/** Whether what is there is what a request asks for (RFC 9110, section 13). */
function holds(request: IncomingMessage, file: string): boolean {
  const there = existsSync(file);
  const { "if-match": match, "if-none-match": none } = request.headers;
  if (none === "*" && there) return false;
  if (match && !there) return false;
  return !match || match === "*" || match === etagOf(file);
}

/** Answers a request below `prefix` from a folder. `path` begins with a slash and has no `..`. */
export async function answerFiles(
  request: IncomingMessage,
  response: ServerResponse,
  prefix: string,
  folder: string,
  path: string,
): Promise<void> {
  const file = join(folder, path);
  const there = existsSync(file) ? statSync(file) : null;
  const end = (status: number, headers: Record<string, string> = {}) => {
    response.writeHead(status, headers).end();
  };
  switch (request.method) {
    case "OPTIONS":
      return end(200, { dav: "1", allow: "OPTIONS, PROPFIND, GET, HEAD, PUT, MKCOL, DELETE, MOVE" });
    case "PROPFIND": {
      if (!there) return end(404);
      const below =
        there.isDirectory() && request.headers.depth !== "0"
          ? readdirSync(file).map((name) => `${path.replace(/\/+$/, "")}/${name}`)
          : [];
      response.writeHead(207, { "content-type": "application/xml; charset=utf-8" });
      response.end(
        `<?xml version="1.0" encoding="utf-8"?><multistatus xmlns="DAV:">${[path, ...below]
          .map((one) => responseOf(prefix, folder, one))
          .join("")}</multistatus>`,
      );
      return;
    }
    case "GET":
    case "HEAD": {
      if (!there) return end(404);
      if (there.isDirectory()) return end(405);
      const etag = etagOf(file);
      const range =
        request.headers["if-range"] === etag ? /^bytes=(\d+)-$/.exec(request.headers.range ?? "") : null;
      const from = range ? Number(range[1]) : 0;
      response.writeHead(range ? 206 : 200, {
        etag,
        "content-length": String(there.size - from),
        "last-modified": there.mtime.toUTCString(),
        ...(range ? { "content-range": `bytes ${from}-${there.size - 1}/${there.size}` } : {}),
      });
      if (request.method === "HEAD" || there.size === from) response.end();
      else await pipeline(createReadStream(file, { start: from }), response);
      return;
    }
    case "PUT": {
      if (there?.isDirectory() || !existsSync(dirname(file))) return end(409);
      if (!holds(request, file)) return end(412);
      // whole or not at all
      const unfinished = join(dirname(file), `.${basename(file)}.unfinished`);
      try {
        await pipeline(request, createWriteStream(unfinished));
      } catch {
        rmSync(unfinished, { force: true });
        return end(400);
      }
      renameSync(unfinished, file);
      return end(there ? 204 : 201, { etag: etagOf(file) });
    }
    case "MKCOL":
      if (there) return end(405);
      if (!existsSync(dirname(file))) return end(409);
      mkdirSync(file);
      return end(201);
    case "DELETE":
      if (!there) return end(404);
      rmSync(file, { recursive: true });
      return end(204);
    case "MOVE": {
      const { pathname } = new URL(String(request.headers.destination), "http://localhost");
      const to = decodeURIComponent(pathname);
      if (!there) return end(404);
      if (!to.startsWith(`${prefix}/`) || to.split("/").includes("..")) return end(403);
      renameSync(file, join(folder, to.slice(prefix.length)));
      return end(201);
    }
    default:
      return end(405);
  }
}
