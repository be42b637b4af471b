import { openApiDocument } from "@/server/api/openapi";
import { type AnyOperation, operation } from "@/server/api/operation";
import { inPages } from "@/server/api/paging";
import { account } from "./account";
import { clients } from "./clients";
import { connections } from "./connections";
import { consents } from "./consents";
import { depots } from "./depots";
import { gifts } from "./gifts";
import { given } from "./given";
import { keeping } from "./keeping";
import { keys } from "./keys";
import { load } from "./load";
import { messages } from "./messages";
import { people } from "./people";
import { policies } from "./policies";
import { restores } from "./restores";
import { sources } from "./sources";
import { staff } from "./staff";
import { statements } from "./statements";
import { trail } from "./trail";
import { viewings } from "./viewings";
import { watching } from "./watching";

const described: readonly AnyOperation[] = (
  [
    ...people,
    ...account,
    ...staff,
    ...gifts,
    ...given,
    ...clients,
    ...keys,
    ...consents,
    ...connections,
    ...depots,
    ...keeping,
    ...policies,
    ...sources,
    ...statements,
    ...watching,
    ...messages,
    ...load,
    ...trail,
    ...restores,
    ...viewings,
  ] as readonly AnyOperation[]
).map(inPages);

/** Everything that the API can do. Routing, the OpenAPI document and the tests of tenancy are made from this table. */
export const operations: readonly AnyOperation[] = [
  ...described,
  operation({
    id: "openApi",
    method: "GET",
    path: "/openapi.json",
    summary: "This API as OpenAPI 3.1.",
    caller: "anyone",
    run: async () => openApiDocument(described),
  }),
];
