import { ID_BYTES } from "../seal/identity";

const FIRST_ROOM = 64;

/**
 * Numbers ids in the order in which they come, from 0 on. Ids are compared as they are, in memory without a key or an object
 * for each: millions take 48 to 72 bytes each, and nothing of it is the collector's work.
 */
export class IdNumbers {
  /** Numbers by the ids' first bytes, counted from 1; what finds its slot taken takes the next free one. */
  private slots: Int32Array;
  private ids: Uint8Array;
  private counted = 0;

  /** @param room for how many there is room at once; it grows with more */
  constructor(room = FIRST_ROOM) {
    this.slots = slotsFor(room);
    this.ids = new Uint8Array(room * ID_BYTES);
  }

  get count(): number {
    return this.counted;
  }

  /** The number of an id that begins at a place of some bytes, which it gets now if it has none. */
  add(bytes: Uint8Array, at = 0): number {
    const slot = this.slotOf(bytes, at);
    const number = this.slots[slot]! - 1;
    if (number >= 0) return number;
    if ((this.counted + 1) * ID_BYTES > this.ids.length) {
      this.grow();
      return this.add(bytes, at);
    }
    const own = this.counted * ID_BYTES;
    for (let i = 0; i < ID_BYTES; i += 1) this.ids[own + i] = bytes[at + i]!;
    this.counted += 1;
    this.slots[slot] = this.counted;
    return this.counted - 1;
  }

  /** The number of an id; -1 for one that never came. */
  find(id: Uint8Array): number {
    return this.slots[this.slotOf(id, 0)]! - 1;
  }

  private grow(): void {
    const { ids } = this;
    this.ids = new Uint8Array(Math.max(FIRST_ROOM * ID_BYTES, 2 * ids.length));
    this.ids.set(ids);
    this.slots = slotsFor(this.ids.length / ID_BYTES);
    for (let number = 0; number < this.counted; number += 1)
      this.slots[this.slotOf(ids, number * ID_BYTES)] = number + 1;
  }

  /** The slot of an id, or the free one that it would have. */
  private slotOf(bytes: Uint8Array, at: number): number {
    const mask = this.slots.length - 1;
    // ids are as good as random
    let slot = (bytes[at]! | (bytes[at + 1]! << 8) | (bytes[at + 2]! << 16) | (bytes[at + 3]! << 24)) & mask;
    for (let taken = this.slots[slot]!; taken !== 0; taken = this.slots[slot]!) {
      if (this.isAt((taken - 1) * ID_BYTES, bytes, at)) break;
      slot = (slot + 1) & mask;
    }
    return slot;
  }

  private isAt(own: number, bytes: Uint8Array, at: number): boolean {
    const { ids } = this;
    for (let i = 0; i < ID_BYTES; i += 1) if (ids[own + i] !== bytes[at + i]) return false;
    return true;
  }
}

/** Never more than half of the slots are taken, so that one is soon found. */
const slotsFor = (room: number): Int32Array => new Int32Array(2 ** Math.ceil(Math.log2(2 * room + 2)));
