/** Reads and writes CBOR (RFC 8949). */

import {
  CalendarDate,
  Decimal,
  Duration,
  Instant,
  WireError,
  checked,
  decoder,
  defaultBudget,
  distinct,
  encoder,
  inside,
  keep,
  loneSurrogate,
  maxDepth,
  maxSeconds,
  minSeconds,
  misfit,
  missing,
  must,
  narrow,
  sortedTexts,
  unlistedKind,
} from "./values.js";
import type { Any, Keeper, UnlistedField, UnlistedAlternative, Uuid } from "./values.js";

/** Bytes as characters, one each. Node has a way that is several times as fast as its TextDecoder. */
const latin1: (data: Uint8Array) => string = (() => {
  const { Buffer } = globalThis as { Buffer?: { prototype: { readonly latin1Slice?: (this: Uint8Array) => string } } };
  const slice = Buffer?.prototype.latin1Slice;
  if (slice !== undefined) {
    return (data) => slice.call(data);
  }
  const slow = new TextDecoder("latin1");
  return (data) => slow.decode(data);
})();
const pairs: readonly string[] = Array.from({ length: 256 }, (_, b) => b.toString(16).padStart(2, "0"));

// CBOR major types (RFC 8949, section 3.1).
const majorUnsigned = 0;
const majorNegative = 1;
const majorBytes = 2;
const majorText = 3;
const majorArray = 4;
const majorMap = 5;
const majorTag = 6;
const majorSimple = 7;

const majorNames = ["an integer", "a negative integer", "a byte string", "a text", "an array", "a map", "a tag", "a simple value or float"];

/** What clients send unless they are told. */
export const usualEncoding = "cbor";

/** Writes CBOR into one growing buffer, which it keeps for the next payload. */
export class CborWriter {
  private buffer = new Uint8Array(1024);
  private view = new DataView(this.buffer.buffer);
  private at = 0;
  private depth = 0;

  /** Forgets what was written. */
  reset(): void {
    this.at = 0;
    this.depth = 0;
    if (this.buffer.length > 1 << 16) {
      this.buffer = new Uint8Array(1024);
      this.view = new DataView(this.buffer.buffer);
    }
  }

  /** What was written so far, as a copy. */
  bytes(): Uint8Array<ArrayBuffer> {
    return this.buffer.slice(0, this.at);
  }

  private room(size: number): void {
    if (this.at + size <= this.buffer.length) {
      return;
    }
    const larger = new Uint8Array(Math.max(this.buffer.length * 2, this.at + size));
    larger.set(this.buffer.subarray(0, this.at));
    this.buffer = larger;
    this.view = new DataView(larger.buffer);
  }

  private head(major: number, n: number): void {
    if (this.at + 9 > this.buffer.length) {
      this.room(9);
    }
    if (n < 24) {
      this.buffer[this.at++] = (major << 5) | n;
    } else {
      this.longHead(major, n);
    }
  }

  private longHead(major: number, n: number): void {
    const first = major << 5;
    if (n < 0x100) {
      this.buffer[this.at++] = first | 24;
      this.buffer[this.at++] = n;
    } else if (n < 0x10000) {
      this.buffer[this.at++] = first | 25;
      this.buffer[this.at++] = n >> 8;
      this.buffer[this.at++] = n;
    } else if (n < 0x100000000) {
      this.buffer[this.at] = first | 26;
      this.view.setUint32(this.at + 1, n);
      this.at += 5;
    } else {
      this.buffer[this.at] = first | 27;
      this.view.setUint32(this.at + 1, n / 0x100000000);
      this.view.setUint32(this.at + 5, n >>> 0);
      this.at += 9;
    }
  }

  private bigHead(major: number, n: bigint): void {
    if (n < 0x100000000n) {
      this.head(major, Number(n));
      return;
    }
    this.room(9);
    this.buffer[this.at] = (major << 5) | 27;
    this.view.setBigUint64(this.at + 1, n);
    this.at += 9;
  }

  enter(): void {
    if (++this.depth > maxDepth) {
      throw new WireError(`a nesting over ${String(maxDepth)}`);
    }
  }

  leave(): void {
    this.depth--;
  }

  /** Begins a message or map of n entries; leave ends it. */
  openMap(n: number): void {
    this.enter();
    this.head(majorMap, n);
  }

  /** Begins a list of n items; leave ends it. */
  openList(n: number): void {
    this.enter();
    this.head(majorArray, n);
  }

