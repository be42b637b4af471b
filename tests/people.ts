import type { Role } from "@/core/rights/rights";

/** A person as tests add one. */
export interface PersonRow {
  readonly email: string;
  readonly name: string;
  readonly role: Role;
  readonly clientId: string | null;
  /** The clients that a technician or reader is limited to. */
  readonly clientIds?: readonly string[];
}
