import { randomBytes, randomInt } from "node:crypto";
import { toString as drawQr } from "qrcode";
import { z } from "zod";
import type { ClientId } from "@/core/ids";
import { checkGroup, groupsToKey, keyToGroups, normalGroup, sameGroup } from "@/core/keysheet/keysheet";
import { keyStateOf } from "@/core/keysheet/wrapping";
import { certificateOf } from "@/db/access/consents";
import { notify } from "@/db/base/notify";
import { clientById } from "@/db/clients/clients";
import {
  type ClientKey,
  clientKey,
  confirmKey,
  machinesWithoutKey,
  setUnconfirmedKey,
} from "@/db/clients/keys";
import { askConsent } from "@/server/access/consents";
import { changeHolding, giveMachinesKey, unlock } from "@/server/access/key-holding";
import { SESSION_HOURS } from "@/server/access/sign-in";
import { sessionServed } from "@/server/access/unlocked";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { keyContext } from "@/server/inside/space-readers";
import { hashSecret } from "@/store/seal/secrets";
import { fingerprintOf, wrapKey } from "@/store/seal/wrapping";
import * as shape from "../shapes";
import { clientParam, reason } from "./ids";

const newPassphrase = z
  .string()
  .trim()
  .min(16, "At least 16 characters: five or six words that are in no book together.")
  .max(500, "500 characters at most.");

/** The client, for a call that a person makes for one client alone. */
async function clientThere(context: Context, clientId: ClientId) {
  const client = await context.tx((tx) => clientById(tx, clientId));
  if (!client) throw notFound();
  return client;
}

/** Whether a typed group is the one that was asked for. */
function groupFits(context: Context, key: ClientKey, typed: string, whole: Uint8Array | null): boolean {
  const group = whole ? keyToGroups(whole)[key.askedGroup]! : typed;
  if (key.askedHash) return hashSecret(normalGroup(group)).equals(key.askedHash);
  const right = keyToGroups(context.services.secrets.unseal(key.sealed!, keyContext(key.clientId)));
  return whole ? keyToGroups(whole).join() === right.join() : sameGroup(group, right[key.askedGroup]!);
}

