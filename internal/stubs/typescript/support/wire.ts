/**
 * Reads and writes payloads: CBOR (RFC 8949) and JSON (RFC 8259). The message
 * types beside it call it; other code seldom needs more than Uuid, Instant
 * and WireError.
 */

/** How deep messages, lists and maps may nest. */
export const maxDepth = 100;

/** How many list items and entries one payload may hold. */
export const defaultBudget = 1_000_000;

/** The text of an enum's value that is not listed: its number or its name. */
export type Unlisted = `#${number}` | `?${string}`;

/** Holds what a message was read with and its definitions do not know. */
export const unknown: unique symbol = Symbol("unknown fields");

/** A field that the definitions do not know: by number as CBOR, or by name as JSON. */
export type UnknownField =
  | { readonly number: number; readonly cbor: Uint8Array }
  | { readonly name: string; readonly json: string };

/** Says why a payload could not be read, or a value not be written. */
export class WireError extends Error {
  override readonly name = "WireError";
  /** RFC 6901; "" is the whole payload. */
  path = "";
  constructor(
    readonly detail: string,
    /** In bytes from the start; -1 when writing. */
    readonly offset = -1,
    readonly tooLarge = false,
  ) {
    super(detail);
  }

  /** Adds a step to the path, on the way up. */
  inside(step: string): this {
    this.path = pointer(step) + this.path;
    const at = this.offset < 0 ? "" : ` (byte ${this.offset})`;
    this.message = `${this.path}: ${this.detail}${at}`;
    return this;
  }
}

/** Adds a step to the path of what went wrong, if it is a WireError. */
export function inside(problem: unknown, step: string | number): unknown {
  return problem instanceof WireError ? problem.inside(String(step)) : problem;
}

/** A step of a JSON Pointer (RFC 6901). */
export function pointer(step: string): string {
  return "/" + step.replaceAll("~", "~0").replaceAll("/", "~1");
}

/** One thing that a request must not hold. */
export interface Violation {
  /** RFC 6901. */
  readonly pointer: string;
  readonly detail: string;
}

/** A field's number and its name in JSON. */
export type Fields = readonly (readonly [number: number, name: string])[];

/** A uuid: 8-4-4-4-12 hexadecimal digits, lower case (RFC 9562). */
export type Uuid = string & { readonly [uuidBrand]: true };
declare const uuidBrand: unique symbol;

const uuidPattern = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;

/** Makes a Uuid of its text, in either case. */
export function uuid(text: string): Uuid {
  if (!uuidPattern.test(text)) {
    throw new WireError("a uuid is written as 8-4-4-4-12 hexadecimal digits");
  }
  return text.toLowerCase() as Uuid;
}

const minSeconds = -62135596800;
const maxSeconds = 253402300799;
const instantPattern = /^(\d{4})-(\d\d)-(\d\d)T(\d\d):(\d\d):(\d\d)(?:\.(\d{1,9}))?(?:Z|([+-])(\d\d):(\d\d))$/;

/** A point in time, to the nanosecond, in the years 0001 to 9999. */
export class Instant {
  private constructor(
    /** Whole seconds since 1970-01-01T00:00:00Z. */
    readonly seconds: number,
    /** Nanoseconds after that, 0 to 999,999,999. */
    readonly nanos: number,
  ) {}

  static of(seconds: number, nanos = 0): Instant {
    const whole = Number.isInteger(seconds) && Number.isInteger(nanos) && nanos >= 0 && nanos < 1e9;
    if (!whole || seconds < minSeconds || seconds > maxSeconds) {
      throw new WireError("an instant lies in the years 0001 to 9999");
    }
    return new Instant(seconds, nanos);
  }

  static fromDate(date: Date): Instant {
    const seconds = Math.floor(date.getTime() / 1000);
    return Instant.of(seconds, (date.getTime() - seconds * 1000) * 1e6);
  }

  /** Reads RFC 3339 with any offset and up to 9 digits of a fraction. */
  static parse(text: string): Instant {
    const m = instantPattern.exec(text);
    const wrong = new WireError("an instant is written as in 2026-07-15T09:30:00Z");
    if (m === null) {
      throw wrong;
    }
    const [year, month, day, hour, minute, second] = m.slice(1, 7).map(Number) as [number, number, number, number, number, number];
    const offsetHours = Number(m[9] ?? 0);
    const offsetMinutes = Number(m[10] ?? 0);
    const date = new Date(0);
    date.setUTCFullYear(year, month - 1, day);
    const dayExists = date.getUTCMonth() === month - 1 && date.getUTCDate() === day;
    if (!dayExists || hour > 23 || minute > 59 || second > 59 || offsetHours > 23 || offsetMinutes > 59) {
      throw wrong;
    }
    const offset = (offsetHours * 3600 + offsetMinutes * 60) * (m[8] === "-" ? -1 : 1);
    return Instant.of(date.getTime() / 1000 + hour * 3600 + minute * 60 + second - offset, Number((m[7] ?? "0").padEnd(9, "0")));
  }

  /** Negative, 0 or positive as this is before, at or after other. */
  compare(other: Instant): number {
    return this.seconds - other.seconds || this.nanos - other.nanos;
  }

  /** The instant to the millisecond below. */
  toDate(): Date {
    return new Date(this.seconds * 1000 + Math.floor(this.nanos / 1e6));
  }

  /** RFC 3339 in UTC with the shortest exact fraction. */
  toString(): string {
    const whole = new Date(this.seconds * 1000).toISOString().slice(0, 19);
    const fraction = this.nanos === 0 ? "" : "." + String(this.nanos).padStart(9, "0").replace(/0+$/, "");
    return whole + fraction + "Z";
  }

  toJSON(): string {
    return this.toString();
  }
}

const decoder = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
const encoder = new TextEncoder();
const loneSurrogate = /\p{Surrogate}/u;

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

