"use client";

import type { ComponentType } from "react";
import type { ConnectClient } from "@/ui/clients/client-and-site";
import { ConnectDatabase } from "./database/connect-form";
import { ConnectMachine } from "./files/connect-form";
import { ConnectHost } from "./guest/connect-form";
import type { SourceKind } from "./index";
import { ConnectLibrary } from "./library/connect-form";
import { ConnectMailTenant } from "./mail/connect-form";

/** The form of each kind below its line in *Connect…*. */
export const CONNECT_FORMS: Readonly<
  Record<SourceKind, ComponentType<{ readonly clients: readonly ConnectClient[] }>>
> = {
  files: ConnectMachine,
  mail: ConnectMailTenant,
  database: ConnectDatabase,
  guest: ConnectHost,
  library: ConnectLibrary,
};
