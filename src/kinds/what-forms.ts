"use client";

import { DATABASE_WHAT_FORM } from "./database/what-fields";
import { FILE_WHAT_FORM } from "./files/what-fields";
import { GUEST_WHAT_FORM } from "./guest/what-fields";
import type { SourceKind } from "./index";
import { LIBRARY_WHAT_FORM } from "./library/what-fields";
import { MAIL_WHAT_FORM } from "./mail/what-fields";
import type { WhatOf } from "./what";
import type { WhatForm } from "./what-form";

/** The fields of each kind's part of What. */
export const WHAT_FORMS: { readonly [Id in SourceKind]: WhatForm<WhatOf[Id]> } = {
  files: FILE_WHAT_FORM,
  mail: MAIL_WHAT_FORM,
  database: DATABASE_WHAT_FORM,
  guest: GUEST_WHAT_FORM,
  library: LIBRARY_WHAT_FORM,
};
