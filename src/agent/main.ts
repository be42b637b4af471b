import { setTimeout as pause } from "node:timers/promises";
import { Command } from "commander";
import { CodedError } from "@/core/codes";
import { makeKeyPair } from "@/store/seal/secrets";
import { HttpLink } from "./http-link";
import { AgentState } from "./state";
import { AGENT_VERSION, describeSystem, machineName } from "./system";
import { doJob } from "./work";

/** The program on a protected machine: `agent enrol`, then `agent run`. */
const REPORT_EVERY_MS = 5 * 60_000;

const program = new Command("agent")
  .description("Deep Keep's program on a protected machine")
  .version(AGENT_VERSION);
const defaultState =
  process.env.DEEPKEEP_AGENT_STATE ??
  (process.getuid?.() === 0
    ? "/var/lib/deep-keep-agent"
    : `${process.env.HOME}/.local/state/deep-keep-agent`);

program
  .command("enrol")
  .description("enrol this machine with a code from the console")
  .requiredOption("--console <url>", "address of the console")
  .requiredOption("--code <code>", "enrolment code")
  .option("--name <name>", "name of the machine in the console (default: its own)")
  .option("--root <folder>", "folder that counts as /, where the machine's disk is mounted elsewhere", "/")
  .option("--state <folder>", "folder for the agent's state", defaultState)
  .action(async (options: { console: string; code: string; name?: string; root: string; state: string }) => {
    const state = new AgentState(options.state);
    if (state.readIdentity())
      throw new Error(
        `This machine is already enrolled (${options.state}). Remove that folder to enrol it again.`,
      );
    const pair = makeKeyPair();
    const link = new HttpLink(() => options.console, null);
    const name = options.name ?? machineName(options.root);
    const answer = await link.enrol({
      code: options.code,
      name,
      publicKey: pair.publicKey.toString("base64"),
      system: describeSystem(options.root, options.state),
    });
    state.writeIdentity({
      console: options.console,
      machineId: answer.machineId,
      token: answer.token,
      name,
      root: options.root,
      privateKey: pair.privateKey.toString("base64"),
    });
    console.log(`Enrolled ${name} for ${answer.clientName}. Start it with: agent run`);
  });

program
  .command("move")
  .description("set a new address of the console; a running agent uses it without a restart")
  .requiredOption("--console <url>", "new address of the console")
  .option("--state <folder>", "folder for the agent's state", defaultState)
  .action(async (options: { console: string; state: string }) => {
    const state = new AgentState(options.state);
    const identity = state.readIdentity();
    if (!identity)
      throw new Error(
        `This machine is not enrolled (${options.state}). Enrol it: agent enrol --console URL --code CODE`,
      );
    if (!URL.canParse(options.console) || !/^https?:$/.test(new URL(options.console).protocol))
      throw new Error(
        `${options.console} is not an address. Enter one that begins with https:// or http://.`,
      );
    const console_ = new URL(options.console).origin;
    try {
      await new HttpLink(() => console_, identity.token).probe(describeSystem(identity.root, state.folder));
    } catch (error) {
      const unknown = error instanceof CodedError && error.code === "auth.needed";
      throw new Error(
        unknown
          ? `The console at ${console_} does not know this machine; the address stays ${identity.console}. If it is another console, enrol the machine there: remove ${options.state}, then agent enrol.`
          : `${(error as Error).message}. The address stays ${identity.console}.`,
        { cause: error },
      );
    }
    state.writeIdentity({ ...identity, console: console_ });
    console.log(`${identity.name} now reports to ${console_} (before: ${identity.console}).`);
  });

program
  .command("run")
  .description("run jobs from the console until stopped")
  .option("--state <folder>", "folder for the agent's state", defaultState)
  .option("--no-commands", "refuse the commands that a policy wants to run before and after")
  .action(async (options: { state: string; commands: boolean }) => {
    const state = new AgentState(options.state);
    const identity = state.readIdentity();
    if (!identity)
      throw new Error(
        `This machine is not enrolled (${options.state}). Enrol it first: agent enrol --console URL --code CODE`,
      );
    // `agent move` writes a new address while this runs
    const link = new HttpLink(() => state.readIdentity()?.console ?? identity.console, identity.token, {
      told: (sentence) => console.error(sentence),
    });
    const ending = new AbortController();
    for (const signal of ["SIGINT", "SIGTERM"] as const) process.once(signal, () => ending.abort());
    await link.hello(describeSystem(identity.root, state.folder), true);
    console.log(`${identity.name} is ready for jobs from ${identity.console}.`);
    const report = setInterval(
      () => void link.hello(describeSystem(identity.root, state.folder), false).catch(() => {}),
      REPORT_EVERY_MS,
    );
    const serve = async (kind: "backup" | "restore") => {
      while (!ending.signal.aborted) {
        try {
          const job = await link.work([kind], ending.signal);
          if (job) await doJob(link, job, identity, state, options.commands);
        } catch (error) {
          if (ending.signal.aborted) return;
          if (error instanceof CodedError && error.code === "auth.needed")
            throw new Error("The console does not know this machine any more.", { cause: error });
          console.error(`${(error as Error).message}; trying again.`);
          await pause(2000);
        }
      }
    };
    try {
      await Promise.race([
        Promise.all([serve("backup"), serve("restore")]),
        new Promise((resolve) => ending.signal.addEventListener("abort", resolve)),
      ]);
    } finally {
      clearInterval(report);
    }
    process.exit(0);
  });

program.parseAsync().catch((error: Error) => {
  console.error(error.message);
  process.exit(1);
});
