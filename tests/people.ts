/** A person as tests add one. */
export interface PersonRow {
  readonly email: string;
  readonly name: string;
  readonly role: "owner" | "technician" | "portal";
  readonly clientId: string | null;
}