  key(number: number): void {
    if (number < 24 && this.at < this.buffer.length) {
      this.buffer[this.at++] = number;
    } else {
      this.head(majorUnsigned, number);
    }
  }

  null(): void {
    this.room(1);
    this.buffer[this.at++] = 0xf6;
  }

  bool(v: boolean): void {
    must(v, "boolean");
    this.room(1);
    this.buffer[this.at++] = v ? 0xf5 : 0xf4;
  }

  int8(v: number): void {
    this.integer(checked(v, "int8", -0x80, 0x7f));
  }

  int16(v: number): void {
    this.integer(checked(v, "int16", -0x8000, 0x7fff));
  }

  int32(v: number): void {
    this.integer(checked(v, "int32", -0x80000000, 0x7fffffff));
  }

  uint8(v: number): void {
    this.head(majorUnsigned, checked(v, "uint8", 0, 0xff));
  }

  uint16(v: number): void {
    this.head(majorUnsigned, checked(v, "uint16", 0, 0xffff));
  }

  uint32(v: number): void {
    this.head(majorUnsigned, checked(v, "uint32", 0, 0xffffffff));
  }

  private integer(v: number): void {
    if (v < 0) {
      this.head(majorNegative, -1 - v);
    } else {
      this.head(majorUnsigned, v);
    }
  }

  int64(v: bigint): void {
    must(v, "bigint");
    const n = Number(v);
    if (Number.isSafeInteger(n)) {
      this.integer(n);
      return;
    }
    if (v !== BigInt.asIntN(64, v)) {
      throw new WireError(`${String(v)} is not an int64`);
    }
    if (v < 0n) {
      this.bigHead(majorNegative, -1n - v);
    } else {
      this.bigHead(majorUnsigned, v);
    }
  }

  uint64(v: bigint): void {
    must(v, "bigint");
    const n = Number(v);
    if (n >= 0 && Number.isSafeInteger(n)) {
      this.head(majorUnsigned, n);
      return;
    }
    if (v !== BigInt.asUintN(64, v)) {
      throw new WireError(`${String(v)} is not a uint64`);
    }
    this.bigHead(majorUnsigned, v);
  }

  float32(v: number): void {
    must(v, "number");
    this.room(5);
    this.buffer[this.at] = 0xfa;
    this.view.setFloat32(this.at + 1, narrow(v));
    if (v !== v) {
      this.view.setUint32(this.at + 1, 0x7fc00000);
    }
    this.at += 5;
  }

  float64(v: number): void {
    must(v, "number");
    this.room(9);
    this.buffer[this.at] = 0xfb;
    this.view.setFloat64(this.at + 1, v);
    if (v !== v) {
      this.view.setUint32(this.at + 1, 0x7ff80000);
      this.view.setUint32(this.at + 5, 0);
    }
    this.at += 9;
  }

  text(v: string): void {
    must(v, "string");
    const length = v.length;
    if (length < 64) {
      if (this.at + length + 9 > this.buffer.length) {
        this.room(length + 9);
      }
      const buffer = this.buffer;
      const start = this.at;
      let to = start + (length < 24 ? 1 : 2);
      let i = 0;
      for (; i < length; i++) {
        const c = v.charCodeAt(i);
        if (c > 127) {
          break;
        }
        buffer[to++] = c;
      }
      if (i === length) {
        if (length < 24) {
          buffer[start] = 0x60 | length;
        } else {
          buffer[start] = 0x78;
          buffer[start + 1] = length;
        }
        this.at = to;
        return;
      }
    }
    this.longText(v);
  }

  private longText(v: string): void {
    this.room(3 * v.length + 9);
    const start = this.at;
    this.head(majorText, v.length); // right for ASCII
    const { written } = encoder.encodeInto(v, this.buffer.subarray(this.at));
    if (written === v.length) {
      this.at += written;
      return;
    }
    if (loneSurrogate.test(v)) {
      throw new WireError("text with half of a surrogate pair");
    }
    const bytes = this.buffer.slice(this.at, this.at + written);
    this.at = start;
    this.head(majorText, written);
    this.raw(bytes);
  }

  bytesValue(v: Uint8Array): void {
    if (!ArrayBuffer.isView(v)) {
      throw misfit(v, "Uint8Array");
    }
    this.head(majorBytes, v.length);
    this.raw(v);
  }

  raw(v: Uint8Array): void {
    this.room(v.length);
    if (v.length < 64) {
      for (const byte of v) {
        this.buffer[this.at++] = byte; // for a few, quicker than set
      }
      return;
    }
    this.buffer.set(v, this.at);
    this.at += v.length;
  }

