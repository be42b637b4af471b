import { describe, expect, it } from "vitest";
import { z } from "zod";
import { openApiDocument } from "./openapi";
import { type AnyOperation, operation } from "./operation";

const thing = z.object({
  id: z.string().describe("Names it."),
  made: z
    .date()
    .transform((date) => date.toISOString())
    .pipe(z.iso.datetime()),
});
const operations: readonly AnyOperation[] = [
  operation({
    id: "makeThing",
    method: "POST",
    path: "/things/{thingId}",
    summary: "Make a thing.",
    caller: "work",
    status: 201,
    params: z.object({ thingId: z.uuid() }),
    query: z.object({
      client: z.uuid().optional(),
      limit: z.coerce.number().int().max(5).default(3),
      from: z.string(),
    }),
    body: z.object({
      name: z.string().min(1),
      hours: z.array(z.object({ from: z.number(), to: z.number().default(24) })).default([]),
      labels: z.record(z.string(), z.string()).optional(),
      place: z.union([z.object({ path: z.string() }), z.object({ bucket: z.string() })]),
    }),
    run: async () => undefined,
  }),
  operation({
    id: "readThings",
    method: "GET",
    path: "/things/{thingId}",
    summary: "Read them.",
    caller: "anyone",
    params: z.object({ thingId: z.uuid() }),
    answer: z.object({ things: z.array(thing), newest: thing.nullable() }),
    media: ["text/csv"],
    run: async () => ({ things: [], newest: null }),
  }),
  operation({
    id: "addThing",
    method: "PUT",
    path: "/both",
    summary: "Add what has fields of two descriptions.",
    caller: "person",
    body: z.intersection(z.object({ name: z.string() }), z.object({ size: z.number() })),
    run: async () => undefined,
  }),
];
const groups = [{ tag: "Things", description: "What there is.", operations }];
// biome-ignore lint/suspicious/noExplicitAny: a document as somebody else reads it
const document = openApiDocument(groups, { thing }, { addThing: { name: "oar", size: 3 } }) as any;
const bodyOf = (path: string, method: string) =>
  document.paths[path][method].requestBody.content["application/json"].schema;

describe("the description of the API", () => {
  it("has each operation at its path and method, and who may call it", () => {
    expect(Object.keys(document.paths)).toEqual(["/things/{thingId}", "/both"]);
    const { post, get } = document.paths["/things/{thingId}"];
    expect([post.operationId, get.operationId]).toEqual(["makeThing", "readThings"]);
    expect(get.security).toEqual([]);
    expect(post.security).toEqual([{ bearer: [] }, { session: [] }]);
    // without an answer there is no content
    expect(Object.keys(post.responses)).toEqual(["204", "default"]);
    expect(Object.keys(get.responses)).toEqual(["200", "default"]);
    expect(get.requestBody).toBeUndefined();
  });

  it("describes an answer by its shapes, each described once, and what else it answers with", () => {
    const { content } = document.paths["/things/{thingId}"].get.responses["200"];
    const { properties } = content["application/json"].schema;
    expect(properties.things.items).toEqual({ $ref: "#/components/schemas/Thing" });
    expect(properties.newest.anyOf).toEqual([{ $ref: "#/components/schemas/Thing" }, { type: "null" }]);
    expect(document.components.schemas.Thing).toMatchObject({
      properties: {
        id: { type: "string", description: "Names it." },
        made: { type: "string", format: "date-time" },
      },
      required: ["id", "made"],
    });
    expect(content["text/csv"]).toEqual({});
    expect(document.paths["/both"].put.requestBody.content["application/json"].example).toEqual({
      name: "oar",
      size: 3,
    });
    expect(document.tags).toEqual([{ name: "Things", description: "What there is." }]);
    expect(document.paths["/both"].put.tags).toEqual(["Things"]);
  });

  it("says which parameters must be given", () => {
    const { parameters } = document.paths["/things/{thingId}"].post;
    expect(
      parameters.map((one: { name: string; in: string; required: boolean }) => [
        one.name,
        one.in,
        one.required,
      ]),
    ).toEqual([
      ["thingId", "path", true],
      ["client", "query", false],
      ["limit", "query", false],
      ["from", "query", true],
      ["Idempotency-Key", "header", false],
    ]);
  });

  it("closes each object of a body to other fields, but no list of names", () => {
    const body = bodyOf("/things/{thingId}", "post");
    expect(body.required).toEqual(["name", "place"]);
    expect(body.additionalProperties).toBe(false);
    expect(body.properties.hours.items).toMatchObject({ required: ["from"], additionalProperties: false });
    expect(body.properties.labels.additionalProperties).toEqual({ type: "string" });
    const places = body.properties.place.anyOf as { additionalProperties: unknown }[];
    expect(places.map((one) => one.additionalProperties)).toEqual([false, false]);
  });

  it("takes the fields of all where a body has several descriptions, and no others", () => {
    const body = bodyOf("/both", "put");
    expect(Object.keys(body.properties)).toEqual(["name", "size"]);
    expect(body.required).toEqual(["name", "size"]);
    expect(body.additionalProperties).toBe(false);
  });
});