/** A number that is an integer in a range, or a refusal. */
function checked(v: number, kind: string, low: number, high: number): number {
  if (!Number.isInteger(v) || v < low || v > high) {
    throw new WireError(`${v} is no ${kind}`);
  }
  return v;
}

/** A number as the nearest float32; one that is too large is refused. */
function narrow(v: number): number {
  const float = Math.fround(v);
  if (!Number.isFinite(float) && Number.isFinite(v)) {
    throw new WireError(`${v} is too large for a float32`);
  }
  return float;
}

/** Writes CBOR into one growing buffer. */
export class CborWriter {
  private buffer = new Uint8Array(256);
  private view = new DataView(this.buffer.buffer);
  private at = 0;
  private depth = 0;

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
    this.room(9);
    const first = major << 5;
    if (n < 24) {
      this.buffer[this.at++] = first | n;
    } else if (n < 0x100) {
      this.buffer[this.at++] = first | 24;
      this.buffer[this.at++] = n;
    } else if (n < 0x10000) {
      this.buffer[this.at] = first | 25;
      this.view.setUint16(this.at + 1, n);
      this.at += 3;
    } else if (n < 0x100000000) {
      this.buffer[this.at] = first | 26;
      this.view.setUint32(this.at + 1, n);
      this.at += 5;
    } else {
      this.bigHead(major, BigInt(n));
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
      throw new WireError(`a nesting over ${maxDepth}`);
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
    this.head(majorUnsigned, number);
  }

  bool(v: boolean): void {
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
    if (v !== BigInt.asIntN(64, v)) {
      throw new WireError(`${v} is no int64`);
    }
    if (v < 0n) {
      this.bigHead(majorNegative, -1n - v);
    } else {
      this.bigHead(majorUnsigned, v);
    }
  }

  uint64(v: bigint): void {
    if (v !== BigInt.asUintN(64, v)) {
      throw new WireError(`${v} is no uint64`);
    }
    this.bigHead(majorUnsigned, v);
  }

  float32(v: number): void {
    this.room(5);
    this.buffer[this.at] = 0xfa;
    this.view.setFloat32(this.at + 1, narrow(v));
    if (v !== v) {
      this.view.setUint32(this.at + 1, 0x7fc00000);
    }
    this.at += 5;
  }

  float64(v: number): void {
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
    const length = v.length;
    if (length < 64) {
      this.room(length + 9); // as much as head asks for, lest it moves what is written here
      const start = this.at;
      const from = start + (length < 24 ? 1 : 2);
      let i = 0;
      for (; i < length; i++) {
        const c = v.charCodeAt(i);
        if (c > 127) {
          break;
        }
        this.buffer[from + i] = c;
      }
      if (i === length) {
        this.head(majorText, length);
        this.at = from + length;
        return;
      }
      this.at = start;
    }
    if (loneSurrogate.test(v)) {
      throw new WireError("text with half of a surrogate pair");
    }
    const bytes = encoder.encode(v);
    this.head(majorText, bytes.length);
    this.raw(bytes);
  }

  bytesValue(v: Uint8Array): void {
    this.head(majorBytes, v.length);
    this.raw(v);
  }

  raw(v: Uint8Array): void {
    this.room(v.length);
    this.buffer.set(v, this.at);
    this.at += v.length;
  }

  uuid(v: Uuid): void {
    this.room(19);
    this.buffer[this.at++] = 0xd8;
    this.buffer[this.at++] = 37;
    this.buffer[this.at++] = 0x50;
    const digits = v.replaceAll("-", "");
    if (!uuidPattern.test(v)) {
      throw new WireError("a uuid is written as 8-4-4-4-12 hexadecimal digits");
    }
    for (let i = 0; i < 32; i += 2) {
      this.buffer[this.at++] = parseInt(digits.slice(i, i + 2), 16);
    }
  }

  instant(v: Instant): void {
    if (v.nanos === 0) {
      this.head(majorTag, 1);
      this.integer(v.seconds);
      return;
    }
    this.head(majorTag, 1001);
    this.head(majorMap, 2);
    this.integer(1);
    this.integer(v.seconds);
    const [key, unit] = v.nanos % 1e6 === 0 ? [-3, 1e6] : v.nanos % 1e3 === 0 ? [-6, 1e3] : [-9, 1];
    this.integer(key);
    this.integer(v.nanos / unit);
  }

  /** Begins a message of n known entries; closeMessage ends it, with what this returns. */
  openMessage(n: number): number {
    const start = this.at;
    this.openMap(n);
    return start;
  }

  /** Ends the message that begins at start, and puts unknown fields in their places among the known. */
  closeMessage(start: number, unknown: readonly UnknownField[] | undefined): void {
    this.leave();
    const kept = unknown?.filter((field) => "number" in field) ?? [];
    if (kept.length === 0) {
      return;
    }
    const known = new CborReader(this.buffer.slice(start, this.at), Infinity).entries();
    this.at = start;
    this.head(majorMap, known.length + kept.length);
    let next = 0;
    const unknownBelow = (limit: number): void => {
      for (let field = kept[next]; field !== undefined && field.number < limit; field = kept[++next]) {
        this.key(field.number);
        this.raw(field.cbor);
      }
    };
    for (const [number, entry] of known) {
      unknownBelow(number);
      this.raw(entry);
    }
    unknownBelow(Infinity);
  }
}

/** Map entries in the order of their encoding (RFC 8949, section 4.2.1). */
export function sortedEntries<V>(map: ReadonlyMap<string, V>): [string, V][] {
  const keyed = [...map].map((entry) => ({ entry, bytes: encoder.encode(entry[0]) }));
  keyed.sort((a, b) => {
    if (a.bytes.length !== b.bytes.length) {
      return a.bytes.length - b.bytes.length;
    }
    for (let i = 0; i < a.bytes.length; i++) {
      const difference = (a.bytes[i] ?? 0) - (b.bytes[i] ?? 0);
      if (difference !== 0) {
        return difference;
      }
    }
    return 0;
  });
  return keyed.map(({ entry }) => entry);
}