  uuid(v: Uuid): void {
    this.room(19);
    const { buffer } = this;
    let { at } = this;
    buffer[at++] = 0xd8;
    buffer[at++] = 37;
    buffer[at++] = 0x50;
    let bad = v.length === 36 ? 0 : -1;
    for (let i = 0; i < 36; i += 2) {
      if (i === 8 || i === 13 || i === 18 || i === 23) {
        bad |= v.charCodeAt(i) === 0x2d ? 0 : -1;
        i++;
      }
      const high = hexDigits[v.charCodeAt(i)] ?? -1;
      const low = hexDigits[v.charCodeAt(i + 1)] ?? -1;
      bad |= high | low;
      buffer[at++] = (high << 4) | low;
    }
    this.at = at;
    if (bad < 0) {
      throw new WireError("a uuid is written as 8-4-4-4-12 hexadecimal digits");
    }
  }

  instant(v: Instant): void {
    if (!(v instanceof Instant)) {
      throw misfit(v, "Instant");
    }
    if (v.nanos === 0) {
      this.head(majorTag, 1);
      this.integer(v.seconds);
      return;
    }
    this.head(majorTag, 1001);
    this.extendedTime(v.seconds, v.nanos);
  }

  /** Seconds and the coarsest exact fraction (RFC 9581). */
  private extendedTime(seconds: number, nanos: number): void {
    this.head(majorMap, nanos === 0 ? 1 : 2);
    this.integer(1);
    this.integer(seconds);
    if (nanos === 0) {
      return;
    }
    if (nanos % 1e6 === 0) {
      this.integer(-3);
      this.integer(nanos / 1e6);
    } else if (nanos % 1e3 === 0) {
      this.integer(-6);
      this.integer(nanos / 1e3);
    } else {
      this.integer(-9);
      this.integer(nanos);
    }
  }

  decimal(v: Decimal): void {
    if (!(v instanceof Decimal)) {
      throw misfit(v, "Decimal");
    }
    this.head(majorTag, 4);
    this.head(majorArray, 2);
    this.integer(-v.scale);
    const negative = v.coefficient < 0n;
    const n = negative ? -1n - v.coefficient : v.coefficient;
    if (n <= 0xffffffffffffffffn) {
      this.bigHead(negative ? majorNegative : majorUnsigned, n);
      return;
    }
    this.head(majorTag, negative ? 3 : 2);
    const hex = n.toString(16);
    const digits = hex.length % 2 === 0 ? hex : `0${hex}`;
    this.bytesValue(Uint8Array.from(digits.match(/../g) ?? [], (pair) => parseInt(pair, 16)));
  }

  date(v: CalendarDate): void {
    if (!(v instanceof CalendarDate)) {
      throw misfit(v, "CalendarDate");
    }
    this.head(majorTag, 100);
    this.integer(v.days);
  }

  duration(v: Duration): void {
    if (!(v instanceof Duration)) {
      throw misfit(v, "Duration");
    }
    const nanos = ((v.nanoseconds % 1_000_000_000n) + 1_000_000_000n) % 1_000_000_000n;
    this.head(majorTag, 1002);
    this.extendedTime(Number((v.nanoseconds - nanos) / 1_000_000_000n), Number(nanos));
  }

  any(v: Any): void {
    switch (typeof v) {
      case "boolean":
        this.bool(v);
        return;
      case "string":
        this.text(v);
        return;
      case "bigint":
        if (v >= 0n) {
          this.uint64(v);
        } else {
          this.int64(v);
        }
        return;
      case "number":
        if (!Number.isFinite(v)) {
          throw new WireError(`an any can't contain ${String(v)}`);
        }
        this.float64(v);
        return;
    }
    if (v === null) {
      this.room(1);
      this.buffer[this.at++] = 0xf6;
    } else if (v instanceof Map) {
      const map = v as ReadonlyMap<string, Any>;
      this.openMap(map.size);
      for (const [key, entry] of sortedTexts(map)) {
        this.text(key);
        this.any(entry);
      }
      this.leave();
    } else {
      const list = v as readonly Any[];
      this.openList(list.length);
      for (const item of list) {
        this.any(item);
      }
      this.leave();
    }
  }

  /** Begins the alternative of a union; leave ends it. */
  openUnion(number: number): void {
    this.openMap(1);
    this.key(number);
  }

  /** An alternative that union does not list. */
  unlisted(union: string, v: UnlistedField): void {
    if (!("number" in v)) {
      throw new WireError(`the alternative "${v.name}" is not listed in ${union}, and binary payloads contain numbers`);
    }
    this.openUnion(v.number);
    this.raw(v.cbor);
    this.leave();
  }

