import { existsSync, mkdirSync, readFileSync, realpathSync, rmSync, writeFileSync } from "node:fs";
import { get as getPlain } from "node:http";
import { get as getSecure } from "node:https";
import { createServer } from "node:net";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { AgentState } from "@/agent/state";
import { countPeople } from "@/db/access/people";
import { migrate } from "@/db/base/migrate";
import { moveBuckets } from "@/db/depots/depots";
import { listWebhooks, setMailPort, setWebhookUrl } from "@/db/notices/notices";
import { listConnections, setPlace } from "@/db/sources/connections";
import {
  type DemoStandin,
  demoMachines,
  demoStandins,
  signInFile,
  withMovedOrigin,
  writeStandins,
} from "@/demo/places";
import { seedDemo } from "@/demo/seed";
import type { ConnectionSettings } from "@/kinds/settings";
import { makeServices } from "@/server/base/services";
import { readSettings, type Settings } from "@/server/base/settings";
import { AGENT_ENVIRONMENT, agentProgram } from "./agent-program";
import { Children } from "./children";
import {
  answers,
  type DatabaseAccess,
  ensureMasterKey,
  freePort,
  readAccess,
  startCluster,
  stopCluster,
} from "./cluster";
import { settleMasterKey } from "./master-key";
import { webProgram } from "./web-program";

/** `bin/start`: brings up database, web, runner and the demo's agents, and ends all of it on Ctrl-C. */
const project = process.env.DEEPKEEP_PROJECT ?? process.cwd();
const empty = process.argv.includes("--empty");
const port = Number(process.env.DEEPKEEP_PORT ?? 4380);
const host = process.env.DEEPKEEP_HOST ?? "127.0.0.1";
const secure = Boolean(process.env.DEEPKEEP_TLS_CERT);
const near = ["0.0.0.0", "::"].includes(host) ? "127.0.0.1" : host;
/** What people type: with TLS, the name that the certificate is for. */
const url = `${secure ? "https" : "http"}://${process.env.DEEPKEEP_NAME ?? near}:${port}`;

const portFree = (wanted: number, on: string): Promise<boolean> =>
  new Promise((resolve) => {
    const server = createServer();
    server.once("error", () => resolve(false));
    server.listen(wanted, on, () => server.close(() => resolve(true)));
  });

/** Asks the web on this machine, whatever name its certificate is for. */
const healthy = (): Promise<boolean> =>
  new Promise((resolve) => {
    const options = { host: near, port, path: "/readyz", rejectUnauthorized: false, timeout: 2000 };
    const asked = (secure ? getSecure : getPlain)(options, (response) => {
      response.resume();
      resolve(response.statusCode === 200);
    });
    asked.once("timeout", () => asked.destroy());
    asked.once("error", () => resolve(false));
  });

/** The demo's stand-ins at the ports they had, or at free ones where those are taken; what points to them follows. */
async function placedStandins(home: string, settings: Settings): Promise<readonly DemoStandin[]> {
  const placed: DemoStandin[] = [];
  for (const standin of demoStandins(home)) {
    if (await portFree(standin.port, "127.0.0.1")) {
      placed.push(standin);
      continue;
    }
    const moved = { ...standin, port: await freePort() };
    placed.push(moved);
    const [before, after] = [standin, moved].map(({ port }) => `http://127.0.0.1:${port}`) as [
      string,
      string,
    ];
    const services = makeServices(settings);
    try {
      await services.db.withScope({ role: "system" }, async (tx) => {
        for (const { id, address, settings } of await listConnections(tx))
          await setPlace(
            tx,
            id,
            withMovedOrigin(address, before, after),
            JSON.parse(withMovedOrigin(JSON.stringify(settings), before, after)) as ConnectionSettings,
          );
        await moveBuckets(tx, before, after);
        if (standin.kind === "inbox") await setMailPort(tx, standin.port, moved.port);
        for (const webhook of await listWebhooks(tx))
          if (webhook.url.startsWith(before))
            await setWebhookUrl(tx, webhook.id, webhook.url.replace(before, after));
      });
    } finally {
      await services.db.end();
    }
  }
  if (placed.length) writeStandins(home, placed);
  return placed;
}

/** A small server. */
const CLIENT_SERVER = { shared_buffers: "16MB", max_connections: "20" };
let stopping = false;