/** Reads CBOR; what is wrong is thrown as a WireError. */
export class CborReader {
  private readonly view: DataView;
  private at = 0;
  private depth: number;
  private first = 0;

  constructor(
    private readonly data: Uint8Array,
    private budget = defaultBudget,
    depth = 0,
  ) {
    this.view = new DataView(data.buffer, data.byteOffset, data.byteLength);
    this.depth = depth;
  }

  get left(): number {
    return this.budget;
  }

  fail(detail: string, at = this.at, tooLarge = false): never {
    throw new WireError(detail, at, tooLarge);
  }

  private wrong(start: number, expected: string): never {
    this.fail(`expected ${expected}, found ${majorNames[this.first >> 5] ?? ""}`, start);
  }

  /** Refuses a field that was read before. */
  once(value: unknown): void {
    if (value !== undefined) {
      this.fail("the field comes twice");
    }
  }

  /** The value of a required field, or a refusal. */
  required<T>(value: T | undefined, name: string): T {
    return value ?? missing(name, this.at);
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

  private get major(): number {
    return this.first >> 5;
  }

  private get indefinite(): boolean {
    return (this.first & 31) === 31;
  }

  private spend(n: number): void {
    this.budget -= n;
    if (this.budget < 0) {
      this.fail("more items and entries than a payload may hold", this.at, true);
    }
  }

  private open(major: number, perElement: number, expected: string): number {
    const start = this.at;
    const n = this.head();
    if (this.major !== major) {
      this.wrong(start, expected);
    }
    if (++this.depth > maxDepth) {
      this.fail(`a nesting over ${maxDepth}`, start);
    }
    if (this.indefinite) {
      return -1;
    }
    if (n > (this.data.length - this.at) / perElement) {
      this.fail(`a length of ${n}, more than the payload holds`, start);
    }
    this.spend(n);
    return n;
  }

  /** Begins a message: its number of entries, or -1. */
  openMessage(name: string): number {
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
    if (this.major !== majorUnsigned || n < 1 || n > 65535) {
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
    if (this.major > majorNegative || n > high) {
      this.wrong(start, expected);
    }
    return this.major === majorNegative ? -1 - n : n;
  }

  private unsigned(expected: string, high: number): number {
    const start = this.at;
    const n = this.head();
    if (this.major !== majorUnsigned || n > high) {
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
    if (this.major !== majorUnsigned) {
      this.wrong(start, "uint64");
    }
    return (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
  }

  int64(): bigint {
    const start = this.at;
    const n = this.head();
    const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
    if (this.major > majorNegative || exact > 0x7fffffffffffffffn) {
      this.wrong(start, "int64");
    }
    return this.major === majorNegative ? -1n - exact : exact;
  }

  enumNumber(): number {
    return this.unsigned("the number of a member, 0 to 65535", 65535);
  }

  /** Reads a float of any width, rounded to the nearest, or an integer that it can hold. */
  float32(): number {
    const start = this.at;
    const value = this.float64();
    const float = Math.fround(value);
    const isFloat = this.first >> 5 === majorSimple;
    if ((!isFloat && float !== value) || (!Number.isFinite(float) && Number.isFinite(value))) {
      this.fail("expected float32, found a number that it can't hold", start);
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
    if (this.major <= majorNegative) {
      const exact = (this.first & 31) === 27 ? this.bigArgument.value : BigInt(n);
      const value = this.major === majorNegative ? -1n - exact : exact;
      if (BigInt(Number(value)) === value) {
        return Number(value);
      }
    }
    this.wrong(start, "float64");
  }

  text(): string {
    const start = this.at;
    const n = this.head();
    if (this.major !== majorText) {
      this.wrong(start, "text");
    }
    if (!this.indefinite && n < 32 && this.at + n <= this.data.length) {
      let s = "";
      let i = this.at;
      for (; i < this.at + n; i++) {
        const c = this.data[i] ?? 128;
        if (c > 127) {
          break;
        }
        s += String.fromCharCode(c);
      }
      if (i === this.at + n) {
        this.at = i;
        return s;
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
    if (this.major !== majorBytes) {
      this.wrong(start, "bytes");
    }
    return this.chunks(majorBytes, n, start).slice();
  }

  /** What a string holds, its head just read: all of it, or its chunks (RFC 8949, section 3.2.3). */
  private chunks(major: number, n: number, start: number): Uint8Array {
    if (!this.indefinite) {
      if (n > this.data.length - this.at) {
        this.fail(`a length of ${n}, more than the payload holds`, start);
      }
      this.at += n;
      return this.data.subarray(this.at - n, this.at);
    }
    const parts: Uint8Array[] = [];
    let total = 0;
    while (this.data[this.at] !== 0xff) {
      const at = this.at;
      const length = this.head();
      if (this.major !== major || this.indefinite) {
        this.wrong(at, "a chunk of the string");
      }
      const part = this.chunks(major, length, at);
      if (major === majorText) {
        this.decode(part, at);
      }
      parts.push(part);
      total += part.length;
    }
    this.at++;
    const all = new Uint8Array(total);
    let to = 0;
    for (const part of parts) {
      all.set(part, to);
      to += part.length;
    }
    return all;
  }

  uuid(): Uuid {
    const start = this.at;
    const tag = this.head();
    if (this.major !== majorTag || tag !== 37) {
      this.wrong(start, "uuid");
    }
    const bytes = this.bytes();
    if (bytes.length !== 16) {
      this.fail(`expected the 16 bytes of a uuid, found ${bytes.length}`, start);
    }
    const hex = Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");
    return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}` as Uuid;
  }

  /** Reads tag 1 with integer seconds, or tag 1001 (RFC 9581). */
  instant(): Instant {
    const start = this.at;
    const tag = this.head();
    let seconds = 0n;
    let nanos = 0;
    if (this.major === majorTag && tag === 1) {
      seconds = this.int64();
    } else if (this.major === majorTag && tag === 1001) {
      [seconds, nanos] = this.extendedTime();
    } else {
      this.wrong(start, "instant");
    }
    if (seconds < BigInt(minSeconds) || seconds > BigInt(maxSeconds)) {
      this.fail("an instant outside the years 0001 to 9999", start);
    }
    return Instant.of(Number(seconds), nanos);
  }

  private extendedTime(): [bigint, number] {
    const start = this.at;
    const count = this.head();
    if (this.major !== majorMap || count > 2) {
      this.fail("expected seconds and at most one fraction", start);
    }
    const n = this.indefinite ? -1 : count;
    let seconds: bigint | undefined;
    let nanos = 0;
    for (let i = 0; this.more(i, n); i++) {
      const key = this.int64();
      const value = this.int64();
      const unit = key === -3n ? 1_000_000n : key === -6n ? 1_000n : key === -9n ? 1n : 0n;
      if (key === 1n && seconds === undefined) {
        seconds = value;
      } else if (unit !== 0n && nanos === 0 && value >= 1n && value <= 999_999_999n / unit) {
        nanos = Number(value * unit);
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
    for (let left = this.openMessage("a message"); left > 0; left--) {
      const start = this.at;
      const number = this.fieldNumber();
      this.skip();
      list.push([number, this.data.subarray(start, this.at)]);
    }
    return list;
  }

  /** Keeps an entry whose number the definitions do not know. */
  unknown(list: UnknownField[], number: number): void {
    const start = this.at;
    this.skip();
    list.push({ number, cbor: this.data.slice(start, this.at) });
  }

  /** Passes over one well-formed item. */
  private skip(): void {
    let start = this.at;
    let n = this.head();
    while (this.major === majorTag) {
      start = this.at;
      n = this.head();
    }
    switch (this.major) {
      case majorBytes:
        this.chunks(majorBytes, n, start);
        break;
      case majorText:
        this.decode(this.chunks(majorText, n, start), start);
        break;
      case majorArray:
      case majorMap: {
        const items = this.major === majorMap ? 2 : 1;
        const major = this.major;
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

function missing(name: string, offset: number): never {
  throw new WireError("the field is required", offset).inside(name);
}

/** Refuses a map in which some key came twice. */
export function distinct<V>(map: Map<string, V>, key: string, value: V): void {
  if (map.has(key)) {
    throw new WireError("the key comes twice").inside(key);
  }
  map.set(key, value);
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

function rank(field: UnknownField): number {
  return "number" in field ? field.number : 65536;
}

/**
 * Puts the unknown fields of a message in order, numbers ascending before names,
 * and refuses what came twice. It is done once, at the end: a payload of many
 * unknown fields must not cost more than its length. Undefined is none.
 */
export function settle(list: UnknownField[]): readonly UnknownField[] | undefined {
  if (list.length === 0) {
    return undefined;
  }
  const seen = new Set<number | string>();
  for (const field of list) {
    const identity = "number" in field ? field.number : field.name;
    if (seen.has(identity)) {
      throw new WireError("an unknown field comes twice").inside("number" in field ? `#${field.number}` : field.name);
    }
    seen.add(identity);
  }
  return list.sort((a, b) => rank(a) - rank(b));
}

/** Adds the step of the field with a number to what went wrong. */
export function insideField(problem: unknown, fields: Fields, number: number): unknown {
  return number === 0 ? problem : inside(problem, fields.find(([n]) => n === number)?.[1] ?? `#${number}`);
}

/** A message while it is read: every field may still be missing. */
export type Draft<T> = { -readonly [K in keyof Required<T>]: Required<T>[K] | undefined };

/** A message while it is made. */
export type Mutable<T> = { -readonly [K in keyof T]: T[K] };

/** Every declared error is one: its name is the full name in the definitions. */
export class DeclaredError extends Error {
  constructor(name: string, message: string) {
    super(message);
    this.name = name;
  }
}

/** Writes JSON, without blanks between tokens. */
export class JsonWriter {
  out = "";
  private depth = 0;

  open(bracket: string): void {
    if (++this.depth > maxDepth) {
      throw new WireError(`a nesting over ${maxDepth}`);
    }
    this.out += bracket;
  }

  close(bracket: string): void {
    this.depth--;
    this.out += bracket;
  }

  /** Writes a comma unless nothing stands before it. */
  separate(): void {
    const last = this.out.charCodeAt(this.out.length - 1);
    if (last !== 0x7b && last !== 0x5b) {
      this.out += ",";
    }
  }

  /** Writes the name of a member, with what separates it. */
  member(name: string): void {
    this.separate();
    this.text(name);
    this.out += ":";
  }

  bool(v: boolean): void {
    this.out += v ? "true" : "false";
  }

  int8(v: number): void {
    this.out += checked(v, "int8", -0x80, 0x7f);
  }

  int16(v: number): void {
    this.out += checked(v, "int16", -0x8000, 0x7fff);
  }

  int32(v: number): void {
    this.out += checked(v, "int32", -0x80000000, 0x7fffffff);
  }

  uint8(v: number): void {
    this.out += checked(v, "uint8", 0, 0xff);
  }

  uint16(v: number): void {
    this.out += checked(v, "uint16", 0, 0xffff);
  }

  uint32(v: number): void {
    this.out += checked(v, "uint32", 0, 0xffffffff);
  }

  uint64(v: bigint): void {
    if (v !== BigInt.asUintN(64, v)) {
      throw new WireError(`${v} is no uint64`);
    }
    this.out += v <= 0x1fffffffffffffn ? v.toString() : `"${v}"`;
  }

  float32(v: number): void {
    this.float64(narrow(v));
  }

  int64(v: bigint): void {
    if (v !== BigInt.asIntN(64, v)) {
      throw new WireError(`${v} is no int64`);
    }
    const safe = v <= 0x1fffffffffffffn && v >= -0x1fffffffffffffn;
    this.out += safe ? v.toString() : `"${v}"`;
  }

  float64(v: number): void {
    if (v !== v) {
      this.out += '"NaN"';
    } else if (v === Infinity || v === -Infinity) {
      this.out += `"${v}"`;
    } else {
      this.out += Object.is(v, -0) ? "-0" : String(v);
    }
  }

  text(v: string): void {
    if (loneSurrogate.test(v)) {
      throw new WireError("text with half of a surrogate pair");
    }
    this.out += JSON.stringify(v);
  }

  bytesValue(v: Uint8Array): void {
    this.out += `"${toBase64(v)}"`;
  }

  uuid(v: Uuid): void {
    this.out += `"${uuid(v)}"`;
  }

  instant(v: Instant): void {
    this.out += `"${v.toString()}"`;
  }

  /** Begins a message; closeMessage ends it, with what this returns. */
  openMessage(): number {
    const start = this.out.length;
    this.open("{");
    return start;
  }

  /** Ends the message that begins at start, and puts unknown fields in: numbers in their places among the known, names last. */
  closeMessage(start: number, unknown: readonly UnknownField[] | undefined, fields: Fields): void {
    this.close("}");
    if (unknown === undefined || unknown.length === 0) {
      return;
    }
    const members = new JsonReader(this.out.slice(start)).members().map(([name, json]) => ({ rank: fields.find((field) => field[1] === name)?.[0] ?? 0, name, json }));
    for (const field of unknown) {
      members.push("number" in field ? { rank: field.number, name: `#${field.number}`, json: `"${toBase64(field.cbor)}"` } : { rank: rank(field), name: field.name, json: field.json });
    }
    // Sorting is stable, so names stay in the order in which they were read.
    members.sort((a, b) => a.rank - b.rank);
    this.out = this.out.slice(0, start) + "{" + members.map(({ name, json }) => `${JSON.stringify(name)}:${json}`).join(",") + "}";
  }
}

const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
const digits64 = new Map([...alphabet].map((c, i) => [c, i]));
digits64.set("+", 62).set("/", 63);

/** Writes base64url without padding (RFC 4648, section 5). */
export function toBase64(bytes: Uint8Array): string {
  let text = "";
  for (let i = 0; i < bytes.length; i += 3) {
    const left = bytes.length - i;
    const word = ((bytes[i] ?? 0) << 16) | ((bytes[i + 1] ?? 0) << 8) | (bytes[i + 2] ?? 0);
    text += alphabet.charAt(word >> 18) + alphabet.charAt((word >> 12) & 63);
    text += left > 1 ? alphabet.charAt((word >> 6) & 63) : "";
    text += left > 2 ? alphabet.charAt(word & 63) : "";
  }
  return text;
}

/** Reads both alphabets of base64, with complete padding or none, without stray bits. */
export function fromBase64(text: string): Uint8Array | undefined {
  const bare = text.replace(/={1,2}$/, "");
  if ((bare.length !== text.length && text.length % 4 !== 0) || bare.length % 4 === 1) {
    return undefined;
  }
  const bytes = new Uint8Array(Math.floor((bare.length * 3) / 4));
  let word = 0;
  let bits = 0;
  let to = 0;
  for (const c of bare) {
    const digit = digits64.get(c);
    if (digit === undefined) {
      return undefined;
    }
    word = ((word << 6) | digit) & 0xffffff;
    bits += 6;
    if (bits >= 8) {
      bits -= 8;
      bytes[to++] = (word >> bits) & 255;
    }
  }
  return (word & ((1 << bits) - 1)) === 0 ? bytes : undefined;
}

const numberPattern = /-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?/y;
const plainPattern = /[^"\\\u0000-\u001f]*/y;
const integerPattern = /^(?:0|-?[1-9][0-9]*)$/;

/**
 * The float32 nearest to a decimal number. Going by way of the nearest float64
 * would round twice, which matters where that lies halfway between two float32.
 */
function nearestFloat32(digits: string): number {
  const double = Number(digits);
  const rounded = Math.fround(double);
  if (rounded === double || !Number.isFinite(double)) {
    return rounded;
  }
  const float = Number.isFinite(rounded) ? rounded : Math.sign(rounded) * largestFloat32;
  const other = neighbour(float, double > float);
  if (Math.abs(double - float) !== Math.abs(other - double)) {
    return rounded; // not halfway
  }
  const side = compareDecimals(digits, double);
  if (side === 0) {
    return rounded;
  }
  const nearest = side > 0 === other > float ? other : float;
  return Math.abs(nearest) > largestFloat32 ? nearest * Infinity : nearest;
}

const largestFloat32 = (2 - 2 ** -23) * 2 ** 127;

/** The next float32 above or below; beyond the largest, what would follow. */
function neighbour(float: number, above: boolean): number {
  const view = new DataView(new ArrayBuffer(4));
  view.setFloat32(0, float);
  const bits = view.getInt32(0);
  view.setInt32(0, float === 0 ? (above ? 1 : -0x7fffffff) : bits + (above === float > 0 ? 1 : -1));
  const next = view.getFloat32(0);
  return Number.isFinite(next) ? next : Math.sign(next) * 2 ** 128;
}

/** Whether a decimal number is more (1) or less (-1) than a float64, exactly. */
function compareDecimals(digits: string, double: number): number {
  const [mantissa, scale] = decimalParts(digits);
  // A float64 is an integer times a power of two, of which 2^-1074 is the least.
  let numerator = double;
  let halvings = 0;
  while (!Number.isInteger(numerator)) {
    numerator *= 2;
    halvings++;
  }
  const left = mantissa * 2n ** BigInt(halvings) * 10n ** BigInt(Math.max(scale, 0));
  const right = BigInt(numerator) * 10n ** BigInt(Math.max(-scale, 0));
  return left > right ? 1 : left < right ? -1 : 0;
}

/** A decimal number as an integer and a power of ten. */
function decimalParts(digits: string): [bigint, number] {
  const [number = "", exponent = "0"] = digits.toLowerCase().split("e");
  const [whole = "", fraction = ""] = number.split(".");
  return [BigInt(whole + fraction), Number(exponent) - fraction.length];
}

/** Reads JSON; what is wrong is thrown as a WireError. */
export class JsonReader {
  private readonly text: string;
  private at = 0;
  private depth = 0;
  private fresh = false;
  private budget = defaultBudget;

  constructor(payload: string | Uint8Array) {
    if (typeof payload === "string") {
      if (loneSurrogate.test(payload)) {
        throw new WireError("text with half of a surrogate pair", 0);
      }
      this.text = payload;
      return;
    }
    try {
      this.text = decoder.decode(payload);
    } catch {
      throw new WireError("text that is not UTF-8", 0);
    }
  }

  /** Where reading stands, in bytes. */
  get offset(): number {
    return encoder.encode(this.text.slice(0, this.at)).length;
  }

  fail(detail: string, tooLarge = false): never {
    throw new WireError(detail, this.offset, tooLarge);
  }

  private peek(): string {
    for (;;) {
      const c = this.text[this.at];
      if (c !== " " && c !== "\n" && c !== "\t" && c !== "\r") {
        return c ?? "";
      }
      this.at++;
    }
  }

  private wrong(expected: string): never {
    const c = this.peek();
    const found =
      c === "" ? "the end" : c === "{" ? "an object" : c === "[" ? "an array" : c === '"' ? "a string" : /[-0-9]/.test(c) ? "a number" : this.text.startsWith("null", this.at) ? "null" : `'${c}'`;
    this.fail(`expected ${expected}, found ${found}`);
  }

  /** Refuses a field that was read before. */
  once(seen: Set<number>, number: number): void {
    if (seen.has(number)) {
      this.fail("the field comes twice");
    }
    seen.add(number);
  }

  /** The value of a required field, or a refusal. */
  required<T>(value: T | undefined, name: string): T {
    return value ?? missing(name, this.offset);
  }

  end(): void {
    if (this.peek() !== "") {
      this.fail("more text after the end");
    }
  }

  private begin(bracket: string, expected: string): void {
    if (this.peek() !== bracket) {
      this.wrong(expected);
    }
    this.at++;
    if (++this.depth > maxDepth) {
      this.fail(`a nesting over ${maxDepth}`);
    }
    this.fresh = true;
  }

  /** Begins a message or map; member goes on. */
  openObject(name: string): void {
    this.begin("{", name);
  }

  /** Begins a list; more goes on. */
  openList(): void {
    this.begin("[", "a list");
  }

  private following(closing: string): boolean {
    const c = this.peek();
    if (c === closing) {
      this.at++;
      this.fresh = false;
      this.depth--;
      return false;
    }
    if (this.fresh) {
      this.fresh = false;
    } else if (c === ",") {
      this.at++;
    } else {
      this.wrong(`a comma or ${closing}`);
    }
    if (--this.budget < 0) {
      this.fail("more items and entries than a payload may hold", true);
    }
    return true;
  }

  /** Whether another item of a list follows. */
  more(): boolean {
    return this.following("]");
  }

  /** The name of the next member, or undefined after the last. */
  member(): string | undefined {
    if (!this.following("}")) {
      return undefined;
    }
    if (this.peek() !== '"') {
      this.wrong("a name in quotes");
    }
    const name = this.string();
    if (this.peek() !== ":") {
      this.wrong("a colon");
    }
    this.at++;
    return name;
  }

  private word(word: string): boolean {
    this.peek();
    if (!this.text.startsWith(word, this.at)) {
      return false;
    }
    this.at += word.length;
    return true;
  }

  null(): boolean {
    return this.peek() === "n" && this.word("null");
  }

  bool(): boolean {
    if (this.word("true")) {
      return true;
    }
    if (this.word("false")) {
      return false;
    }
    this.wrong("bool");
  }

  private number(expected: string): string {
    const c = this.peek();
    if (c !== "-" && !(c >= "0" && c <= "9")) {
      this.wrong(expected);
    }
    numberPattern.lastIndex = this.at;
    const text = numberPattern.exec(this.text)?.[0];
    const after = text === undefined ? "" : (this.text[this.at + text.length] ?? "");
    if (text === undefined || (after >= "0" && after <= "9") || after === "." || after === "e" || after === "E") {
      this.fail("a number that is not well formed");
    }
    this.at += text.length;
    return text;
  }

  private digits(expected: string): string {
    const quoted = this.peek() === '"';
    const start = this.at;
    const text = quoted ? this.string() : this.number(expected);
    if (!quoted && text === "-0") {
      return "0";
    }
    if (!integerPattern.test(text)) {
      this.at = start;
      this.fail(`expected ${expected}, found ${quoted ? JSON.stringify(text.slice(0, 40)) : text.slice(0, 40)}`);
    }
    return text;
  }

  private small(expected: string, low: number, high: number): number {
    this.peek();
    const start = this.at;
    const text = this.digits(expected);
    const n = Number(text);
    if (n < low || n > high) {
      this.at = start;
      this.fail(`expected ${expected}, found ${text.slice(0, 40)}`);
    }
    return n;
  }

  int8(): number {
    return this.small("int8", -0x80, 0x7f);
  }

  int16(): number {
    return this.small("int16", -0x8000, 0x7fff);
  }

  int32(): number {
    return this.small("int32", -0x80000000, 0x7fffffff);
  }

  uint8(): number {
    return this.small("uint8", 0, 0xff);
  }

  uint16(): number {
    return this.small("uint16", 0, 0xffff);
  }

  uint32(): number {
    return this.small("uint32", 0, 0xffffffff);
  }

  private large(expected: string, fits: (n: bigint) => boolean): bigint {
    this.peek();
    const start = this.at;
    const text = this.digits(expected);
    // Longer digits can't be in range, and reading them would take long.
    const n = text.length > 20 ? undefined : BigInt(text);
    if (n === undefined || !fits(n)) {
      this.at = start;
      this.fail(`expected ${expected}, found ${text.slice(0, 40)}`);
    }
    return n;
  }

  int64(): bigint {
    return this.large("int64", (n) => n === BigInt.asIntN(64, n));
  }

  uint64(): bigint {
    return this.large("uint64", (n) => n === BigInt.asUintN(64, n));
  }

  /** Reads a member's name, or its number. */
  enum(expected: string): string | number {
    return this.peek() === '"' ? this.string() : this.small(expected, 0, 65535);
  }

  float64(): number {
    return this.float("float64", Number);
  }

  /** Reads a float32, rounded straight from the digits. */
  float32(): number {
    return this.float("float32", nearestFloat32);
  }

  private float(expected: string, parse: (digits: string) => number): number {
    if (this.peek() === '"') {
      const start = this.at;
      const text = this.string();
      if (text === "NaN" || text === "Infinity" || text === "-Infinity") {
        return Number(text);
      }
      this.at = start;
      this.wrong(expected);
    }
    const value = parse(this.number(expected));
    if (!Number.isFinite(value)) {
      this.fail(`too large for a ${expected}`);
    }
    return value;
  }

  textValue(): string {
    if (this.peek() !== '"') {
      this.wrong("text");
    }
    return this.string();
  }

  /** The value of the string here (RFC 8259, section 7). */
  private string(): string {
    const start = this.at++;
    plainPattern.lastIndex = this.at;
    let value = plainPattern.exec(this.text)?.[0] ?? "";
    this.at += value.length;
    while (this.text[this.at] !== '"') {
      if (this.text[this.at] !== "\\") {
        const detail = this.at >= this.text.length ? "a string that is not closed" : "a control character in a string";
        this.at = start;
        this.fail(detail);
      }
      value += this.escape();
      plainPattern.lastIndex = this.at;
      const plain = plainPattern.exec(this.text)?.[0] ?? "";
      value += plain;
      this.at += plain.length;
    }
    this.at++;
    if (loneSurrogate.test(value)) {
      this.at = start;
      this.fail("half of a surrogate pair");
    }
    return value;
  }

  private escape(): string {
    const c = this.text[this.at + 1] ?? "";
    const simple = '"\\/bfnrt'.indexOf(c);
    if (c !== "" && simple >= 0) {
      this.at += 2;
      return '"\\/\b\f\n\r\t'.charAt(simple);
    }
    const hex = this.text.slice(this.at + 2, this.at + 6);
    if (c !== "u" || !/^[0-9a-fA-F]{4}$/.test(hex)) {
      this.fail("an escape that is not well formed");
    }
    this.at += 6;
    return String.fromCharCode(parseInt(hex, 16));
  }

  bytes(): Uint8Array {
    if (this.peek() !== '"') {
      this.wrong("bytes as base64url");
    }
    return fromBase64(this.string()) ?? this.fail("expected bytes as base64url");
  }

  uuid(): Uuid {
    if (this.peek() !== '"') {
      this.wrong("uuid");
    }
    const text = this.string();
    return uuidPattern.test(text) ? uuid(text) : this.fail("expected a uuid as 8-4-4-4-12 hexadecimal digits");
  }

  instant(): Instant {
    if (this.peek() !== '"') {
      this.wrong("instant");
    }
    const text = this.string();
    try {
      return Instant.parse(text);
    } catch {
      this.fail("expected an instant such as 2026-07-15T09:30:00Z");
    }
  }

  /**
   * Keeps a member whose name the definitions do not know. Where it is the
   * number of a field that they do know, that field's entry in CBOR is
   * returned instead, with the number.
   */
  unknown(list: UnknownField[], fields: Fields, name: string): [number, CborReader] | undefined {
    if (/^#[0-9]+$/.test(name)) {
      return this.numbered(list, fields, name);
    }
    try {
      list.push({ name, json: this.raw() });
    } catch (problem) {
      throw inside(problem, name);
    }
    return undefined;
  }

  private numbered(list: UnknownField[], fields: Fields, name: string): [number, CborReader] | undefined {
    const number = Number(name.slice(1));
    if (!/^#[1-9][0-9]{0,4}$/.test(name) || number > 65535) {
      this.fail(`expected #1 to #65535, found ${name.slice(0, 40)}`);
    }
    const cbor = this.bytes();
    const inner = new CborReader(cbor, this.budget, this.depth);
    if (fields.some(([n]) => n === number)) {
      return [number, inner];
    }
    inner.unknown(list, number);
    inner.end();
    this.budget = inner.left;
    return undefined;
  }

  /** The members of an object that we wrote, each with its name. */
  members(): [string, string][] {
    const list: [string, string][] = [];
    this.openObject("an object");
    for (let name = this.member(); name !== undefined; name = this.member()) {
      list.push([name, this.raw()]);
    }
    return list;
  }

  /** Any JSON value without the blanks between its tokens. */
  private raw(): string {
    const c = this.peek();
    const start = this.at;
    if (c === "{") {
      const members: string[] = [];
      this.openObject("an object");
      while (this.following("}")) {
        if (this.peek() !== '"') {
          this.wrong("a name in quotes");
        }
        const from = this.at;
        this.string();
        const name = this.text.slice(from, this.at);
        if (this.peek() !== ":") {
          this.wrong("a colon");
        }
        this.at++;
        members.push(`${name}:${this.raw()}`);
      }
      return `{${members.join(",")}}`;
    }
    if (c === "[") {
      const items: string[] = [];
      this.openList();
      while (this.more()) {
        items.push(this.raw());
      }
      return `[${items.join(",")}]`;
    }
    if (c === '"') {
      this.string();
    } else if (!this.word("true") && !this.word("false") && !this.word("null")) {
      this.number("a JSON value");
    }
    return this.text.slice(start, this.at);
  }
}

/** What is the same for every enum: its members, by number and by name. */
export class EnumTools<E extends string> {
  private readonly names: ReadonlyMap<number, E>;
  private readonly numbers: ReadonlyMap<string, number>;
  private readonly toNames: ReadonlyMap<string, E>;
  private readonly jsonNames: ReadonlyMap<string, string>;

  /** renamed holds the members that have another name in JSON. */
  constructor(
    private readonly name: string,
    members: readonly (readonly [number: number, name: E])[],
    renamed: readonly (readonly [member: E, json: string])[] = [],
  ) {
    this.names = new Map(members);
    this.numbers = new Map(members.map(([number, member]) => [member, number]));
    const renames = new Map<string, string>(renamed);
    this.jsonNames = new Map(members.map(([, member]) => [member, renames.get(member) ?? member]));
    this.toNames = new Map(members.map(([, member]) => [renames.get(member) ?? member, member]));
  }

  /** The listed members. */
  members(): E[] {
    return [...this.names.values()];
  }

  /** Whether a value is one of the listed members. */
  listed(value: string): boolean {
    return this.numbers.has(value);
  }

  writeCbor(w: CborWriter, value: string): void {
    const number = this.numbers.get(value) ?? unlistedNumber(value);
    if (number === undefined) {
      throw new WireError(`"${value}" is not listed in ${this.name}, and binary payloads hold numbers`);
    }
    w.key(number);
  }

  readCbor(r: CborReader): E | Unlisted {
    const number = r.enumNumber();
    return this.names.get(number) ?? `#${number}`;
  }

  writeJson(w: JsonWriter, value: string): void {
    const number = unlistedNumber(value);
    if (number !== undefined) {
      w.out += number;
    } else if (this.listed(value)) {
      w.text(this.jsonNames.get(value) ?? value);
    } else if (value.startsWith("?")) {
      w.text(value.slice(1));
    } else {
      throw new WireError(`"${value}" is not listed in ${this.name}`);
    }
  }

  readJson(r: JsonReader): E | Unlisted {
    const value = r.enum(this.name);
    if (typeof value === "number") {
      return this.names.get(value) ?? `#${value}`;
    }
    return this.toNames.get(value) ?? `?${value}`;
  }

  validate(list: Violation[], path: string, value: string): void {
    if (!this.listed(value)) {
      list.push({ pointer: path, detail: `must be one of ${[...this.jsonNames.values()].join(", ")}` });
    }
  }
}

function unlistedNumber(value: string): number | undefined {
  if (!/^#[0-9]{1,5}$/.test(value)) {
    return undefined;
  }
  const number = Number(value.slice(1));
  return number <= 65535 ? number : undefined;
}

/** What is the same for every message: the whole payload, in and out. */
export interface Codec<T> {
  writeCbor(w: CborWriter, message: T): void;
  readCbor(r: CborReader): T;
  writeJson(w: JsonWriter, message: T): void;
  readJson(r: JsonReader): T;
  violations(list: Violation[], path: string, message: T): void;
}

export function toCbor<T>(codec: Codec<T>, message: T): Uint8Array<ArrayBuffer> {
  const w = new CborWriter();
  codec.writeCbor(w, message);
  return w.bytes();
}

export function fromCbor<T>(codec: Codec<T>, payload: Uint8Array): T {
  const r = new CborReader(payload);
  const message = codec.readCbor(r);
  r.end();
  return message;
}

export function toJson<T>(codec: Codec<T>, message: T): string {
  const w = new JsonWriter();
  codec.writeJson(w, message);
  return w.out;
}

export function fromJson<T>(codec: Codec<T>, payload: string | Uint8Array): T {
  const r = new JsonReader(payload);
  const message = codec.readJson(r);
  r.end();
  return message;
}

/** Adds a violation. */
export function refuse(list: Violation[], pointer: string, detail: string): void {
  list.push({ pointer, detail });
}

/** Adds a violation for each element that is equal to one before it: elements are compared by what write makes of them. */
export function unique<T>(list: Violation[], path: string, elements: readonly T[], write: (w: JsonWriter, element: T) => void): void {
  const first = new Map<string, number>();
  for (const [i, element] of elements.entries()) {
    const w = new JsonWriter();
    write(w, element);
    const before = first.get(w.out);
    if (before === undefined) {
      first.set(w.out, i);
    } else {
      refuse(list, `${path}/${i}`, `must be unique, and is equal to element ${before}`);
    }
  }
}

/** How many code points a text has. */
export function codePoints(text: string): number {
  let count = 0;
  for (let i = 0; i < text.length; i++, count++) {
    // A pair of surrogates is one code point.
    if ((text.charCodeAt(i) & 0xfc00) === 0xd800 && (text.charCodeAt(i + 1) & 0xfc00) === 0xdc00) {
      i++;
    }
  }
  return count;
}

/** Writes a number for people, as JSON has it. */
export function floatText(v: number): string {
  return Object.is(v, -0) ? "-0" : String(v);
}

export function validate<T>(codec: Codec<T>, message: T): Violation[] {
  const list: Violation[] = [];
  codec.violations(list, "", message);
  return list;
}
