/** How a key is wrapped by a passphrase: Argon2id (RFC 9106), salt in base64, memory in KiB. */
export interface Wrapping {
  readonly salt: string;
  readonly memory: number;
  readonly passes: number;
  readonly lanes: number;
}

/** How a client's key is held, as policies and sheets tell it. */
export type KeyState = "none" | "not confirmed" | "escrow" | "passphrase" | "destroyed";

export const keyStateOf = (
  key: {
    readonly holding: "escrow" | "passphrase";
    readonly confirmedAt: Date | null;
    readonly destroyedAt: Date | null;
  } | null,
): KeyState =>
  !key ? "none" : key.destroyedAt ? "destroyed" : !key.confirmedAt ? "not confirmed" : key.holding;
