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

/** The OpenAPI 3.1 document of a table of operations. */
export function openApiDocument(operations: readonly AnyOperation[]) {
  const paths: Record<string, Record<string, unknown>> = {};
  for (const one of operations) {
    const parameters = (["path", "query"] as const).flatMap((where) => {
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
    const here = paths[one.path] ?? {};
    paths[one.path] = here;
    here[one.method.toLowerCase()] = {
      operationId: one.id,
      summary: one.summary,
      security: one.caller === "anyone" ? [] : [{ bearer: [] }, { session: [] }],
      ...(parameters.length ? { parameters } : {}),
      ...(one.body
        ? {
            requestBody: {
              required: true,
              content: { "application/json": { schema: closed(jsonSchema(one.body)) } },
            },
          }
        : {}),
      responses: {
        [one.status ?? 200]: { description: "Done" },
        default: {
          description: "A problem, RFC 9457",
          content: { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } },
        },
      },
    };
  }
  return {
    openapi: "3.1.0",
    info: { title: "Deep Keep", version: "1", description: "What the console does, this API can do." },
    servers: [{ url: "/api/v1" }],
    paths,
    components: {
      securitySchemes: {
        bearer: { type: "http", scheme: "bearer" },
        session: { type: "apiKey", in: "cookie", name: "deepkeep_session" },
      },
      schemas: {
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
