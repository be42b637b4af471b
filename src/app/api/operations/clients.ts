import { randomInt, randomUUID } from "node:crypto";
import { z } from "zod";
import { COLOUR_TEXT, contrast, READABLE } from "@/core/look/contrast";
import { logoOf } from "@/core/look/raster";
import { slugOf } from "@/core/places";
import { bandwidthHours, bandwidthWords } from "@/core/policy/conduct";
import { zoneSchema } from "@/core/policy/zone";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import {
  type Client,
  clientBySlug,
  insertClient,
  insertSite,
  type LinkLimits,
  listClients,
  listSites,
  NO_LIMITS,
  setClientLimits,
  setSiteLimits,
  siteById,
  updateClient,
} from "@/db/clients/clients";
import { contractOf, setContract } from "@/db/clients/contracts";
import { lookOf, setColour, setLogo, wholeLook } from "@/db/clients/looks";
import { insertCode } from "@/db/sources/machines";
import type { SourceKind } from "@/kinds";
import { operation } from "@/server/api/operation";
import { invalid, notFound } from "@/server/base/problem";
import { hashSecret } from "@/store/seal/secrets";
import * as shape from "../shapes";
import { clientParam, name, theClient, uuid } from "./ids";

const clientBody = z.object({
  name: name("the client's name"),
  zone: zoneSchema,
  region: name("the region in which the client's data may lie", 60),
  contactName: name("a person to talk to"),
  contactEmail: z.email("Enter an e-mail address."),
});

const limitsBody = z.object({
  atOnce: z
    .number()
    .int("A whole number.")
    .min(1, "At least one at a time, or nothing would run.")
    .max(10_000, "At most 10,000.")
    .nullable(),
  bandwidth: z.array(bandwidthHours).max(20, "At most twenty limits."),
});
const sourceCount = z
  .number("Enter a whole number.")
  .int("Enter a whole number.")
  .min(0, "Zero, or more.")
  .max(1_000_000, "At most a million.");
const bought = sourceCount.optional();
/** One number for each kind of source. */
const contractShape = z.object({
  files: bought,
  mail: bought,
  database: bought,
  guest: bought,
  library: bought,
} satisfies Record<SourceKind, z.ZodType>);

function checkedLogo(base64: string): Buffer {
  try {
    return logoOf(Buffer.from(base64, "base64"));
  } catch (error) {
    if (!(error instanceof RangeError)) throw error;
    throw invalid("logo", error.message);
  }
}

const siteParam = z.object({ siteId: uuid });
const sentenceOf = (limits: LinkLimits) => ({
  atOnce: limits.atOnce ?? "any number",
  bandwidth: limits.bandwidth.length ? bandwidthWords(limits.bandwidth) : "no limit",
});

async function freeSlug(tx: Tx, wish: string): Promise<string> {
  const base = slugOf(wish, 40) || "client";
  for (let number = 1; ; number += 1) {
    const slug = number === 1 ? base : `${base}-${number}`;
    if (!(await clientBySlug(tx, slug))) return slug;
  }
}

async function addSite(tx: Tx, client: Client, siteName: string) {
  const sites = await listSites(tx, client.id);
  if (sites.some((site) => site.name.toLowerCase() === siteName.toLowerCase()))
    throw invalid("name", `${client.name} has a site of this name.`);
  let slug = slugOf(siteName) || "site";
  for (let number = 2; sites.some((site) => site.slug === slug); number += 1)
    slug = `${slugOf(siteName) || "site"}-${number}`;
  const site = { id: randomUUID(), clientId: client.id, slug, name: siteName };
  await insertSite(tx, site);
  return site;
}

/** An enrolment code: three groups of four, without letters that are taken for others. */
function makeCode(): string {
  const letters = "23456789ABCDEFGHJKMNPQRSTVWXYZ";
  const group = () => Array.from({ length: 4 }, () => letters[randomInt(letters.length)]).join("");
  return [group(), group(), group()].join("-");
}

