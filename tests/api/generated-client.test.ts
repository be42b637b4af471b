import { Validator } from "@seriousme/openapi-schema-validator";
import Ajv2020, { type ValidateFunction } from "ajv/dist/2020";
import addFormats from "ajv-formats";
import { type Document, type OpenAPIClient, OpenAPIClientAxios } from "openapi-client-axios";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { operations } from "@/app/api/operations";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** Clients that nobody here wrote, made from the document alone. */
describe("the API as its document describes it", () => {
  let console_: TestConsole;
  let client: TestClient;
  let machine: TestMachine;
  let document: Document;
  let api: OpenAPIClient;

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Kestrin Aquaculture");
    machine = await enrolMachine(console_, client, "kest-lt-01");
    console_.runAgent(machine.state);
    document = await console_.ok<Document>("GET", "/openapi.json");
    const { token } = await console_.ok<{ token: string }>("POST", "/account/tokens", {
      name: "a program",
      days: 20,
      reach: "change",
    });
    api = await new OpenAPIClientAxios({
      definition: document,
      axiosConfigDefaults: {
        baseURL: `${console_.url}/api/v1`,
        headers: { authorization: `Bearer ${token}` },
      },
    }).init();
  });
  afterAll(() => console_?.stop());

  it("is a valid document of OpenAPI 3.1", async () => {
    const result = await new Validator().validate(JSON.parse(JSON.stringify(document)));
    expect(result.errors ?? []).toEqual([]);
    expect(result.valid).toBe(true);
  });

  it("has an answer, a tag and a summary for each operation, and a body's example", () => {
    const described = Object.values(document.paths!).flatMap((methods) => Object.values(methods!));
    expect(described).toHaveLength(operations.length - 1);
    const lacking = described.flatMap((one) => {
      const { operationId, tags, summary, requestBody, responses } = one as never as {
        operationId: string;
        tags: string[];
        summary: string;
        requestBody?: { content: { "application/json": { example?: unknown } } };
        responses: Record<string, { content?: Record<string, unknown> }>;
      };
      const [status] = Object.keys(responses).filter((name) => name !== "default");
      const answers = status === "204" || Object.keys(responses[status!]!.content ?? {}).length > 0;
      const shown = !requestBody || requestBody.content["application/json"].example !== undefined;
      return tags.length === 1 && summary && answers && shown ? [] : [operationId];
    });
    expect(lacking).toEqual([]);
  });

  it("is enough to make a client from, which protects a machine and looks into its recovery point", async () => {
    const { data: found } = await api.listSources!({ client: client.id });
    expect(found.sources.map((source: { id: string }) => source.id)).toEqual([machine.sourceId]);
    expect(found.next).toBeNull();
    const { status, data } = await api.backUpNow!({ sourceId: machine.sourceId }, { pass: "full" });
    expect(status).toBe(202);
    const ended = await console_.runEnds(data.run.id, 60_000);
    expect(ended.outcome).toBe("clean");
    const { data: points } = await api.listRecoveryPoints!({ sourceId: machine.sourceId });
    const { data: entries } = await api.listEntries!({ pointId: points.points[0].id, path: "/" });
    expect(entries.entries.map((entry: { name: string }) => entry.name)).toEqual(["data"]);
    await expect(api.readRun!({ runId: client.id })).rejects.toMatchObject({
      response: { status: 404, data: { code: "not-found" } },
    });
  });

  it("tells what answers hold: each that can be read fits its schema, by another implementation", async () => {
    const run = await backUp(console_, machine.sourceId);
    const ids: Record<string, string> = {
      clientId: client.id,
      siteId: client.siteId,
      sourceId: machine.sourceId,
      policyId: client.policyId,
      depotId: client.depotId,
      connectionId: machine.machineId,
      runId: run.id,
      pointId: run.figures.point!,
      level: "client",
      ownerId: client.id,
    };
    const ajv = new Ajv2020({ strict: false, allErrors: true });
    addFormats(ajv);
    ajv.addSchema({ $id: "document", components: document.components });
    const checked: string[] = [];
    const wrong: string[] = [];
    for (const { id, path, method, answer } of operations) {
      if (method !== "GET" || !answer || id === "openApi") continue;
      const names = [...path.matchAll(/\{(\w+)\}/g)].map(([, name]) => name!);
      if (!names.every((name) => ids[name])) continue;
      const query =
        { searchEntries: "?name=x", searchSource: "?name=x", listVersions: "?path=/data" }[id] ?? "";
      const { status, body } = await console_.call(
        "GET",
        path.replace(/\{(\w+)\}/g, (_, name: string) => ids[name]!) + query,
      );
      if (status !== 200) continue;
      const { schema } = (document.paths as never as Record<string, Record<string, Shown>>)[path]!.get!
        .responses["200"]!.content["application/json"];
      const text = JSON.stringify(schema).replaceAll("#/components", "document#/components");
      const fits: ValidateFunction = ajv.compile(JSON.parse(text));
      if (!fits(body)) wrong.push(`${id}: ${ajv.errorsText(fits.errors)}`);
      checked.push(id);
    }
    expect(wrong).toEqual([]);
    expect(checked.length).toBeGreaterThan(35);
  });
});

interface Shown {
  readonly responses: Record<string, { readonly content: { "application/json": { schema: object } } }>;
}
