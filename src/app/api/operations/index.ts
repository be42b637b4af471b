import { z } from "zod";
import { type OperationGroup, openApiDocument } from "@/server/api/openapi";
import { type AnyOperation, operation } from "@/server/api/operation";
import { inPages } from "@/server/api/paging";
import { exampleBodies } from "../examples";
import * as shapes from "../shapes";
import { account } from "./account";
import { authorisations } from "./authorisations";
import { clients } from "./clients";
import { connections } from "./connections";
import { consents } from "./consents";
import { depots } from "./depots";
import { gifts } from "./gifts";
import { given } from "./given";
import { insideDatabase } from "./inside-database";
import { insideGuest } from "./inside-guest";
import { insideGivenMail, insideMail } from "./inside-mail";
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

/** Operations by subject. */
const groups: readonly OperationGroup[] = (
  [
    ["People", "Signing in, invitations, and who one is.", people],
    ["Account", "One's own account: password, second factor, sessions, API tokens.", account],
    ["Staff", "The provider's people, and what is required of them.", staff],
    ["Shared sources", "What a client's people can restore themselves.", gifts],
    [
      "Portal",
      "What a client's person restores from what is shared with them.",
      [...given, ...insideGivenMail],
    ],
    ["Clients", "Clients, their sites and limits.", clients],
    ["Keys", "A client's data key: confirming, passphrase, key sheet, destruction.", keys],
    ["Consents", "Requests that need a second person.", consents],
    [
      "Connections",
      "Machines, and what the console reads over the network.",
      [...connections, ...authorisations],
    ],
    ["Depots", "Where recovery points are stored: adding, testing, granting.", depots],
    ["Keeping", "Copies, checks, drills, holds and absences.", keeping],
    ["Policies", "Policies, rules by level, consequences and advice.", policies],
    ["Sources", "Sources with their state, recovery points and runs.", sources],
    ["Statements", "Statements for clients, and usage.", statements],
    ["Watch", "Postponed causes and hand-over notes.", watching],
    ["Messages", "Mail server, webhooks and sent messages.", messages],
    ["Load", "When runs load depots, and moving them.", load],
    ["Trail", "Who did what.", trail],
    ["Restores", "Looking into recovery points, restoring, downloading.", restores],
    ["Mail inside", "Looking into recovery points of mailboxes.", insideMail],
    ["Databases inside", "Looking into recovery points of databases.", insideDatabase],
    ["Guests inside", "Looking into recovery points of guests.", insideGuest],
    ["Viewings", "Recovery points opened as a read-only share for a time.", viewings],
  ] as readonly (readonly [string, string, readonly AnyOperation[]])[]
).map(([tag, description, operations]) => ({ tag, description, operations: operations.map(inPages) }));

/** The API as OpenAPI 3.1 describes it. */
export const document = () => openApiDocument(groups, shapes, exampleBodies());

/** Everything that the API can do. Routing, the OpenAPI document and the tests of tenancy are made from this table. */
export const operations: readonly AnyOperation[] = [
  ...groups.flatMap((group) => group.operations),
  operation({
    id: "openApi",
    method: "GET",
    path: "/openapi.json",
    summary: "This API as OpenAPI 3.1.",
    caller: "anyone",
    answer: z.record(z.string(), z.unknown()),
    run: async () => document(),
  }),
];
