import { toDataURL } from "qrcode";
import { z } from "zod";
import { clearResets, setPassword, signInRow } from "@/db/access/people";
import { confirmFactor, recoveryCodesLeft, removeFactor, setSeed } from "@/db/access/second-factor";
import {
  endSession,
  endSessions,
  endTokens,
  insertToken,
  revokeToken,
  sessionsOf,
  tokensOf,
} from "@/db/access/sessions";
import type { Tx } from "@/db/base/scope";
import { refuseKnownPassword } from "@/server/access/known-passwords";
import { makeRecoveryCodes, newSeed, sealSeed, seedAddress, stepOfCode } from "@/server/access/second-factor";
import { codeFits, hashPassword, passwordFits } from "@/server/access/sign-in";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { hashSecret, randomSecret } from "@/store/seal/secrets";
import * as shape from "../shapes";
import { name, password, uuid } from "./ids";

const ownId = z.object({ id: uuid });
const currentSession = (context: Context): Buffer | null =>
  context.sessionToken ? hashSecret(context.sessionToken) : null;
const system = <T>(context: Context, work: (tx: Tx) => Promise<T>): Promise<T> =>
  context.services.db.withScope({ role: "system" }, work);

/** The person, for a change that asks for their password again. Throws a problem of the field. */
async function withPassword(context: Context, tx: Tx, typed: string) {
  const row = (await signInRow(tx, context.person!.id))!;
  if (!(await passwordFits(context.services, row, typed)))
    throw invalid("password", "The password is wrong.");
  return row;
}

/** The same for a change to the second factor: a password alone must not remove what guards against its loss. */
async function withCode(
  context: Context,
  given: { readonly password: string; readonly code?: string | undefined },
) {
  const person = await system(context, (tx) => withPassword(context, tx, given.password));
  if (!person.factor) throw new Problem("request.conflict", "You have no second factor.");
  if (!given.code) throw invalid("code", "Enter the current code of your authenticator, or a recovery code.");
  if (!(await codeFits(context.services, person, given.code)))
    throw invalid("code", "The code is wrong or was already used. Wait for the next code.");
  return person;
}
const passwordAndCode = z.object({
  password: z.string().min(1, "Enter your password.").max(1000),
  code: z.string().trim().max(40).optional(),
});