  /** Begins a message of n known entries; closeMessage ends it, with what this returns. */
  openMessage(n: number): number {
    const start = this.at;
    this.openMap(n);
    return start;
  }

  /** Ends the message that begins at start, and puts unlisted fields in their places among the known. */
  closeMessage(start: number, unlisted: readonly UnlistedField[] | undefined): void {
    this.leave();
    if (unlisted !== undefined) {
      this.merge(start, unlisted.filter((field) => "number" in field));
    }
  }

  private merge(start: number, kept: readonly Extract<UnlistedField, { number: number }>[]): void {
    if (kept.length === 0) {
      return;
    }
    const known = new CborReader(this.buffer.slice(start, this.at), Infinity).entries();
    this.at = start;
    this.head(majorMap, known.length + kept.length);
    let next = 0;
    const unlistedBelow = (limit: number): void => {
      for (let field = kept[next]; field !== undefined && field.number < limit; field = kept[++next]) {
        this.key(field.number);
        this.raw(field.cbor);
      }
    };
    for (const [number, entry] of known) {
      unlistedBelow(number);
      this.raw(entry);
    }
    unlistedBelow(Infinity);
  }
}

/** The value of each hexadecimal digit by its character code; others are missing. */
const hexDigits: readonly number[] = (() => {
  const table = new Array<number>(128).fill(-1);
  for (const [value, digit] of Array.from("0123456789abcdef").entries()) {
    table[digit.charCodeAt(0)] = value;
    table[digit.toUpperCase().charCodeAt(0)] = value;
  }
  return table;
})();

/** Reads CBOR; what is wrong is thrown as a WireError. */
export class CborReader {
  private readonly view: DataView;
  private at = 0;
  private depth: number;
  private first = 0;
  /** All of data, a character a byte; made when the first text is read. */
  private latin: string | undefined;

  private readonly data: Uint8Array;

  private budget: number;

  constructor(data: Uint8Array, budget: number = defaultBudget, depth = 0) {
    this.budget = budget;
    // A subclass such as Buffer has other ideas of what slice is.
    this.data = Object.getPrototypeOf(data) === Uint8Array.prototype ? data : new Uint8Array(data.buffer, data.byteOffset, data.byteLength);
    this.view = new DataView(data.buffer, data.byteOffset, data.byteLength);
    this.depth = depth;
  }

  get left(): number {
    return this.budget;
  }

  fail(detail: string, at: number = this.at, tooLarge = false): never {
    throw new WireError(detail, at, tooLarge);
  }

  private wrong(start: number, expected: string): never {
    this.fail(`expected ${expected}, found ${majorNames[this.first >> 5] ?? ""}`, start);
  }

  /** Reads null if it comes next. */
  null(): boolean {
    if (this.data[this.at] !== 0xf6) {
      return false;
    }
    this.at++;
    return true;
  }

  /** Refuses a field that was read before. */
  once(value: unknown): void {
    if (value !== undefined) {
      this.fail("the field comes twice");
    }
  }

  /** Refuses a message without a required field. */
  missing(name: string): never {
    missing(name, this.at);
  }

  end(): void {
    if (this.at < this.data.length) {
      this.fail("more bytes after the end");
    }
  }

  private early(): never {
    this.fail("the payload ends too early", this.data.length);
  }

  private readonly bigArgument = { value: 0n };

  /** Reads the first byte and the argument of an item (RFC 8949, section 3); one of 8 bytes also as a bigint. */
  private head(): number {
    const first = this.data[this.at];
    if (first === undefined) {
      this.early();
    }
    const start = this.at++;
    this.first = first;
    const info = first & 31;
    if (info < 24) {
      return info;
    }
    const size = 1 << (info - 24);
    if (info < 28 && this.at + size > this.data.length) {
      this.early();
    }
    const from = this.at;
    switch (info) {
      case 24: {
        this.at += 1;
        const argument = this.view.getUint8(from);
        if (first >> 5 === majorSimple && argument < 32) {
          this.fail("a simple value that is not well formed", start);
        }
        return argument;
      }
      case 25:
        this.at += 2;
        return this.view.getUint16(from);
      case 26:
        this.at += 4;
        return this.view.getUint32(from);
      case 27:
        this.at += 8;
        this.bigArgument.value = this.view.getBigUint64(from);
        return Number(this.bigArgument.value);
      case 31:
        if ((first >> 5 >= majorBytes && first >> 5 <= majorMap) || first >> 5 === majorSimple) {
          return 0;
        }
    }
    this.fail(`the reserved byte 0x${first.toString(16).padStart(2, "0")}`, start);
  }

