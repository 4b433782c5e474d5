/**
 * What the message types next to it are made with: readers and writers of CBOR
 * (RFC 8949) and JSON (RFC 8259), and the values of scalars. Other code seldom
 * needs more than uuid, Instant, CalendarDate, Duration, Decimal and WireError.
 */

import { CborReader, CborWriter } from "./cbor.js";
import { JsonReader, JsonWriter } from "./json.js";
import { WireError, compareTexts, copied, defaultBudget, same } from "./values.js";
import type { Unlisted, Violation } from "./values.js";

export * from "./values.js";
export * from "./body.js";
export * from "./cbor.js";
export * from "./json.js";
export * from "./json_values.js";

/** What there is for an enum. */
export interface EnumTools<E extends string> extends Coded<E | Unlisted> {
  /** The listed members. */
  members(): E[];
  /** Whether a value is one of the listed members. */
  listed(value: string): value is E;
  /** A value as it is in JSON: a name in quotes, or the number of a member that is not listed. */
  toJson(value: E | Unlisted): string;
}

export function enumTools<E extends string>(coded: EnumCodec<E>): EnumTools<E> {
  return {
    members: () => coded.members(),
    listed: (value): value is E => coded.listed(value),
    toJson: (value) => toJson<E | Unlisted>(coded, value),
    [codecOf]: coded,
  };
}

/** Lists, reads and writes the members of an enum, by number and by name. */
export class EnumCodec<E extends string> {
  private readonly names: ReadonlyMap<number, E>;
  private readonly numbers: ReadonlyMap<string, number>;
  private readonly toNames: ReadonlyMap<string, E>;
  private readonly jsonNames: ReadonlyMap<string, string>;

  private readonly name: string;

