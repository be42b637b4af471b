import { z } from "zod";
import type { AnyOperation } from "./operation";

type Described = z.core.JSONSchema.JSONSchema;

const jsonSchema = (schema: z.ZodType): Described => {
  const { $schema: _, ...rest } = z.toJSONSchema(schema, { io: "input", unrepresentable: "any" });
  return rest;
};

/** Other fields than those described are refused. */
function closed(described: Described): Described {
  const { anyOf, oneOf, items, properties } = described;
  const each = (list: readonly Described[]) => list.map(closed);
  return {
    ...described,
    ...(anyOf && { anyOf: each(anyOf) }),
    ...(oneOf && { oneOf: each(oneOf) }),
    ...(items && { items: closed(items as Described) }),
    ...(properties && {
      properties: Object.fromEntries(
        Object.entries(properties).map(([name, one]) => [name, closed(one as Described)]),
      ),
      additionalProperties: false,
    }),
  };
}

/** Operations of one subject, as the document groups them. */
export interface OperationGroup {
  readonly tag: string;
  readonly description: string;
  readonly operations: readonly AnyOperation[];
}

const name = (shape: string): string => shape[0]!.toUpperCase() + shape.slice(1);

/** Describes answers; shapes that have a name are described once, as components. */
function answerSchemas(shapes: Readonly<Record<string, unknown>>) {
  const registry = z.registry<{ id?: string; description?: string }>();
  for (const [shape, schema] of Object.entries(shapes))
    if (schema instanceof z.ZodType && !registry.has(schema)) registry.add(schema, { id: name(shape) });
  const metadata = {
    get: (schema: z.ZodType) => ({ ...z.globalRegistry.get(schema), ...registry.get(schema) }),
    has: (schema: z.ZodType) => registry.has(schema) || z.globalRegistry.has(schema),
  };
  const components: Record<string, Described> = {};
  const described = (schema: z.ZodType): Described => {
    const text = JSON.stringify(
      z.toJSONSchema(schema, { io: "output", unrepresentable: "any", metadata: metadata as never }),
    ).replaceAll("#/$defs/", "#/components/schemas/");
    const { $schema: _, $defs = {}, id: __, ...rest } = JSON.parse(text) as Described;
    for (const [key, { id: ___, ...one }] of Object.entries($defs as Record<string, Described>))
      components[key] = one;
    return rest;
  };
  return { described, components };
}

const PROBLEM = {
  description: "A problem, RFC 9457",
  content: { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } },
};
const IDEMPOTENCY_KEY = {
  name: "Idempotency-Key",
  in: "header",
  required: false,
  description:
    "A text of your choice. A request that is repeated with it within a day is carried out once; the answer is that of the first.",
  schema: { type: "string", maxLength: 200 },
};

/** The OpenAPI 3.1 document of a table of operations. `shapes`: named parts of answers; `examples`: bodies by operation. */
export function openApiDocument(
  groups: readonly OperationGroup[],
  shapes: Readonly<Record<string, unknown>> = {},
  examples: Readonly<Record<string, unknown>> = {},
) {
  const paths: Record<string, Record<string, unknown>> = {};
  const { described, components } = answerSchemas(shapes);
  for (const { tag, operations } of groups)
    for (const one of operations) {
      const parameters: object[] = (["path", "query"] as const).flatMap((where) => {
        const schema = where === "path" ? one.params : one.query;
        if (!schema) return [];
        const shape = schema.shape as Record<string, z.ZodType>;
        return Object.entries(shape).map(([name, type]) => ({
          name,
          in: where,
          required: where === "path" || !type.safeParse(undefined).success,
          schema: jsonSchema(type),
        }));
      });
      if (one.method === "POST" && one.caller !== "anyone") parameters.push(IDEMPOTENCY_KEY);
      const content = {
        ...(one.answer && { "application/json": { schema: described(one.answer) } }),
        ...Object.fromEntries((one.media ?? []).map((type: string) => [type, {}])),
      };
      const empty = Object.keys(content).length === 0;
      const here = paths[one.path] ?? {};
      paths[one.path] = here;
      here[one.method.toLowerCase()] = {
        operationId: one.id,
        tags: [tag],
        summary: one.summary,
        security: one.caller === "anyone" ? [] : [{ bearer: [] }, { session: [] }],
        ...(parameters.length ? { parameters } : {}),
        ...(one.body
          ? {
              requestBody: {
                required: !one.body.safeParse(undefined).success,
                content: {
                  "application/json": {
                    schema: closed(jsonSchema(one.body)),
                    ...(one.id in examples && { example: examples[one.id] }),
                  },
                },
              },
            }
          : {}),
        responses: {
          [empty ? 204 : (one.status ?? 200)]: empty
            ? { description: "Done" }
            : { description: "Done", content },
          default: PROBLEM,
        },
      };
    }
  return {
    openapi: "3.1.0",
    info: {
      title: "Deep Keep",
      version: "1",
      description: "This API covers everything that the console does.",
    },
    servers: [{ url: "/api/v1" }],
    tags: groups.map(({ tag, description }) => ({ name: tag, description })),
    paths,
    components: {
      securitySchemes: {
        bearer: { type: "http", scheme: "bearer" },
        session: { type: "apiKey", in: "cookie", name: "deepkeep_session" },
      },
      schemas: {
        ...components,
        Problem: {
          type: "object",
          required: ["type", "title", "status", "code"],
          properties: {
            type: { type: "string" },
            title: { type: "string" },
            status: { type: "integer" },
            detail: { type: "string" },
            code: { type: "string" },
            remedy: { type: "string" },
            errors: {
              type: "array",
              items: {
                type: "object",
                properties: { field: { type: "string" }, message: { type: "string" } },
              },
            },
          },
        },
      },
    },
  };
}
