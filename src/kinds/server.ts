import type { NetworkKind } from "./index";
import { MAIL_ACCESS } from "./mail/connect";
import type { MailSettings } from "./mail/settings";
import type { NetworkAccess } from "./network";
import type { WhatOf } from "./what";

/** The settings of each kind's connections. */
export interface NetworkSettings extends Record<NetworkKind, object> {
  readonly mail: MailSettings;
}

/** How the runner reaches each kind over the network. */
export const NETWORK_ACCESS: {
  readonly [Id in NetworkKind]: NetworkAccess<NetworkSettings[Id], WhatOf[Id]>;
} = {
  mail: MAIL_ACCESS,
};