  private major(): number {
    return this.first >> 5;
  }

  private definite(major: number): boolean {
    return this.major() === major && !this.indefinite;
  }

  private get indefinite(): boolean {
    return (this.first & 31) === 31;
  }

  private spend(n: number): void {
    this.budget -= n;
    if (this.budget < 0) {
      this.fail("more elements and entries than a payload may contain", this.at, true);
    }
  }

  private open(major: number, perElement: number, expected: string): number {
    const start = this.at;
    const n = this.head();
    if (this.major() !== major) {
      this.wrong(start, expected);
    }
    if (++this.depth > maxDepth) {
      this.fail(`a nesting over ${String(maxDepth)}`, start);
    }
    if (this.indefinite) {
      return -1;
    }
    if (n > (this.data.length - this.at) / perElement) {
      this.fail(`a length of ${String(n)}, more than the payload contains`, start);
    }
    this.spend(n);
    return n;
  }

  /** Begins a message that declares so many fields: its number of entries, or -1. */
  openMessage(name: string, fields: number): number {
    this.spend(1 + fields);
    return this.open(majorMap, 2, name);
  }

  /** Begins a list: its length, or -1. */
  openList(): number {
    return this.open(majorArray, 1, "a list");
  }

  /** Begins a map: its number of entries, or -1. */
  openMap(): number {
    return this.open(majorMap, 2, "a map");
  }

  leave(): void {
    this.depth--;
  }

  /** Whether an i-th element follows, of n or until a break. */
  more(i: number, n: number): boolean {
    if (n >= 0) {
      return i < n;
    }
    if (this.data[this.at] === 0xff) {
      this.at++;
      return false;
    }
    this.spend(1);
    return true;
  }

