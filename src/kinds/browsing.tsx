"use client";

import type { ComponentType } from "react";
import type { InsideProps } from "@/ui/restore/inside-props";
import { DatabaseInside } from "./database/inside";
import { GuestInside } from "./guest/inside";
import type { SourceKind } from "./index";
import { MailInside } from "./mail/inside";

/** How recovery points of a kind are browsed; null: as a tree of files. */
export const INSIDE: Readonly<Record<SourceKind, ComponentType<InsideProps> | null>> = {
  files: null,
  mail: MailInside,
  database: DatabaseInside,
  guest: GuestInside,
  library: null,
};