export const clients = [
  operation({
    id: "listClients",
    method: "GET",
    path: "/clients",
    summary: "All clients.",
    caller: "look",
    pages: { of: "clients" },
    answer: z.object({ clients: shape.list(shape.client) }),
    run: (context) => context.tx(async (tx) => ({ clients: await listClients(tx) })),
  }),
  operation({
    id: "addClient",
    method: "POST",
    path: "/clients",
    summary: "Add a client with its sites.",
    caller: "provider-work",
    status: 201,
    body: clientBody.extend({
      sites: z.array(name("the site's name")).min(1, "Name at least one site.").max(200),
      contract: contractShape.default({}),
    }),
    answer: z.object({
      client: shape.client,
      sites: shape.list(
        z.object({ id: z.string(), clientId: z.string(), slug: z.string(), name: z.string() }),
      ),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const { sites, contract, ...rest } = body;
        const taken = (await listClients(tx)).some(
          (client) => client.name.toLowerCase() === rest.name.toLowerCase(),
        );
        if (taken) throw invalid("name", "There is a client of this name.");
        const client: Client = {
          id: randomUUID(),
          slug: await freeSlug(tx, rest.name.split(/\s+/)[0]!),
          ...rest,
          limits: NO_LIMITS,
        };
        await insertClient(tx, client, context.who.at);
        await setContract(tx, client.id, contract);
        const made = [];
        for (const [i, site] of sites.entries()) {
          if (sites.findIndex((other) => other.toLowerCase() === site.toLowerCase()) !== i)
            throw invalid(`sites.${i}`, "This site is named twice.");
          made.push(await addSite(tx, client, site));
        }
        await context.record(tx, client.id, "added a client", client.name, {
          zone: client.zone,
          region: client.region,
          sites,
          contract,
        });
        await notify(tx, { kind: "client", clientId: client.id, id: client.id });
        return { client, sites: made };
      }),
  }),
  operation({
    id: "readClient",
    method: "GET",
    path: "/clients/{clientId}",
    summary: "One client with its sites.",
    caller: "look",
    params: clientParam,
    answer: z.object({ client: shape.client, sites: shape.list(shape.site) }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        return { client, sites: await listSites(tx, client.id) };
      }),
  }),
  operation({
    id: "changeClient",
    method: "PATCH",
    path: "/clients/{clientId}",
    summary: "Change a client's name, zone, region or contact.",
    caller: "work",
    params: clientParam,
    body: clientBody.partial(),
    answer: z.object({
      client: z.object({
        name: z.string(),
        zone: z.string(),
        region: z.string(),
        contactName: z.string(),
        contactEmail: z.string(),
        id: z.string(),
        slug: z.string(),
        limits: shape.linkLimits,
      }),
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        const changed = { ...client, ...body };
        await updateClient(tx, changed);
        await context.record(tx, client.id, "changed a client", changed.name, body);
        await notify(tx, { kind: "client", clientId: client.id, id: client.id });
        return { client: changed };
      }),
  }),
  operation({
    id: "addSite",
    method: "POST",
    path: "/clients/{clientId}/sites",
    summary: "Add a site.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: z.object({ name: name("the site's name") }),
    answer: z.object({ id: z.string(), clientId: z.string(), slug: z.string(), name: z.string() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        const site = await addSite(tx, client, body.name);
        await context.record(tx, client.id, "added a site", site.name);
        return site;
      }),
  }),
  operation({
    id: "setClientLimits",
    method: "PUT",
    path: "/clients/{clientId}/limits",
    summary: "Limit the simultaneous runs of a client and their total bandwidth.",
    caller: "work",
    params: clientParam,
    body: limitsBody,
    answer: z.object({
      limits: shape.linkLimits,
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        await setClientLimits(tx, client.id, body);
        await context.record(tx, client.id, "changed the limits of a client", client.name, sentenceOf(body));
        await notify(tx, { kind: "client", clientId: client.id, id: client.id });
        return { limits: body };
      }),
  }),
  operation({
    id: "setSiteLimits",
    method: "PUT",
    path: "/sites/{siteId}/limits",
    summary: "Limit the simultaneous runs over a site's link and their total bandwidth.",
    caller: "work",
    params: siteParam,
    body: limitsBody,
    answer: z.object({
      limits: shape.linkLimits,
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const site = await siteById(tx, params.siteId);
        if (!site) throw notFound();
        await setSiteLimits(tx, site.id, body);
        await context.record(tx, site.clientId, "changed the limits of a site", site.name, sentenceOf(body));
        await notify(tx, { kind: "client", clientId: site.clientId, id: site.clientId });
        return { limits: body };
      }),
  }),
  operation({
    id: "readContract",
    method: "GET",
    path: "/clients/{clientId}/contract",
    summary: "The number of sources of each kind in a client's contract.",
    caller: "look",
    params: clientParam,
    answer: z.object({ contract: contractShape }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        return { contract: await contractOf(tx, client.id) };
      }),
  }),
  operation({
    id: "setContract",
    method: "PUT",
    path: "/clients/{clientId}/contract",
    summary:
      "Set the number of sources of each kind in a client's contract. Kinds without a number have no limit.",
    caller: "work",
    params: clientParam,
    body: contractShape,
    answer: z.object({ contract: contractShape }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        await setContract(tx, client.id, body);
        await context.record(tx, client.id, "changed the contract of a client", client.name, body);
        await notify(tx, { kind: "client", clientId: client.id, id: client.id });
        return { contract: body };
      }),
  }),
  operation({
    id: "readLook",
    method: "GET",
    path: "/clients/{clientId}/look",
    summary: "Colour of a client's statement and portal, and whether there is a logo.",
    caller: "statement",
    params: clientParam,
    answer: shape.clientLook,
    run: (context, { params }) =>
      context.tx(async (tx) => lookOf(tx, (await theClient(tx, params.clientId)).id)),
  }),
  operation({
    id: "setLook",
    method: "PUT",
    path: "/clients/{clientId}/look",
    summary:
      "Set the colour of a client's statement and portal (null: the console's own), and its logo: a PNG or JPEG as base64, null to remove it. What is left out stays.",
    caller: "work",
    params: clientParam,
    body: z.object({
      colour: z
        .string()
        .regex(COLOUR_TEXT, {
          error: "Enter a colour as six hexadecimal digits, such as #2f5d62.",
          abort: true,
        })
        .refine((colour) => contrast(colour, "#ffffff") >= READABLE, {
          message: "Text in this colour is hard to read on white. Choose a darker colour.",
        })
        .nullable()
        .optional(),
      logo: z
        .base64("Enter the file as base64.")
        .max(1_000_000, "The file is larger than 512 KiB.")
        .nullable()
        .optional(),
    }),
    answer: shape.clientLook,
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        if (body.colour !== undefined) await setColour(tx, client.id, body.colour, context.who.at);
        if (body.logo !== undefined)
          await setLogo(tx, client.id, body.logo === null ? null : checkedLogo(body.logo), context.who.at);
        const look = await lookOf(tx, client.id);
        await context.record(tx, client.id, "changed the appearance of a client", client.name, { ...look });
        return look;
      }),
  }),
  operation({
    id: "readLogo",
    method: "GET",
    path: "/clients/{clientId}/logo",
    summary: "The logo of a client's statement and portal.",
    caller: "person",
    params: clientParam,
    media: ["image/png"],
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const { logo } = await wholeLook(tx, params.clientId);
        if (!logo) throw notFound();
        return new Response(new Uint8Array(logo), {
          headers: { "content-type": "image/png", "cache-control": "private, no-cache" },
        });
      }),
  }),
  operation({
    id: "createEnrolmentCode",
    shownOnce: ["code"],
    method: "POST",
    path: "/clients/{clientId}/enrolment-codes",
    summary: "Create an enrolment code for machines. It is shown once.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: z.object({
      siteId: uuid,
      hours: z
        .number()
        .int("Whole hours.")
        .min(1, "At least an hour.")
        .max(720, "At most 30 days.")
        .default(24),
      uses: z.number().int("A whole number.").min(1, "At least one.").max(500, "At most 500.").default(1),
    }),
    answer: z.object({ code: z.string(), expiresAt: shape.moment, uses: z.number() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const site = await siteById(tx, body.siteId);
        if (!site || site.clientId !== params.clientId) throw notFound();
        const code = makeCode();
        const expiresAt = new Date(context.who.at.getTime() + body.hours * 3_600_000);
        await insertCode(
          tx,
          {
            id: hashSecret(code),
            clientId: params.clientId,
            siteId: site.id,
            expiresAt,
            uses: body.uses,
            createdBy: context.person!.id,
          },
          context.who.at,
        );
        await context.record(tx, params.clientId, "created an enrolment code", site.name, {
          uses: body.uses,
          expiresAt,
        });
        return { code, expiresAt, uses: body.uses };
      }),
  }),
];
