/**
 * Who may do what, as data: a role, an action, and how far it reaches. The server asks `mayDo` in one place, and the
 * database holds the reach again with row-level security (migrations/0018-people.sql).
 */
export const PROVIDER_ROLES = ["owner", "technician", "reader"] as const;
export const CLIENT_ROLES = ["manager", "person"] as const;
export const ROLES = [...PROVIDER_ROLES, ...CLIENT_ROLES] as const;
export type ProviderRole = (typeof PROVIDER_ROLES)[number];
export type ClientRole = (typeof CLIENT_ROLES)[number];
export type Role = (typeof ROLES)[number];

export const isClientRole = (role: Role): role is ClientRole => CLIENT_ROLES.includes(role as ClientRole);

/** What is done. Every operation of the API is one of these. */
export const ACTIONS = {
  account: "their own sign-in: password, second factor, sessions, tokens",
  look: "the console’s views: states, rules, runs, depots, the trail",
  work: "running, connecting, changing rules, depots and clients",
  "provider-work": "the provider's own settings: depots, mail server, webhooks, hand-over notes, new clients",
  open: "the content of recovery points: browsing, restoring, downloading",
  "client-people": "a client's people and what is shared with them",
  "provider-people": "the provider’s people, their roles and clients",
  statement: "the client’s statement",
  words: "notes to exceptions of the statement",
  given: "what is shared with them: browsing, restoring, downloading",
  agree: "approving restores that wait for the client",
} as const;
export type Action = keyof typeof ACTIONS;

/** `theirs`: the clients that the person is limited to, or all where they are not. */
export type Reach = "all" | "theirs" | "own client" | "themselves" | "what was given";

export const RIGHTS: Readonly<Record<Role, Readonly<Partial<Record<Action, Reach>>>>> = {
  owner: {
    account: "themselves",
    look: "all",
    work: "all",
    "provider-work": "all",
    open: "all",
    "client-people": "all",
    "provider-people": "all",
    statement: "all",
    words: "all",
  },
  technician: {
    account: "themselves",
    look: "theirs",
    work: "theirs",
    "provider-work": "all",
    open: "theirs",
    "client-people": "theirs",
    statement: "theirs",
    words: "theirs",
  },
  reader: { account: "themselves", look: "theirs", statement: "theirs" },
  manager: {
    account: "themselves",
    statement: "own client",
    words: "own client",
    given: "what was given",
    agree: "own client",
  },
  person: { account: "themselves", given: "what was given" },
};

export const mayDo = (role: Role, action: Action): boolean => RIGHTS[role][action] !== undefined;

/** Whether a person may do it: who is limited to some clients does nothing that reaches all of them. */
export const mayPersonDo = (
  person: { readonly role: Role; readonly clientIds: readonly string[] | null },
  action: Action,
): boolean =>
  mayDo(person.role, action) && !(RIGHTS[person.role][action] === "all" && person.clientIds !== null);

export const ROLE_NAMES: Readonly<Record<Role, string>> = {
  owner: "owner",
  technician: "technician",
  reader: "reader",
  manager: "client’s manager",
  person: "client’s person",
};

/** For people who choose a role. */
export const ROLE_WORDS: Readonly<Record<Role, string>> = {
  owner: "everything, and the provider’s own people",
  technician: "everything but the provider’s own people",
  reader: "reads everything except the content of recovery points; changes nothing",
  manager: "reads the client's statements, approves restores, and restores what is shared with them",
  person: "restores what is shared with them and sees nothing else",
};