  fieldNumber(): number {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorUnsigned || n < 1 || n > 65535) {
      this.fail("expected a field number from 1 to 65535", start);
    }
    return n;
  }

  bool(): boolean {
    const start = this.at;
    this.head();
    if (this.first !== 0xf4 && this.first !== 0xf5) {
      this.wrong(start, "bool");
    }
    return this.first === 0xf5;
  }

  private signed(expected: string, high: number): number {
    const start = this.at;
    const n = this.head();
    if (this.major() > majorNegative || n > high) {
      this.wrong(start, expected);
    }
    return this.major() === majorNegative ? -1 - n : n;
  }

  private unsigned(expected: string, high: number): number {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorUnsigned || n > high) {
      this.wrong(start, expected);
    }
    return n;
  }

  int8(): number {
    return this.signed("int8", 0x7f);
  }

  int16(): number {
    return this.signed("int16", 0x7fff);
  }

  int32(): number {
    return this.signed("int32", 0x7fffffff);
  }

  uint8(): number {
    return this.unsigned("uint8", 0xff);
  }

  uint16(): number {
    return this.unsigned("uint16", 0xffff);
  }

  uint32(): number {
    return this.unsigned("uint32", 0xffffffff);
  }

  uint64(): bigint {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorUnsigned) {
      this.wrong(start, "uint64");
    }
    return (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
  }

  int64(): bigint {
    const start = this.at;
    const n = this.head();
    const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
    if (this.major() > majorNegative || exact > 0x7fffffffffffffffn) {
      this.wrong(start, "int64");
    }
    return this.major() === majorNegative ? -1n - exact : exact;
  }

  enumNumber(): number {
    return this.unsigned("the number of a member, 0 to 65535", 65535);
  }

  /** Reads a float of any width, rounded to the nearest, or an integer that it can represent. */
  float32(): number {
    const start = this.at;
    const value = this.float64();
    const float = Math.fround(value);
    const isFloat = this.first >> 5 === majorSimple;
    if ((!isFloat && float !== value) || (!Number.isFinite(float) && Number.isFinite(value))) {
      this.fail("expected float32, found a number that it can't represent", start);
    }
    return float;
  }

  float64(): number {
    const start = this.at;
    const n = this.head();
    switch (this.first) {
      case 0xfb:
        return this.view.getFloat64(start + 1);
      case 0xfa:
        return this.view.getFloat32(start + 1);
      case 0xf9:
        return float16(n);
    }
    if (this.major() <= majorNegative) {
      const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
      const value = this.major() === majorNegative ? -1n - exact : exact;
      if (BigInt(Number(value)) === value) {
        return Number(value);
      }
    }
    this.wrong(start, "float64");
  }

  text(): string {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorText) {
      this.wrong(start, "text");
    }
    const end = this.at + n;
    if (!this.indefinite && n < 256 && end <= this.data.length) {
      let i = this.at;
      while (i < end && (this.data[i] ?? 128) < 128) {
        i++;
      }
      if (i === end) {
        this.latin ??= latin1(this.data);
        const text = this.latin.substring(this.at, end);
        this.at = end;
        return text;
      }
    }
    const bytes = this.chunks(majorText, n, start);
    return this.decode(bytes, start);
  }

  private decode(bytes: Uint8Array, start: number): string {
    try {
      return decoder.decode(bytes);
    } catch {
      this.fail("text that is not UTF-8", start);
    }
  }

  /** Reads bytes, as a copy. */
  bytes(): Uint8Array {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorBytes) {
      this.wrong(start, "bytes");
    }
    return this.chunks(majorBytes, n, start).slice();
  }

  /** The content of a string, its head just read: all of it, or its chunks (RFC 8949, section 3.2.3). */
  private chunks(major: number, n: number, start: number): Uint8Array {
    if (!this.indefinite) {
      if (n > this.data.length - this.at) {
        this.fail(`a length of ${String(n)}, more than the payload contains`, start);
      }
      this.at += n;
      return this.data.subarray(this.at - n, this.at);
    }
    const all = new Uint8Array(this.data.length - this.at);
    let total = 0;
    while (this.data[this.at] !== 0xff) {
      const at = this.at;
      const length = this.head();
      if (!this.definite(major)) {
        this.wrong(at, "a chunk of the string");
      }
      if (length > this.data.length - this.at) {
        this.fail(`a length of ${String(length)}, more than the payload contains`, at);
      }
      let high = 0;
      for (const end = this.at + length; this.at < end; this.at++) {
        const byte = this.data[this.at] ?? 0;
        all[total++] = byte;
        high |= byte;
      }
      if (major === majorText && high > 127) {
        this.decode(all.subarray(total - length, total), at); // each chunk is text for itself
      }
    }
    this.at++;
    return all.subarray(0, total);
  }

  uuid(): Uuid {
    const start = this.at;
    const tag = this.head();
    if (this.major() !== majorTag || tag !== 37) {
      this.wrong(start, "uuid");
    }
    const from = this.at;
    const n = this.head();
    if (this.major() !== majorBytes) {
      this.wrong(from, "the 16 bytes of a uuid");
    }
    const b = this.chunks(majorBytes, n, from);
    if (b.length !== 16) {
      this.fail(`expected the 16 bytes of a uuid, found ${String(b.length)}`, start);
    }
    const hex = (i: number): string => pairs[b[i] ?? 0] ?? "";
    return (hex(0) + hex(1) + hex(2) + hex(3) + "-" + hex(4) + hex(5) + "-" + hex(6) + hex(7) + "-" + hex(8) + hex(9) + "-" + hex(10) + hex(11) + hex(12) + hex(13) + hex(14) + hex(15)) as Uuid;
  }

  /** Reads tag 1 with integer seconds, or tag 1001 (RFC 9581). */
  instant(): Instant {
    const start = this.at;
    const tag = this.head();
    let seconds = 0;
    let nanos = 0;
    if (this.major() === majorTag && tag === 1) {
      seconds = this.seconds();
    } else if (this.major() === majorTag && tag === 1001) {
      [seconds, nanos] = this.extendedTime();
    } else {
      this.wrong(start, "instant");
    }
    if (seconds < minSeconds || seconds > maxSeconds) {
      this.fail("an instant outside the years 0001 to 9999", start);
    }
    return Instant.of(seconds, nanos);
  }

  /** An int64 as the nearest number: what is beyond 2^53 is out of the range of times all the same. */
  private seconds(): number {
    const start = this.at;
    const n = this.head();
    if (this.major() > majorNegative || ((this.first & 31) === 27 && this.bigArgument.value > 0x7fffffffffffffffn)) {
      this.wrong(start, "int64");
    }
    return this.major() === majorNegative ? -1 - n : n;
  }

  decimal(): Decimal {
    const start = this.at;
    const tag = this.head();
    if (this.major() !== majorTag || tag !== 4) {
      this.wrong(start, "decimal");
    }
    const length = this.head();
    const open = this.indefinite;
    if (this.major() !== majorArray || (!open && length !== 2)) {
      this.wrong(start, "an array of exponent and mantissa");
    }
    const exponent = this.exponent();
    const mantissa = this.mantissa(start);
    if (open && this.data[this.at++] !== 0xff) {
      this.fail("expected the end of exponent and mantissa");
    }
    if (exponent > 1_048_576n || exponent < -1_048_576n) {
      return mantissa === 0n ? Decimal.of(0n, exponent < 0n ? 34 : 0) : this.fail(`a decimal with the exponent ${String(exponent)}`, start);
    }
    try {
      return Decimal.of(mantissa, -Number(exponent));
    } catch (problem) {
      this.fail(problem instanceof WireError ? problem.detail : "", start);
    }
  }

  /** Reads an integer, which may be beyond an int64: zero can have such an exponent. */
  private exponent(): bigint {
    const start = this.at;
    const n = this.head();
    const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
    if (this.major() > majorNegative) {
      this.wrong(start, "an exponent");
    }
    return this.major() === majorNegative ? -1n - exact : exact;
  }

  /** Reads an integer or a bignum (RFC 8949, section 3.4.3). */
  private mantissa(start: number): bigint {
    const n = this.head();
    const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
    if (this.major() === majorUnsigned) {
      return exact;
    }
    if (this.major() === majorNegative) {
      return -1n - exact;
    }
    if (this.major() !== majorTag || (n !== 2 && n !== 3)) {
      this.wrong(start, "a mantissa");
    }
    const bytes = this.bytes();
    const first = bytes.findIndex((b) => b !== 0);
    if (first >= 0 && bytes.length - first > 512) {
      this.fail("a decimal of more digits than it may have", start);
    }
    const magnitude = first < 0 ? 0n : BigInt("0x" + Array.from(bytes.subarray(first), (b) => pairs[b] ?? "").join(""));
    return n === 2 ? magnitude : -1n - magnitude;
  }

  date(): CalendarDate {
    const start = this.at;
    const tag = this.head();
    if (this.major() !== majorTag || tag !== 100) {
      this.wrong(start, "date");
    }
    const days = Number(this.int64());
    try {
      return CalendarDate.ofDays(days);
    } catch {
      this.fail("a date outside the years 0001 to 9999", start);
    }
  }

  duration(): Duration {
    const start = this.at;
    const tag = this.head();
    if (this.major() !== majorTag || tag !== 1002) {
      this.wrong(start, "duration");
    }
    const [seconds, nanos] = this.extendedTime();
    try {
      return Duration.of(BigInt(seconds) * 1_000_000_000n + BigInt(nanos));
    } catch {
      this.fail("a duration of over 2^63 nanoseconds", start);
    }
  }

  any(): Any {
    const start = this.at;
    const n = this.head();
    const exact = (this.first & 31) === 27 && this.major() <= majorNegative ? this.bigArgument.value : undefined;
    switch (this.major()) {
      case majorUnsigned:
        return exact ?? BigInt(n);
      case majorNegative: {
        const value = -1n - (exact ?? BigInt(n));
        if (value >= -0x8000000000000000n) {
          return value;
        }
        break;
      }
      case majorText:
        this.at = start;
        return this.text();
      case majorArray: {
        this.at = start;
        const list: Any[] = [];
        const length = this.openList();
        for (let i = 0; this.more(i, length); i++) {
          try {
            list.push(this.any());
          } catch (problem) {
            throw inside(problem, i);
          }
        }
        this.leave();
        return list;
      }
      case majorMap: {
        this.at = start;
        const entries = new Map<string, Any>();
        const length = this.openMap();
        for (let i = 0; this.more(i, length); i++) {
          const key = this.text();
          try {
            distinct(entries, key, this.any());
          } catch (problem) {
            throw inside(problem, key);
          }
        }
        this.leave();
        return entries;
      }
      case majorSimple: {
        if (this.first === 0xf4 || this.first === 0xf5) {
          return this.first === 0xf5;
        }
        if (this.first === 0xf6) {
          return null;
        }
        if (this.first >= 0xf9 && this.first <= 0xfb) {
          this.at = start;
          const value = this.float64();
          if (Number.isFinite(value)) {
            return value;
          }
        }
      }
    }
    this.wrong(start, "null, a bool, an integer, a finite float, text, a list or a map with text keys");
  }

  /** Begins a union: the number of its alternative, negative where closeUnion must find a break. */
  openUnion(name: string): number {
    const start = this.at;
    const n = this.head();
    if (this.major() !== majorMap || (!this.indefinite && n !== 1)) {
      if (this.major() === majorMap) {
        this.fail(`expected one alternative of ${name}, found ${String(n)}`, start);
      }
      this.wrong(start, `a map of one entry for ${name}`);
    }
    if (++this.depth > maxDepth) {
      this.fail(`a nesting over ${String(maxDepth)}`, start);
    }
    const open = this.indefinite;
    if (open && this.data[this.at] === 0xff) {
      this.fail(`expected one alternative of ${name}, found none`, start);
    }
    const number = this.fieldNumber();
    return open ? -number : number;
  }

  closeUnion(number: number): void {
    if (number < 0 && this.data[this.at++] !== 0xff) {
      this.fail("expected one alternative, found a second one");
    }
    this.depth--;
  }

  /** Keeps an alternative whose number is not listed. */
  unlisted(number: number): UnlistedAlternative {
    const start = this.at;
    this.skip();
    return { kind: unlistedKind, number, cbor: this.data.slice(start, this.at) };
  }

  private extendedTime(): [number, number] {
    const start = this.at;
    const count = this.head();
    if (this.major() !== majorMap || count > 2) {
      this.fail("expected seconds and at most one fraction", start);
    }
    const n = this.indefinite ? -1 : count;
    let seconds: number | undefined;
    let nanos = 0;
    for (let i = 0; this.more(i, n); i++) {
      const key = this.seconds();
      const value = this.seconds();
      const unit = key === -3 ? 1_000_000 : key === -6 ? 1_000 : key === -9 ? 1 : 0;
      if (key === 1 && seconds === undefined) {
        seconds = value;
      } else if (unit !== 0 && nanos === 0 && value >= 1 && value <= Math.floor(999_999_999 / unit)) {
        nanos = value * unit;
      } else {
        this.fail("expected seconds and at most one fraction of 1 to 999…", start);
      }
    }
    if (seconds === undefined) {
      this.fail("expected seconds and at most one fraction", start);
    }
    return [seconds, nanos];
  }

  /** The entries of a message that we wrote, each with its number. */
  entries(): [number, Uint8Array][] {
    const list: [number, Uint8Array][] = [];
    for (let left = this.openMap(); left > 0; left--) {
      const start = this.at;
      const number = this.fieldNumber();
      this.skip();
      list.push([number, this.data.subarray(start, this.at)]);
    }
    return list;
  }

  /** Reads an element of a stream: a map of one entry, which counts as no level of its own. */
  element<T>(read: (number: number) => T): T {
    const n = this.head();
    const open = this.indefinite;
    if (this.major() !== majorMap || (!open && n !== 1)) {
      this.fail("expected a map of one entry as the element of a stream", 0);
    }
    const value = read(this.unsigned("the number of an element", Number.MAX_SAFE_INTEGER));
    if (open && this.data[this.at++] !== 0xff) {
      this.fail("expected the end of an element");
    }
    this.end();
    return value;
  }

  /** Passes over one item. */
  pass(): void {
    this.skip();
  }

  /** Keeps an entry of m whose number the definitions do not know. */
  keepUnlisted(m: Keeper, number: number): void {
    const start = this.at;
    this.skip();
    keep(m, { number, cbor: this.data.slice(start, this.at) });
  }

  /** Passes over one well-formed item. */
  private skip(): void {
    let start = this.at;
    let n = this.head();
    while (this.major() === majorTag) {
      start = this.at;
      n = this.head();
    }
    switch (this.major()) {
      case majorBytes:
        this.chunks(majorBytes, n, start);
        break;
      case majorText:
        this.decode(this.chunks(majorText, n, start), start);
        break;
      case majorArray:
      case majorMap: {
        const items = this.major() === majorMap ? 2 : 1;
        const major = this.major();
        this.at = start;
        const length = this.open(major, items, "a value");
        for (let i = 0; this.more(i, length); i++) {
          this.skip();
          if (items === 2) {
            this.skip();
          }
        }
        this.leave();
        break;
      }
      case majorSimple:
        if (this.first === 0xff) {
          this.fail("a break where a value is due", start);
        }
    }
  }
}

/** Widens a half-precision float (RFC 8949, appendix D). */
function float16(bits: number): number {
  const exponent = (bits >> 10) & 31;
  const mantissa = bits & 1023;
  const sign = bits & 0x8000 ? -1 : 1;
  if (exponent === 0) {
    return sign * mantissa * 2 ** -24;
  }
  if (exponent === 31) {
    return mantissa === 0 ? sign * Infinity : NaN;
  }
  return sign * (mantissa + 1024) * 2 ** (exponent - 25);
}
