import { DATABASE_ACCESS } from "./database/connect";
import { GUEST_ACCESS } from "./guest/connect";
import type { NetworkKind } from "./index";
import { LIBRARY_ACCESS } from "./library/connect";
import { MAIL_ACCESS } from "./mail/connect";
import type { NetworkAccess } from "./network";
import type { ConnectionSettings, SettingsOf } from "./settings";
import type { WhatOf } from "./what";

/** How the runner reaches each kind over the network. */
const NETWORK_ACCESS: { readonly [Id in NetworkKind]: NetworkAccess<SettingsOf[Id], WhatOf[Id]> } = {
  mail: MAIL_ACCESS,
  database: DATABASE_ACCESS,
  guest: GUEST_ACCESS,
  library: LIBRARY_ACCESS,
};

/** The access to a kind for who knows no kind: settings and What are those of the kind's own connections and sources. */
export const networkAccess = (kind: NetworkKind) =>
  NETWORK_ACCESS[kind] as unknown as NetworkAccess<ConnectionSettings, object>;
