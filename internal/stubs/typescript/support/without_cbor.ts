/** What takes the place of CBOR (RFC 8949) where only JSON is read and written: unlisted fields may still be in it. */

import { WireError, keep } from "./values.js";
import type { Keeper } from "./values.js";

/** What clients send unless they are told. */
export const usualEncoding = "json";

/** What no codec has. */
export function withoutCbor(): never {
  throw new WireError('only JSON is read and written here: add "cbor" to encodings in faithful.toml, and generate again');
}

/** Writes nothing. */
export class CborWriter {
  reset(): void {
    withoutCbor();
  }

  openMap(_: number): void {
    withoutCbor();
  }

  leave(): void {
    withoutCbor();
  }

  key(_: number): void {
    withoutCbor();
  }

  text(_: string): void {
    withoutCbor();
  }

  bytes(): Uint8Array<ArrayBuffer> {
    withoutCbor();
  }
}

/** Keeps what others have written in CBOR, without a look at it. */
export class CborReader {
  /** Of the list items and entries that a payload may contain. */
  readonly left: number;
  private readonly data: Uint8Array;

  constructor(data: Uint8Array, budget: number, _ = 0) {
    this.data = data;
    this.left = budget;
  }

  keepUnlisted(m: Keeper, number: number): void {
    keep(m, { number, cbor: this.data });
  }

  end(): void {
    if (this.data.length === 0) {
      throw new WireError("a value in CBOR that has no bytes");
    }
  }

  element<T>(_: (number: number) => T): T {
    withoutCbor();
  }

  text(): string {
    withoutCbor();
  }

  pass(): void {
    withoutCbor();
  }

  enumNumber(): number {
    withoutCbor();
  }

  unlisted(number: number): { readonly number: number; readonly cbor: Uint8Array } {
    return { number, cbor: this.data };
  }
}
