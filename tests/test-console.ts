import { type ChildProcess, spawn } from "node:child_process";
import { randomUUID } from "node:crypto";
import { mkdirSync, openSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { inject } from "vitest";
import { insertPerson, limitToClients } from "@/db/access/people";
import { insertToken } from "@/db/access/sessions";
import { setProvider } from "@/db/clients/clients";
import { AGENT_ENVIRONMENT, agentProgram } from "@/operate/agent-program";
import {
  answers,
  type DatabaseAccess,
  ensureMasterKey,
  freePort,
  serverPid,
  startCluster,
  stopCluster,
} from "@/operate/cluster";
import { hashPassword } from "@/server/access/sign-in";
import { makeServices, type Services } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { hashSecret, randomSecret } from "@/store/seal/secrets";
import { freshFolder } from "./depot";
import type { PersonRow } from "./people";
import { copyTemplate } from "./template";

const PROJECT = process.cwd();
const PASSWORD = "lantern over the quay";

export interface Answer<T = Record<string, unknown>> {
  readonly status: number;
  readonly body: T;
  readonly headers: Headers;
}

/** A whole console for tests: PostgreSQL, web and runner as real processes, in a folder and on ports of its own. */
export class TestConsole {
  private web: ChildProcess | null = null;
  private runner: ChildProcess | null = null;
  private viewer: ChildProcess | null = null;
  private readonly agents: ChildProcess[] = [];

  private constructor(
    readonly home: string,
    readonly port: number,
    readonly access: DatabaseAccess,
    public services: Services,
    readonly token: string,
    private readonly viewerPort: number,
  ) {}

  get url(): string {
    return `http://127.0.0.1:${this.port}`;
  }

  static async start(options: { empty?: boolean; runner?: boolean } = {}): Promise<TestConsole> {
    const home = freshFolder("console");
    mkdirSync(join(home, "log"));
    ensureMasterKey(home);
    await copyTemplate(inject("template"), home);
    const access = await startCluster(home, { fsync: "off" });
    const services = makeServices(readSettings({ ...process.env, DEEPKEEP_HOME: home }));
    const token = randomSecret();
    if (!options.empty) {
      await services.db.withScope({ role: "system" }, (tx) =>
        setProvider(tx, { name: "Lanternfold", zone: "Europe/London" }),
      );
    }
    const made = new TestConsole(home, await freePort(), access, services, token, await freePort());
    if (!options.empty)
      await made.addPerson(
        { email: "ines@lanternfold.example", name: "Ines Marlow", role: "owner", clientId: null },
        token,
      );
    made.startWeb();
    if (options.runner !== false) made.startRunner();
    await made.healthy();
    return made;
  }

  private env(): NodeJS.ProcessEnv {
    return {
      ...process.env,
      DEEPKEEP_HOME: this.home,
      DEEPKEEP_QUEUE_URL: this.access.owner,
      DEEPKEEP_VIEWER_PORT: String(this.viewerPort),
      DEEPKEEP_PORT: String(this.port),
      NODE_ENV: "production",
      NEXT_TELEMETRY_DISABLED: "1",
      // an answer that does not fit its schema fails
      DEEPKEEP_STRICT_ANSWERS: "1",
    };
  }

  private launch(
    name: string,
    args: readonly string[],
    more: Readonly<Record<string, string>> = {},
  ): ChildProcess {
    const log = openSync(join(this.home, "log", `${name}.log`), "a");
    return spawn(process.execPath, args, { env: { ...this.env(), ...more }, stdio: ["ignore", log, log] });
  }

  startWeb(more: Readonly<Record<string, string>> = {}): void {
    this.web = this.launch("web", [join(PROJECT, "dist/web.mjs")], more);
  }
  /** Another web of the same console, at a port of its own. */
  async startSecondWeb(): Promise<{ readonly url: string; end(): Promise<void> }> {
    const port = await freePort();
    const child = this.launch("web-2", [join(PROJECT, "dist/web.mjs")], { DEEPKEEP_PORT: String(port) });
    const url = `http://127.0.0.1:${port}`;
    await until(async () => (await fetch(`${url}/readyz`)).ok, "the second web does not answer", 60_000);
    return { url, end: () => gone(child) };
  }
  startRunner(more: Readonly<Record<string, string>> = {}): void {
    this.runner = this.launch("runner", [join(PROJECT, "dist/runner.mjs")], more);
  }
  /** Only where a test wants one. */
  startViewer(): void {
    this.viewer = this.launch("viewer", [join(PROJECT, "dist/viewer.mjs")]);
  }
  /** Which of the console's programs have ended by themselves. */
  ended = (): string[] =>
    Object.entries({ web: this.web, runner: this.runner, viewer: this.viewer })
      .filter(([, child]) => child && (child.exitCode !== null || child.signalCode !== null))
      .map(([name]) => name);
  runnerPid = (): number => this.runner!.pid!;
  killWeb = (): Promise<void> => gone(this.web);
  killViewer = (): Promise<void> => gone(this.viewer);
  killRunner = (): Promise<void> => gone(this.runner);

  async killDatabase(): Promise<void> {
    process.kill(await serverPid(this.access), "SIGKILL");
    await until(async () => !(await answers(this.access)), "the database does not die");
  }
  async startDatabase(): Promise<void> {
    await startCluster(this.home, { fsync: "off" });
  }

  async healthy(): Promise<void> {
    await until(
      async () => (await fetch(`${this.url}/readyz`)).ok,
      `the web does not answer: ${join(this.home, "log/web.log")}`,
      60_000,
    );
  }

  /** Adds a person with the password of all tests, and a token for the API. */
  async addPerson(person: PersonRow, token = randomSecret()): Promise<string> {
    const hash = await hashPassword(PASSWORD);
    const now = new Date();
    await this.services.db.withScope({ role: "system" }, async (tx) => {
      const id = randomUUID();
      await insertPerson(tx, { id, ...person }, hash, now);
      if (person.clientIds) await limitToClients(tx, id, person.clientIds);
      await insertToken(tx, hashSecret(token), id, "test", now, new Date(now.getTime() + 30 * 86_400_000));
    });
    return token;
  }
  readonly password = PASSWORD;

  async call<T = Record<string, unknown>>(
    method: string,
    path: string,
    body?: unknown,
    token: string | null = this.token,
    headers: Record<string, string> = {},
  ): Promise<Answer<T>> {
    const ask = () =>
      fetch(`${this.url}/api/v1${path}`, {
        method,
        headers: {
          ...(token ? { authorization: `Bearer ${token}` } : {}),
          ...(body === undefined ? {} : { "content-type": "application/json" }),
          ...headers,
        },
        ...(body === undefined ? {} : { body: typeof body === "string" ? body : JSON.stringify(body) }),
      });
    // the server closes a connection that rested while this end begins to use it again
    const response = await ask().catch((error: Error) => {
      const { code } = (error.cause ?? {}) as { code?: string };
      if (method === "GET" && code === "UND_ERR_SOCKET") return ask();
      throw error;
    });
    const text = await response.text();
    const json = /json(;|$)/.test(response.headers.get("content-type")?.replace("jsonl", "") ?? "");
    return {
      status: response.status,
      body: (json && text ? JSON.parse(text) : text) as T,
      headers: response.headers,
    };
  }

  /** Calls and expects success. */
  async ok<T = Record<string, never>>(method: string, path: string, body?: unknown): Promise<T> {
    const answer = await this.call<T>(method, path, body);
    if (answer.status >= 300)
      throw new Error(`${method} ${path}: ${answer.status} ${JSON.stringify(answer.body)}`);
    return answer.body;
  }

  /** Runs bin/agent's program to its end. */
  agent = (args: readonly string[]) => this.program("agent", args);
  /** Runs bin/keep's program to its end, as the operator of this console. */
  keep = (args: readonly string[]) => this.program("keep", args);

  private program(name: string, args: readonly string[]): Promise<{ code: number | null; output: string }> {
    return new Promise((resolve) => {
      const child = spawn(process.execPath, [join(PROJECT, `dist/${name}.mjs`), ...args], {
        env: this.env(),
      });
      let output = "";
      for (const stream of [child.stdout, child.stderr]) stream.on("data", (part) => (output += part));
      child.once("exit", (code) => resolve({ code, output }));
    });
  }

  /** Starts an agent that waits for work. */
  runAgent(state: string): ChildProcess {
    // with the settings that it has on a machine
    const args = [...agentProgram(PROJECT), "run", "--state", state];
    const child = this.launch("agent", args, AGENT_ENVIRONMENT);
    this.agents.push(child);
    return child;
  }

  /** Waits until a run has ended and returns it. */
  async runEnds(runId: string, ms = 60_000): Promise<EndedRun> {
    let run: EndedRun | undefined;
    await until(
      async () => {
        run = (await this.call<{ run: EndedRun }>("GET", `/runs/${runId}`)).body.run;
        return run?.state === "ended";
      },
      `the run ${runId} does not end`,
      ms,
    );
    return run!;
  }

  logOf = (name: string): string => readFileSync(join(this.home, "log", `${name}.log`), "utf8");

  async stopAgents(): Promise<void> {
    for (const agent of this.agents.splice(0)) await gone(agent);
  }

  /** Web and runner again, after they were killed, with whatever the data folder says now. */
  async begin(): Promise<void> {
    this.services = makeServices(readSettings({ ...process.env, DEEPKEEP_HOME: this.home }));
    this.startWeb();
    this.startRunner();
    await this.healthy();
  }

  async stop(): Promise<void> {
    await this.stopAgents();
    await this.killRunner();
    await this.killWeb();
    await gone(this.viewer);
    await this.services.db.end();
    await stopCluster(this.access, "immediate");
  }
}

export interface EndedRun {
  readonly id: string;
  readonly state: string;
  readonly outcome: string;
  readonly code: string | null;
  readonly message: string | null;
  readonly attempt: number;
  readonly figures: Record<string, number> & { point?: string };
}

async function gone(child: ChildProcess | null): Promise<void> {
  if (!child || child.exitCode !== null || child.signalCode !== null) return;
  const ended = new Promise((resolve) => child.once("exit", resolve));
  child.kill("SIGKILL");
  await ended;
}
export const kill = gone;

/** Waits until something holds; errors meanwhile count as “not yet”. */
export async function until(holds: () => Promise<boolean>, otherwise: string, ms = 30_000): Promise<void> {
  const deadline = performance.now() + ms;
  while (!(await holds().catch(() => false))) {
    if (performance.now() > deadline) throw new Error(otherwise);
    await pause(100);
  }
}
