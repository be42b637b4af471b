"use client";

import type { ComponentType } from "react";
import type { TargetProps } from "@/ui/restore/target-parts";
import { DatabaseTarget } from "./database/target";
import { FilesTarget } from "./files/target";
import { GuestTarget } from "./guest/target";
import type { SourceKind } from "./index";
import { LibraryTarget } from "./library/target";
import { MailTarget } from "./mail/target";

/** Where the items of each kind can be restored to. */
export const TARGETS: Readonly<Record<SourceKind, ComponentType<TargetProps>>> = {
  files: FilesTarget,
  mail: MailTarget,
  database: DatabaseTarget,
  guest: GuestTarget,
  library: LibraryTarget,
};
