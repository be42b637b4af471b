import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { join } from "node:path";
import { closeServer, listenOnLoopback } from "../loopback";
import { LibraryAccounts } from "./accounts";
import { answerFiles } from "./files";

/**
 * A file library as a program: WebDAV below `/dav/`, with passwords (Basic) or tokens, and a sign-in page where people
 * authorise programs (OAuth 2.0: authorization code with PKCE, and refresh tokens that are replaced at each use).
 */
export interface LibraryOptions {
  /** It has `accounts.json`, and `files` with what the library contains. */
  readonly folder: string;
  /** How long a token is valid. */
  readonly tokenSeconds?: number;
  /** More requests in a second are refused with 429; none: no limit. */
  readonly perSecond?: number | null;
}

const escaped = (text: string): string =>
  text.replaceAll(/[&<>"]/g, (one) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[one]!);
const BODY_MOST = 64 * 1024;

async function formOf(request: IncomingMessage): Promise<URLSearchParams> {
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of request as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > BODY_MOST) throw new RangeError("too large");
    parts.push(part);
  }
  return new URLSearchParams(Buffer.concat(parts).toString("utf8"));
}

function basicOf(header: string): readonly [user: string, password: string] | null {
  const [, encoded] = /^Basic +(.+)$/i.exec(header) ?? [];
  if (!encoded) return null;
  const text = Buffer.from(encoded, "base64").toString("utf8");
  const cut = text.indexOf(":");
  return cut < 0 ? null : [text.slice(0, cut), text.slice(cut + 1)];
}

export class LibraryServer {
  readonly accounts: LibraryAccounts;
  private readonly server: Server;
  private origin = "";
  private second = { at: 0, requests: 0 };

  constructor(private readonly options: LibraryOptions) {
    this.accounts = new LibraryAccounts(options.folder, options.tokenSeconds);
    this.server = createServer((request, response) => {
      this.answer(request, response).catch(() => {
        if (!response.headersSent) response.writeHead(500);
        response.end();
      });
    });
  }

  async listen(port: number): Promise<string> {
    this.origin = await listenOnLoopback(this.server, port);
    return this.origin;
  }
  close(): Promise<void> {
    return closeServer(this.server);
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (this.tooMany()) {
      response.writeHead(429, { "retry-after": "1" }).end();
      return;
    }
    const { pathname, searchParams } = new URL(request.url ?? "/", this.origin);
    if (pathname === "/.well-known/oauth-authorization-server") return this.metadata(response);
    if (pathname === "/authorise")
      return request.method === "POST"
        ? this.decided(await formOf(request), response)
        : this.page(searchParams, response, null);
    if (pathname === "/token" && request.method === "POST") return this.token(request, response);
    if (!/^\/dav(\/|$)/.test(pathname)) {
      response.writeHead(404).end();
      return;
    }
    const header = request.headers.authorization ?? "";
    const basic = basicOf(header);
    const person = basic
      ? this.accounts.person(...basic)
      : this.accounts.bearer(/^Bearer +(.+)$/i.exec(header)?.[1] ?? "");
    if (!person) {
      response.writeHead(401, { "www-authenticate": 'Basic realm="Library", charset="UTF-8"' }).end();
      return;
    }
    const path = decodeURIComponent(pathname.slice("/dav".length)) || "/";
    if (path.includes("\0") || path.split("/").includes("..")) {
      response.writeHead(400).end();
      return;
    }
    await answerFiles(request, response, "/dav", join(this.options.folder, "files"), path);
  }

  private tooMany(): boolean {
    const at = Math.floor(Date.now() / 1000);
    this.second = { at, requests: this.second.at === at ? this.second.requests + 1 : 1 };
    return this.second.requests > (this.options.perSecond ?? Number.POSITIVE_INFINITY);
  }

  /** RFC 8414. */
  private metadata(response: ServerResponse): void {
    json(response, 200, {
      issuer: this.origin,
      authorization_endpoint: `${this.origin}/authorise`,
      token_endpoint: `${this.origin}/token`,
      response_types_supported: ["code"],
      grant_types_supported: ["authorization_code", "refresh_token"],
      code_challenge_methods_supported: ["S256"],
      token_endpoint_auth_methods_supported: ["client_secret_basic", "none"],
      authorization_response_iss_parameter_supported: true,
    });
  }

