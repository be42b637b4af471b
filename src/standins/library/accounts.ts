import { createHash, randomBytes, timingSafeEqual } from "node:crypto";
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";

/** People and clients of the stand-in, its grants and tokens: two files in its folder, so that they outlive it. */

interface World {
  readonly people: readonly { readonly name: string; readonly password: string }[];
  /** Programs that people may authorise (RFC 6749, section 2). */
  readonly clients: readonly {
    readonly id: string;
    readonly secret: string | null;
    /** Addresses that the browser may return to; `*` at the end stands for any. */
    readonly redirects: readonly string[];
  }[];
}

interface Grant {
  readonly person: string;
  readonly client: string;
  /** Digest of the refresh token that is valid; each use replaces it. */
  refresh: string;
  access: string;
  /** Milliseconds since 1970. */
  expires: number;
}

interface Code {
  readonly person: string;
  readonly client: string;
  readonly redirect: string;
  readonly challenge: string;
  readonly expires: number;
}

export interface Tokens {
  readonly access_token: string;
  readonly refresh_token: string;
  readonly token_type: "Bearer";
  readonly expires_in: number;
}

const CODE_MS = 60_000;
const digest = (text: string): string => createHash("sha256").update(text).digest("base64url");
const same = (a: string, b: string): boolean =>
  timingSafeEqual(createHash("sha256").update(a).digest(), createHash("sha256").update(b).digest());
const secretText = (): string => randomBytes(24).toString("base64url");

export class LibraryAccounts {
  private readonly codes = new Map<string, Code>();
  private readonly grantsFile: string;

  constructor(
    private readonly folder: string,
    private readonly tokenSeconds = 300,
  ) {
    this.grantsFile = join(folder, "grants.json");
  }

  private get world(): World {
    return JSON.parse(readFileSync(join(this.folder, "accounts.json"), "utf8")) as World;
  }

  person(name: string, password: string): string | null {
    const found = this.world.people.find((one) => one.name === name);
    return found && same(found.password, password) ? found.name : null;
  }

  client(id: string): World["clients"][number] | null {
    return this.world.clients.find((one) => one.id === id) ?? null;
  }

  takesRedirect(client: string, redirect: string): boolean {
    return (
      this.client(client)?.redirects.some((one) =>
        one.endsWith("*") ? redirect.startsWith(one.slice(0, -1)) : redirect === one,
      ) ?? false
    );
  }

  isClient(id: string, secret: string | null): boolean {
    const client = this.client(id);
    return client !== null && (client.secret === null || same(client.secret, secret ?? ""));
  }

  /** A code for a person who has agreed. */
  issueCode(code: Omit<Code, "expires">): string {
    const text = secretText();
    this.codes.set(digest(text), { ...code, expires: Date.now() + CODE_MS });
    return text;
  }

  /** Exchanges a code, once (RFC 7636, section 4.6); null where it is not valid. */
  exchange(code: string, client: string, redirect: string, verifier: string): Tokens | null {
    const key = digest(code);
    const found = this.codes.get(key);
    this.codes.delete(key);
    if (!found || found.expires < Date.now() || found.client !== client || found.redirect !== redirect)
      return null;
    if (digest(verifier) !== found.challenge) return null;
    return this.issue({ person: found.person, client });
  }

  /** Replaces a refresh token; null where it is not valid any more. */
  refresh(token: string, client: string): Tokens | null {
    const grant = this.grants.find((one) => one.refresh === digest(token) && one.client === client);
    return grant ? this.issue(grant, grant.refresh) : null;
  }

  /** The person of a token that has not expired. */
  bearer(token: string): string | null {
    const found = this.grants.find((one) => one.access === digest(token));
    return found && found.expires > Date.now() ? found.person : null;
  }

  /** Ends every grant, as when a person changes the password. */
  endGrants(): void {
    this.save([]);
  }

  private get grants(): Grant[] {
    return existsSync(this.grantsFile) ? (JSON.parse(readFileSync(this.grantsFile, "utf8")) as Grant[]) : [];
  }

  private save(grants: readonly Grant[]): void {
    writeFileSync(this.grantsFile, `${JSON.stringify(grants, null, 2)}\n`);
  }

  private issue({ person, client }: Pick<Grant, "person" | "client">, instead: string | null = null): Tokens {
    const [access, refresh] = [secretText(), secretText()];
    this.save([
      ...this.grants.filter((one) => one.refresh !== instead),
      {
        person,
        client,
        refresh: digest(refresh),
        access: digest(access),
        expires: Date.now() + this.tokenSeconds * 1000,
      },
    ]);
    return {
      access_token: access,
      refresh_token: refresh,
      token_type: "Bearer",
      expires_in: this.tokenSeconds,
    };
  }
}