export const account = [
  operation({
    id: "readAccount",
    method: "GET",
    path: "/account",
    summary: "Your account: second factor, sessions, API tokens.",
    caller: "account",
    answer: z.object({
      person: shape.person.nullable(),
      recoveryCodesLeft: z.number(),
      sessions: shape.list(shape.listedSession),
      tokens: shape.list(shape.listedToken),
    }),
    run: (context) =>
      system(context, async (tx) => ({
        person: context.person,
        recoveryCodesLeft: await recoveryCodesLeft(tx, context.person!.id),
        sessions: await sessionsOf(tx, context.person!.id, currentSession(context), context.who.at),
        tokens: await tokensOf(tx, context.person!.id, context.who.at),
      })),
  }),
  operation({
    id: "changePassword",
    method: "PUT",
    path: "/account/password",
    summary: "Change your password; your other sessions end.",
    caller: "account",
    body: z.object({
      password: z.string().min(1, "Enter your current password.").max(1000),
      newPassword: password,
      /** End your API tokens too. */
      endTokens: z.boolean().default(false),
    }),
    answer: z.object({ sessionsEnded: z.number(), tokensEnded: z.number() }),
    run: async (context, { body }) => {
      const { name, email } = context.person!;
      await refuseKnownPassword(body.newPassword, [name, email], "newPassword");
      const hash = await hashPassword(body.newPassword);
      return system(context, async (tx) => {
        const person = await withPassword(context, tx, body.password);
        await setPassword(tx, person.id, hash);
        const ended = await endSessions(tx, person.id, currentSession(context));
        const tokensEnded = body.endTokens ? await endTokens(tx, person.id) : 0;
        await context.record(tx, person.clientId, "changed their password", person.name, {
          sessionsEnded: ended,
          tokensEnded,
        });
        return { sessionsEnded: ended, tokensEnded };
      });
    },
  }),
  operation({
    id: "beginFactor",
    shownOnce: ["seed", "qr"],
    method: "POST",
    path: "/account/factor",
    summary:
      "Start setting up a second factor. The seed is returned once, as text and as a QR image; the factor is on after its first code.",
    caller: "account",
    body: z.object({ password: z.string().min(1, "Enter your password.").max(1000) }),
    answer: z.object({ seed: z.string(), qr: z.string() }),
    run: (context, { body }) =>
      system(context, async (tx) => {
        const person = await withPassword(context, tx, body.password);
        if (person.factor)
          throw new Problem(
            "request.conflict",
            "You already have a second factor. Turn it off before you set up another one.",
          );
        const seed = newSeed();
        await setSeed(tx, person.id, sealSeed(context.services.secrets, person.id, seed));
        return {
          seed,
          qr: await toDataURL(seedAddress(seed, person.email), {
            errorCorrectionLevel: "M",
            margin: 2,
            scale: 5,
          }),
        };
      }),
  }),
  operation({
    id: "confirmFactor",
    shownOnce: ["recoveryCodes"],
    method: "POST",
    path: "/account/factor/confirm",
    summary: "Confirm the second factor with a code. The answer has the recovery codes, shown once.",
    caller: "account",
    body: z.object({ code: z.string().trim().min(1, "Enter the six digits.").max(20) }),
    answer: z.object({ recoveryCodes: shape.list(z.string()) }),
    run: (context, { body }) =>
      system(context, async (tx) => {
        const person = (await signInRow(tx, context.person!.id))!;
        if (person.factor || !person.factorSeed)
          throw new Problem("request.conflict", "No second factor is being set up. Start again.");
        const step = await stepOfCode(
          context.services.secrets,
          person,
          body.code.replace(/\s/g, ""),
          context.who.at,
        );
        if (step === null)
          throw invalid("code", "The code is wrong. Check the clock of your phone and enter the next code.");
        await confirmFactor(tx, person.id, step, context.who.at);
        await clearResets(tx, person.id);
        const codes = await makeRecoveryCodes(tx, person.id);
        await context.record(tx, person.clientId, "set up a second factor", person.name);
        return { recoveryCodes: codes };
      }),
  }),
  operation({
    id: "createRecoveryCodes",
    shownOnce: ["recoveryCodes"],
    method: "POST",
    path: "/account/factor/recovery-codes",
    summary: "Create new recovery codes; earlier ones become invalid.",
    caller: "account",
    body: passwordAndCode,
    answer: z.object({ recoveryCodes: shape.list(z.string()) }),
    run: async (context, { body }) => {
      const person = await withCode(context, body);
      return system(context, async (tx) => {
        const codes = await makeRecoveryCodes(tx, person.id);
        await context.record(tx, person.clientId, "created recovery codes", person.name);
        return { recoveryCodes: codes };
      });
    },
  }),
  operation({
    id: "removeFactor",
    method: "DELETE",
    path: "/account/factor",
    summary: "Turn off your second factor. Requires your password and a code.",
    caller: "account",
    body: passwordAndCode,
    answer: z.object({ factor: z.boolean() }),
    run: async (context, { body }) => {
      const person = await withCode(context, body);
      return system(context, async (tx) => {
        await removeFactor(tx, person.id);
        await context.record(tx, person.clientId, "turned off their second factor", person.name);
        return { factor: false };
      });
    },
  }),
  operation({
    id: "endSession",
    method: "DELETE",
    path: "/account/sessions/{id}",
    summary: "End one of your sessions.",
    caller: "account",
    params: ownId,
    answer: z.object({}),
    run: (context, { params }) =>
      system(context, async (tx) => {
        const ended = await endSession(tx, context.person!.id, params.id);
        if (!ended) throw notFound();
        await context.record(
          tx,
          context.person!.clientId,
          "signed out another session",
          context.person!.name,
        );
        return {};
      }),
  }),
  operation({
    id: "createToken",
    shownOnce: ["token"],
    method: "POST",
    path: "/account/tokens",
    summary: "Create an API token; it is shown once.",
    caller: "account",
    status: 201,
    body: z.object({
      name: name("what it is for"),
      reach: z.enum(["read", "change"]),
      days: z.int().min(1, "One day at least.").max(400, "400 days at most."),
    }),
    answer: z.object({ id: z.string(), token: z.string(), expiresAt: shape.moment }),
    run: (context, { body }) =>
      system(context, async (tx) => {
        const secret = randomSecret();
        const expiresAt = new Date(context.who.at.getTime() + body.days * 86_400_000);
        // a stolen token must not outlive itself; its reach is “change”, or it could not ask
        if (context.token && expiresAt > context.token.expiresAt)
          throw invalid(
            "days",
            `A token cannot create a token that expires after itself, on ${context.token.expiresAt.toISOString().slice(0, 10)}. Choose fewer days.`,
          );
        const made = await insertToken(
          tx,
          hashSecret(secret),
          context.person!.id,
          body.name,
          context.who.at,
          expiresAt,
          body.reach,
        );
        await context.record(tx, context.person!.clientId, "created an API token", body.name, {
          reach: body.reach,
          expiresAt,
        });
        return { id: made!.id, token: secret, expiresAt };
      }),
  }),
  operation({
    id: "revokeToken",
    method: "DELETE",
    path: "/account/tokens/{id}",
    summary: "End one of your tokens.",
    caller: "account",
    params: ownId,
    answer: z.object({}),
    run: (context, { params }) =>
      system(context, async (tx) => {
        if ((await revokeToken(tx, context.person!.id, params.id)) === 0) throw notFound();
        await context.record(tx, context.person!.clientId, "ended a token of the API", context.person!.name);
        return {};
      }),
  }),
];