export const keys = [
  operation({
    id: "readClientKey",
    method: "GET",
    path: "/clients/{clientId}/key",
    summary: "How the client's key is stored and whether it is confirmed. Never the key itself.",
    caller: "look",
    params: clientParam,
    answer: z.object({
      exists: z.boolean(),
      state: shape.keyState,
      fingerprint: z.string().nullable(),
      confirmedAt: shape.moment.nullable(),
      destroyedAt: shape.moment.nullable(),
      askedGroup: z.number().nullable(),
      open: z.boolean(),
      machinesWithout: shape.list(z.string()),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        const key = await clientKey(tx, params.clientId);
        return {
          exists: key !== null,
          state: keyStateOf(key),
          fingerprint: key?.fingerprint ?? null,
          confirmedAt: key?.confirmedAt ?? null,
          destroyedAt: key?.destroyedAt ?? null,
          askedGroup: key && !key.confirmedAt ? key.askedGroup : null,
          open: (await context.services.lentKeys.keyOf(params.clientId)) !== null,
          machinesWithout:
            key?.holding === "passphrase"
              ? (await machinesWithoutKey(tx, params.clientId)).map((machine) => machine.name)
              : [],
        };
      }),
  }),
  operation({
    id: "createClientKey",
    shownOnce: ["groups", "qr"],
    method: "POST",
    path: "/clients/{clientId}/key",
    summary:
      "Create the client's random 256-bit key, in escrow or under a passphrase. It is shown once. Possible until a key is confirmed.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: z.object({ passphrase: newPassphrase.nullable().default(null) }),
    answer: z.object({
      groups: shape.list(z.string()),
      askedGroup: z.number(),
      qr: z.string(),
      madeAt: shape.moment,
    }),
    run: async (context, { params, body }) => {
      const key = randomBytes(32);
      const groups = keyToGroups(key);
      const qr = await drawQr(groups.join("-"), { type: "svg", errorCorrectionLevel: "M", margin: 0 });
      const client = await clientThere(context, params.clientId);
      const askedGroup = randomInt(13);
      const held = body.passphrase
        ? { holding: "passphrase" as const, ...(await wrapKey(key, body.passphrase)) }
        : {
            holding: "escrow" as const,
            wrapping: null,
            sealed: context.services.secrets.seal(key, keyContext(client.id)),
          };
      return context.tx(async (tx) => {
        const made = await setUnconfirmedKey(
          tx,
          {
            clientId: client.id,
            ...held,
            fingerprint: fingerprintOf(key),
            askedGroup,
            askedHash: body.passphrase ? hashSecret(normalGroup(groups[askedGroup]!)) : null,
          },
          context.who.at,
        );
        if (made === 0)
          throw new Problem(
            "request.conflict",
            `${client.name} has a confirmed key. Data may be sealed with it, so it cannot be replaced.`,
          );
        if (body.passphrase) await giveMachinesKey(tx, client.id, key, context.who.at);
        await context.record(tx, client.id, "created the client's key", client.name, {
          escrow: body.passphrase ? "none: a passphrase of the client's" : "with the provider",
          fingerprint: fingerprintOf(key),
        });
        await notify(tx, { kind: "policy", clientId: client.id, id: client.id });
        return {
          groups,
          askedGroup,
          qr: `data:image/svg+xml;base64,${Buffer.from(qr).toString("base64")}`,
          madeAt: context.who.at,
        };
      });
    },
  }),
  operation({
    id: "confirmClientKey",
    method: "POST",
    path: "/clients/{clientId}/key/confirm",
    summary: "Confirm that the key sheet is stored, by entering the requested group or the whole key.",
    caller: "work",
    params: clientParam,
    body: z.object({ group: z.string().min(1, "Type the group from the sheet.").max(200) }),
    answer: z.object({ confirmedAt: shape.moment }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const key = await clientKey(tx, params.clientId);
        if (!key) throw notFound();
        if (key.confirmedAt) throw new Problem("request.conflict", "The key is confirmed already.");
        const whole = body.group.replace(/[^0-9A-Za-z]/g, "").length > 5 ? groupsToKey(body.group) : null;
        if (whole && !whole.ok) throw invalid("group", `This is not the key: ${whole.reason}.`);
        if (!groupFits(context, key, body.group, whole?.ok ? whole.key : null)) {
          const slip = !whole && !checkGroup(body.group, key.askedGroup);
          throw invalid(
            "group",
            slip
              ? `There is a slip in it: group ${key.askedGroup + 1} of the sheet has five characters, the last of them checks the others.`
              : "This is not the group of this client's sheet.",
          );
        }
        await confirmKey(tx, params.clientId, context.who.at);
        await context.record(
          tx,
          params.clientId,
          "confirmed the client's key",
          (await clientById(tx, params.clientId))!.name,
        );
        await notify(tx, { kind: "policy", clientId: params.clientId, id: params.clientId });
        return { confirmedAt: context.who.at };
      }),
  }),
  operation({
    id: "holdClientKey",
    method: "PUT",
    path: "/clients/{clientId}/key/holding",
    summary:
      "Change how the key is stored: in escrow, under a passphrase, or under another passphrase. No data moves.",
    caller: "work",
    params: clientParam,
    body: z.object({
      /** The passphrase that opens it now; none for a key in escrow. */
      passphrase: z.string().max(500).nullable().default(null),
      /** The one that is to open it; none puts it into escrow. */
      newPassphrase: newPassphrase.nullable(),
    }),
    answer: z.object({ holding: z.string() }),
    run: async (context, { params, body }) => {
      await clientThere(context, params.clientId);
      await changeHolding(
        context.services,
        context.who,
        params.clientId,
        body.passphrase,
        body.newPassphrase
          ? { holding: "passphrase", passphrase: body.newPassphrase }
          : { holding: "escrow" },
      );
      await context.tx((tx) =>
        notify(tx, { kind: "policy", clientId: params.clientId, id: params.clientId }),
      );
      return { holding: body.newPassphrase ? "passphrase" : "escrow" };
    },
  }),
  operation({
    id: "unlockClientKey",
    method: "POST",
    path: "/clients/{clientId}/key/unlock",
    summary:
      "Enter the passphrase. The key is open for this session, in memory only; machines enrolled since receive it.",
    caller: "work",
    params: clientParam,
    body: z.object({ passphrase: z.string().min(1, "Enter the passphrase.").max(500) }),
    answer: z.object({ until: shape.moment, machines: shape.list(z.string()) }),
    run: async (context, { params, body }) => {
      await clientThere(context, params.clientId);
      const until = new Date(context.who.at.getTime() + SESSION_HOURS * 3_600_000);
      const { machines } = await unlock(
        context.services,
        context.who,
        params.clientId,
        body.passphrase,
        sessionServed()!,
        until,
      );
      await context.tx((tx) =>
        notify(tx, { kind: "policy", clientId: params.clientId, id: params.clientId }),
      );
      return { until, machines };
    },
  }),
  operation({
    id: "requestKeyDestruction",
    method: "POST",
    path: "/clients/{clientId}/key/destruction",
    summary: "Request the permanent destruction of the client's key. A second person must approve.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: z.object({ reason }),
    answer: z.object({ consentId: z.string() }),
    run: async (context, { params, body }) => {
      const client = await clientThere(context, params.clientId);
      return context.tx(async (tx) => {
        const key = await clientKey(tx, client.id);
        if (!key || key.destroyedAt) throw new Problem("request.conflict", "There is no key to destroy.");
        const consentId = await askConsent(tx, context.who, context.person!, {
          clientId: client.id,
          kind: "destroy-key",
          subject: `the key of ${client.name}`,
          request: {},
          reason: body.reason,
        });
        return { consentId };
      });
    },
  }),
  operation({
    id: "readCertificate",
    method: "GET",
    path: "/clients/{clientId}/key/certificate",
    summary:
      "The certificate of a destroyed key: what can no longer be read, who requested and who approved it.",
    caller: "look",
    params: clientParam,
    answer: z.object({ certificate: shape.certificate }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const certificate = await certificateOf(tx, params.clientId);
        if (!certificate) throw notFound();
        return { certificate };
      }),
  }),
];