async function main(): Promise<void> {
  const wanted = process.env.DEEPKEEP_HOME ?? join(project, ".data");
  mkdirSync(wanted, { recursive: true, mode: 0o700 });
  const home = realpathSync(wanted);
  if (!Number.isInteger(port) || port < 1 || port > 65535)
    throw new Error(`DEEPKEEP_PORT is ${process.env.DEEPKEEP_PORT}; it must be a port from 1 to 65535.`);
  // what a killed start left behind ends by itself
  for (let tries = 0; !(await portFree(port, host)) && tries < 50; tries += 1) await pause(100);
  if (!(await portFree(port, host)))
    throw new Error(`Port ${port} is taken. Choose another one: DEEPKEEP_PORT=4381 bin/start`);
  mkdirSync(join(home, "log"), { recursive: true, mode: 0o700 });
  ensureMasterKey(home);
  const access = await startCluster(home);
  await settleMasterKey(home, access.owner);
  const children = new Children();
  /** The demo's database server: a client's own, beside the console's. */
  const clientHome = join(home, "demo", "databases");
  let clientDatabases: DatabaseAccess | null = null;
  let ended = false;
  const end = async (code: number) => {
    if (ended) return;
    ended = stopping = true;
    console.log("\nEnding…");
    await children.end();
    if (clientDatabases) await stopCluster(clientDatabases).catch(() => {});
    await stopCluster(access);
    process.exit(code);
  };
  for (const signal of ["SIGINT", "SIGTERM", "SIGHUP"] as const) process.on(signal, () => void end(0));
  try {
    const applied = await migrate(access.owner, access.appPassword, join(project, "src/db/migrations"));
    if (applied.length) console.log(`Database: ${applied.join(", ")}`);
    const env = { ...process.env, DEEPKEEP_HOME: home };
    const settings = readSettings(env);
    const seeding = join(home, "demo", "seeding");
    if (!empty && !existsSync(signInFile(home))) {
      if (existsSync(seeding))
        throw new Error(`Seeding was broken off before. Remove ${home} and start again.`);
      mkdirSync(join(home, "demo"), { recursive: true, mode: 0o711 });
      const started = performance.now();
      const services = makeServices(settings);
      try {
        const people = await services.db.withScope({ role: "system" }, countPeople);
        if (people === 0) {
          writeFileSync(seeding, "");
          clientDatabases = await startCluster(clientHome, CLIENT_SERVER);
          await seedDemo(settings, home, clientDatabases.owner, (line) => console.log(line));
          rmSync(seeding);
          console.log(`Demo: seeded in ${((performance.now() - started) / 1000).toFixed(0)} s`);
        }
      } finally {
        await services.db.end();
      }
    }
    if (!clientDatabases && readAccess(clientHome))
      clientDatabases = await startCluster(clientHome, CLIENT_SERVER).catch((error: Error) => {
        console.error(`The demo's database server does not start: ${error.message}`);
        return null;
      });
    const standins = await placedStandins(home, settings);
    for (const { kind, port: at, folder, env: told } of standins) {
      children.keep(
        kind,
        process.execPath,
        [join(project, "dist/standins.mjs"), kind, String(at), folder],
        { ...env, ...told },
        join(home, `log/${kind}.log`),
      );
    }
    const viewerPort = await freePort();
    const viewer = { ...env, DEEPKEEP_VIEWER_PORT: String(viewerPort) };
    children.keep(
      "viewer",
      process.execPath,
      [join(project, "dist/viewer.mjs")],
      viewer,
      join(home, "log/viewer.log"),
    );
    const web = {
      ...viewer,
      DEEPKEEP_PORT: String(port),
      DEEPKEEP_HOST: host,
      NODE_ENV: "production" as const,
      NEXT_TELEMETRY_DISABLED: "1",
    };
    children.keep("web", process.execPath, webProgram(project), web, join(home, "log/web.log"));
    children.keep(
      "runner",
      process.execPath,
      [join(project, "dist/runner.mjs")],
      { ...env, DEEPKEEP_QUEUE_URL: access.owner },
      join(home, "log/runner.log"),
    );
    for (let tries = 0; !(await healthy()); tries += 1) {
      if (tries > 600)
        throw new Error(`The web does not answer at ${url}. Its log: ${join(home, "log/web.log")}`);
      await pause(100);
    }
    for (const machine of demoMachines(home)) {
      const state = new AgentState(machine.state);
      const identity = state.readIdentity()!;
      if (identity.console !== url) state.writeIdentity({ ...identity, console: url });
      if (machine.away) continue;
      children.keep(
        `agent of ${machine.name}`,
        process.execPath,
        [...agentProgram(project), "run", "--state", machine.state],
        {
          ...env,
          ...AGENT_ENVIRONMENT,
          // a certificate that nobody else vouches for is its own authority
          ...(secure ? { NODE_EXTRA_CA_CERTS: process.env.DEEPKEEP_TLS_CERT } : {}),
        },
        join(home, `log/agent-${machine.name}.log`),
      );
    }
    const watch = setInterval(async () => {
      if (ended || (await answers(access))) return;
      console.log("The database ended; started again.");
      await startCluster(home).catch((error: Error) => console.error(error.message));
    }, 3000);
    watch.unref();
    console.log(`\nDeep Keep answers at ${url}`);
    if (existsSync(signInFile(home))) {
      const { people } = JSON.parse(readFileSync(signInFile(home), "utf8")) as {
        people: { name: string; role: string; email: string; password: string }[];
      };
      for (const person of people)
        console.log(
          `  ${person.email.padEnd(38)} ${person.password.padEnd(26)} ${person.name}, ${person.role}`,
        );
      console.log(`  also in ${signInFile(home)}`);
      const receiver = standins.find((standin) => standin.kind === "receiver");
      if (receiver) console.log(`What the demo sends by mail and webhook: http://127.0.0.1:${receiver.port}`);
    } else console.log(`  Create the owner at ${url}/setup`);
    console.log("Ctrl-C ends everything.");
  } catch (error) {
    // what was under way when somebody ended it fails for that reason
    if (!ended) console.error((error as Error).message);
    await end(1);
  }
}

// seeding has work of its own beside it: when the database is stopped, that fails after the reason was said
process.on("unhandledRejection", (error) => {
  if (stopping) return;
  console.error(error);
  process.exit(1);
});
main().catch((error: Error) => {
  if (!stopping) console.error(error.message);
  process.exit(1);
});