  /** renamed lists the members that have another name in JSON. */
  constructor(
    name: string,
    members: readonly (readonly [number: number, name: E])[],
    renamed: readonly (readonly [member: E, json: string])[] = [],
  ) {
    this.name = name;
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
  listed(value: string): value is E {
    return this.numbers.has(value);
  }

  writeCbor(w: CborWriter, value: string): void {
    const number = this.numbers.get(value) ?? unlistedNumber(value);
    if (number === undefined) {
      throw new WireError(`"${value}" is not listed in ${this.name}, and binary payloads contain numbers`);
    }
    w.key(number);
  }

  readCbor(r: CborReader): E | Unlisted {
    const number = r.enumNumber();
    return this.names.get(number) ?? `#${String(number)}` as Unlisted;
  }

  writeJson(w: JsonWriter, value: string): void {
    const number = unlistedNumber(value);
    if (number !== undefined) {
      w.out += String(number);
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
      return this.names.get(value) ?? `#${String(value)}` as Unlisted;
    }
    return this.toNames.get(value) ?? `?${value}`;
  }

  /** The member that a key of a JSON object means: a name, or canonical digits. */
  readKey(r: JsonReader, name: string): E | Unlisted {
    if (/^(?:0|[1-9][0-9]*)$/.test(name)) {
      const number = r.smallKey(name, 0, 65535);
      return this.names.get(number) ?? `#${String(number)}` as Unlisted;
    }
    return this.toNames.get(name) ?? `?${name}`;
  }

  /** What value is as a key of a JSON object. */
  key(value: string): string {
    return this.jsonNames.get(value) ?? (/^[#?]/.test(value) ? value.slice(1) : value);
  }

  /** What value is written as, as a key of a JSON object. */
  writtenKey(value: string): string {
    if (!this.listed(value) && !value.startsWith("?") && unlistedNumber(value) === undefined) {
      throw new WireError(`"${value}" is not listed in ${this.name}`);
    }
    return this.key(value);
  }

  /** The entries of a map in the order of their encoding: by number, then names that have none. */
  sorted<V>(map: ReadonlyMap<E | Unlisted, V>): [E | Unlisted, V][] {
    const number = (value: string): number => this.numbers.get(value) ?? unlistedNumber(value) ?? 65536;
    return [...map].sort(([a], [b]) => number(a) - number(b) || compareTexts(a, b));
  }

  violations(list: Violation[], path: string, value: string): void {
    if (!this.listed(value)) {
      refuseUnlisted(list, path, [...this.jsonNames.values()].join(", "));
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
export interface Codec<T> extends Checks<T> {
  writeCbor(w: CborWriter, message: T): void;
  readCbor(r: CborReader): T;
  writeJson(w: JsonWriter, message: T): void;
  readJson(r: JsonReader): T;
}

/** Checks messages of a type. */
export interface Checks<T> {
  violations(list: Violation[], path: string, message: T): void;
}

/** Makes values of plain ones. */
export interface Makes<Init, T> {
  make(init: Init): T;
}

export interface MadeCodec<Init, T> extends Codec<T>, Makes<Init, T> {}

/** What there is of a named type over a scalar, which readers and writers know. */
export interface NamedCodec<Init, T> extends Checks<T>, Makes<Init, T> {}

/** How a message is made, checked and written for people whose body travels as it is. */
export interface RawCodec<Init, T> extends NamedCodec<Init, T>, Pick<Codec<T>, "writeJson"> {}

/** Under this, tools have what the stubs themselves read, write and check with. */
export const codecOf: unique symbol = Symbol("codec");

export interface Coded<T> {
  readonly [codecOf]: Codec<T>;
}

/** What there is for values of a type. */
export interface ValueTools<T> extends Coded<T> {
  toCbor(value: T): Uint8Array<ArrayBuffer>;
  /** items is how many list items and entries a payload may contain, 1,000,000 unless it is given. */
  fromCbor(payload: Uint8Array, items?: number): T;
  toJson(value: T): string;
  fromJson(payload: string | Uint8Array, items?: number): T;
  /** For people and logs: JSON without what is secret. */
  toText(value: T): string;
  /** Every violation of the definitions, for which a server would refuse it. */
  validate(value: T): Violation[];
  /** Whether two have the same content: numbers and times by what they mean, unlisted fields byte for byte. */
  equal(a: T, b: T): boolean;
  /** A copy of a value, and of everything in it. */
  clone(value: T): T;
}

/** What there is for messages, and for other values that are made of plain ones. */
export interface Tools<Init, T> extends ValueTools<T> {
  /** Makes one of plain values; optional fields, and those with defaults, may be left out. */
  make(init: Init): T;
}

/** What there is for values of a named type. */
export interface NamedTools<Init, T> {
  make(value: Init): T;
  /** Every violation of the definitions, for which a server would refuse it. */
  validate(value: T): Violation[];
}

/** What there is for messages whose body travels as it is. */
export interface RawTools<Init, T> extends NamedTools<Init, T> {
  /** For people and logs: JSON without the body and what is secret. */
  toText(message: T): string;
}

export function valueTools<T>(coded: Codec<T>): ValueTools<T> {
  return {
    toCbor: (value) => toCbor(coded, value),
    fromCbor: (payload, items) => fromCbor(coded, payload, items),
    toJson: (value) => toJson(coded, value),
    fromJson: (payload, items) => fromJson(coded, payload, items),
    toText: (value) => toText(coded, value),
    validate: (value) => validate(coded, value),
    equal: same,
    clone: copied,
    [codecOf]: coded,
  };
}

export function tools<Init, T>(coded: MadeCodec<Init, T>): Tools<Init, T> {
  return { make: (init) => coded.make(init), ...valueTools(coded) };
}

export function namedTools<Init, T>(coded: NamedCodec<Init, T>): NamedTools<Init, T> {
  return { make: (value) => coded.make(value), validate: (value) => validate(coded, value) };
}

export function rawTools<Init, T>(coded: RawCodec<Init, T>): RawTools<Init, T> {
  return { ...namedTools(coded), toText: (message) => toText(coded, message) };
}

/** A writer that is not in use, kept for its buffer. */
let spare: CborWriter | undefined;

export function toCbor<T>(codec: Codec<T>, message: T): Uint8Array<ArrayBuffer> {
  try {
    return written((w) => {
      codec.writeCbor(w, message);
    });
  } catch (problem) {
    toJson(codec, message); // which fails for the same reason, with its place
    throw problem;
  }
}

/** What write writes. */
export function written(write: (w: CborWriter) => void): Uint8Array<ArrayBuffer> {
  const w = spare ?? new CborWriter();
  spare = undefined;
  w.reset();
  write(w);
  const payload = w.bytes();
  spare = w;
  return payload;
}

/** Reads a payload of at most so many list items and entries. */
export function fromCbor<T>(codec: Codec<T>, payload: Uint8Array, items: number = defaultBudget): T {
  const r = new CborReader(payload, items);
  const message = codec.readCbor(r);
  r.end();
  return message;
}

export function toJson<T>(codec: Codec<T>, message: T): string {
  const w = new JsonWriter();
  try {
    codec.writeJson(w, message);
  } catch (problem) {
    throw w.failure(problem);
  }
  return w.result;
}

/** Writes a message for people and logs: as JSON, without what is secret, unlisted fields as their count. */
export function toText<T>(codec: Pick<Codec<T>, "writeJson">, message: T): string {
  const w = new JsonWriter("text");
  codec.writeJson(w, message);
  return w.result;
}

/** Adds the fields of an error, without what is secret, to what it says. */
export function sayFields<T extends Error>(codec: Codec<T>, error: T): void {
  try {
    error.message += ` ${toText(codec, error)}`;
  } catch {
    // A value that can't be written is found where the error is sent.
  }
}

/** Reads a payload of at most so many list items and entries. */
export function fromJson<T>(codec: Codec<T>, payload: string | Uint8Array, items: number = defaultBudget): T {
  const r = new JsonReader(payload, items);
  const message = codec.readJson(r);
  r.end();
  return message;
}

/** Adds a violation. */
export function refuse(list: Violation[], pointer: string, rule: string, found?: number | bigint | string): void {
  const detail = found === undefined ? rule : `${rule}, not ${String(found)}`;
  list.push({ pointer, detail });
}

const unlistedViolations = new WeakSet<Violation>();

/** Adds the violation of a member or alternative that is not listed. */
export function refuseUnlisted(list: Violation[], pointer: string, listed: string): void {
  const violation = { pointer, detail: `must be one of ${listed}` };
  unlistedViolations.add(violation);
  list.push(violation);
}

/** Leaves out the violations of refuseUnlisted. */
export function withoutUnlisted(list: readonly Violation[]): Violation[] {
  return list.filter((violation) => !unlistedViolations.has(violation));
}

/** Adds a violation for each element that is equal to one before it: elements are compared by what write makes of them. */
export function unique<T>(list: Violation[], path: string, elements: readonly T[], write: (w: JsonWriter, element: T) => void): void {
  const first = new Map<string, number>();
  for (const [i, element] of elements.entries()) {
    const w = new JsonWriter("comparison");
    write(w, element);
    const before = first.get(w.result);
    if (before === undefined) {
      first.set(w.result, i);
    } else {
      refuse(list, `${path}/${String(i)}`, `must be unique, and is equal to element ${String(before)}`);
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

/** Whether a text has less than low or more than high code points; most texts need not be counted for that. */
export function lengthOutside(text: string, low: number, high: number): boolean {
  const units = text.length; // one or two to a code point
  if (units >= 2 * low && units <= high) {
    return false;
  }
  const count = codePoints(text);
  return count < low || count > high;
}

/** Writes a number for people, as JSON has it. */
export function floatText(v: number): string {
  return Object.is(v, -0) ? "-0" : String(v);
}

export function validate<T>(codec: Pick<Codec<T>, "violations">, message: T): Violation[] {
  const list: Violation[] = [];
  codec.violations(list, "", message);
  return list;
}