  /** Where a person signs in and agrees. What is wrong with the request itself is never sent elsewhere. */
  private page(asked: URLSearchParams, response: ServerResponse, wrong: string | null): void {
    const [client, redirect] = [asked.get("client_id") ?? "", asked.get("redirect_uri") ?? ""];
    const sound =
      this.accounts.takesRedirect(client, redirect) &&
      asked.get("response_type") === "code" &&
      asked.get("code_challenge_method") === "S256" &&
      Boolean(asked.get("code_challenge"));
    const hidden = [...asked]
      .filter(([name]) => !["name", "password", "decision"].includes(name))
      .map(([name, value]) => `<input type="hidden" name="${escaped(name)}" value="${escaped(value)}">`)
      .join("");
    const body = sound
      ? `<h1>Sign in to the library</h1><p><b>${escaped(client)}</b> asks to read and change the files that you can open.</p>
         ${wrong ? `<p role="alert">${escaped(wrong)}</p>` : ""}
         <form method="post" action="/authorise">${hidden}
         <label>Name<input name="name" autocomplete="username" required></label>
         <label>Password<input name="password" type="password" autocomplete="current-password" required></label>
         <button name="decision" value="allow">Allow</button>
         <button name="decision" value="deny" formnovalidate>Deny</button></form>`
      : "<h1>This request cannot be authorised</h1><p>The program is not registered here, or does not ask as it should.</p>";
    response.writeHead(sound ? 200 : 400, {
      "content-type": "text/html; charset=utf-8",
      "content-security-policy": "default-src 'none'; style-src 'unsafe-inline'",
    });
    response.end(
      `<!doctype html><html lang="en"><title>Library</title><style>body{font:16px system-ui;max-width:26rem;margin:4rem auto;padding:0 1rem}label{display:block;margin:.7rem 0}input{display:block;width:100%;padding:.4rem;font:inherit}button{font:inherit;padding:.4rem 1rem;margin:.5rem .5rem 0 0}</style>${body}</html>`,
    );
  }

  private decided(form: URLSearchParams, response: ServerResponse): void {
    const [client, redirect] = [form.get("client_id") ?? "", form.get("redirect_uri") ?? ""];
    if (!this.accounts.takesRedirect(client, redirect)) {
      this.page(form, response, null);
      return;
    }
    const person = this.accounts.person(form.get("name") ?? "", form.get("password") ?? "");
    const allowed = form.get("decision") === "allow";
    if (allowed && !person) {
      this.page(form, response, "The name or the password is wrong.");
      return;
    }
    const to = new URL(redirect);
    to.searchParams.set("state", form.get("state") ?? "");
    to.searchParams.set("iss", this.origin);
    if (allowed)
      to.searchParams.set(
        "code",
        this.accounts.issueCode({
          person: person!,
          client,
          redirect,
          challenge: form.get("code_challenge") ?? "",
        }),
      );
    else to.searchParams.set("error", "access_denied");
    response.writeHead(303, { location: to.href }).end();
  }

  private async token(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const form = await formOf(request);
    // RFC 6749, section 2.3.1: both are encoded as in a form
    const basic = basicOf(request.headers.authorization ?? "")?.map(
      (one) => new URLSearchParams(`v=${one}`).get("v") ?? "",
    );
    const [client, secret] = basic ?? [form.get("client_id") ?? "", null];
    if (!this.accounts.isClient(client!, secret ?? null))
      return json(response, 401, { error: "invalid_client" });
    const tokens =
      form.get("grant_type") === "authorization_code"
        ? this.accounts.exchange(
            form.get("code") ?? "",
            client!,
            form.get("redirect_uri") ?? "",
            form.get("code_verifier") ?? "",
          )
        : form.get("grant_type") === "refresh_token"
          ? this.accounts.refresh(form.get("refresh_token") ?? "", client!)
          : undefined;
    if (tokens === undefined) return json(response, 400, { error: "unsupported_grant_type" });
    if (!tokens) return json(response, 400, { error: "invalid_grant" });
    json(response, 200, tokens);
  }
}

function json(response: ServerResponse, status: number, body: object): void {
  response
    .writeHead(status, { "content-type": "application/json", "cache-control": "no-store" })
    .end(JSON.stringify(body));
}
