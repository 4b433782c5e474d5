/**
 * The values that messages are made of, and what is said of those that can't
 * be read or written.
 */

/** How deep messages, lists and maps may nest. */
export const maxDepth = 100;

/**
 * How much one payload may contain: a list item or an entry of a map or message counts one, a message one and its
 * declared fields as well, whether they are there or not, since memory is taken for all of them.
 */
export const defaultBudget = 1_000_000;

/** The text of an enum's value that is not listed: its number or its name. */
export type Unlisted = `#${number}` | `?${string}`;

/** What a message was read with and its definitions do not know. */
export const unlisted: unique symbol = Symbol("unlisted fields");

/** A field that the definitions do not know: by number as CBOR, or by name as JSON. */
export type UnlistedField =
  | { readonly number: number; readonly cbor: Uint8Array }
  | { readonly name: string; readonly json: string };

/** An alternative that a union's definitions do not list: by number as CBOR, or by name as JSON. */
export type UnlistedAlternative = { readonly kind: typeof unlistedKind } & UnlistedField;
export const unlistedKind: unique symbol = Symbol("unlisted alternative");

/** A message while it is read, as far as its unlisted fields go. */
export interface Keeper {
  [unlisted]?: readonly UnlistedField[] | undefined;
}

/** The fields that a message was read with and its definitions do not list, in the order in which they are written. */
export function unlistedFields(m: Readonly<Keeper>): readonly UnlistedField[] {
  return m[unlisted] ?? [];
}

/** A copy of a message that passes on what another message was read with. */
export function keepUnlistedFields<T extends object>(m: T, list: readonly UnlistedField[]): T {
  return { ...m, [unlisted]: list.length === 0 ? undefined : list };
}

/** Passes the unlisted fields of what a message is made from on to it. */
export function withUnlisted<T extends object>(m: T, from: Readonly<Keeper>): T {
  return from[unlisted] === undefined ? m : { ...m, [unlisted]: from[unlisted] };
}

/** Adds an unlisted field. */
export function keep(m: Keeper, field: UnlistedField): void {
  m[unlisted] ??= [];
  (m[unlisted] as UnlistedField[]).push(field);
}

/** Says why a payload could not be read, or a value not be written. */
export class WireError extends Error {
  override readonly name = "WireError";
  /** RFC 6901; "" is the whole payload. */
  path = "";
  readonly detail: string;
  /** In bytes from the start; -1 when writing. */
  readonly offset: number;
  readonly tooLarge: boolean;

  constructor(detail: string, offset = -1, tooLarge = false, options?: ErrorOptions) {
    super(detail, options);
    this.detail = detail;
    this.offset = offset;
    this.tooLarge = tooLarge;
  }

  /** Adds a step to the path, on the way up. */
  inside(step: string): this {
    this.path = pointer(step) + this.path;
    const at = this.offset < 0 ? "" : ` (byte ${String(this.offset)})`;
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

/** One way in which a request violates its definitions. */
export interface Violation {
  /** RFC 6901. */
  readonly pointer: string;
  readonly detail: string;
  /** Where it travels when not in the body: "path", "query", "header" or "cookie". */
  readonly in?: string;
}

/** A field's number and its name in JSON. */
export type Fields = readonly (readonly [number: number, name: string])[];

/** A uuid: 8-4-4-4-12 hexadecimal digits, lower case (RFC 9562). */
export type Uuid = string & { readonly [uuidBrand]: true };
declare const uuidBrand: unique symbol;

export const uuidPattern: RegExp = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;

const canonicalUuid = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/;

/** Whether a text is a uuid as it is written. */
export function isUuid(text: string): text is Uuid {
  return canonicalUuid.test(text);
}

/** Makes a Uuid of its text, in either case. */
export function uuid(text: string): Uuid {
  if (!uuidPattern.test(text)) {
    throw new WireError("a uuid is written as 8-4-4-4-12 hexadecimal digits");
  }
  return text.toLowerCase() as Uuid;
}

export const minSeconds = -62135596800;
export const maxSeconds = 253402300799;
const instantPattern = /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.(\d{1,9}))?(?:Z|([+-])\d\d:\d\d)$/;

/** A point in time, to the nanosecond, in the years 0001 to 9999. */
export class Instant {
  /** Whole seconds since 1970-01-01T00:00:00Z. */
  readonly seconds: number;
  /** Nanoseconds after that, 0 to 999,999,999. */
  readonly nanos: number;

  private constructor(seconds: number, nanos: number) {
    this.seconds = seconds;
    this.nanos = nanos;
  }

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
    const instant = instantOf(text);
    if (instant === undefined) {
      throw new WireError("an instant is written as in 2026-07-15T09:30:00Z");
    }
    return instant;
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

  /** Nanoseconds since 1970, so that "<" goes by time. */
  valueOf(): bigint {
    return BigInt(this.seconds) * 1_000_000_000n + BigInt(this.nanos);
  }

  toJSON(): string {
    return this.toString();
  }
}

/** Reads an instant; undefined where the text is not one. */
export function instantOf(text: string): Instant | undefined {
  const m = instantPattern.exec(text);
  if (m === null) {
    return undefined;
  }
  // The pattern leaves only digits in these places.
  const at = (i: number): number => text.charCodeAt(i) * 10 + text.charCodeAt(i + 1) - 528;
  const [year, month, day, hour, minute, second] = [at(0) * 100 + at(2), at(5), at(8), at(11), at(14), at(17)];
  const [offsetHours, offsetMinutes] = m[2] === undefined ? [0, 0] : [at(text.length - 5), at(text.length - 2)];
  if (month < 1 || month > 12 || day < 1 || day > daysIn(year, month) || hour > 23 || minute > 59 || second > 59 || offsetHours > 23 || offsetMinutes > 59) {
    return undefined;
  }
  const offset = (offsetHours * 3600 + offsetMinutes * 60) * (m[2] === "-" ? -1 : 1);
  // Date.UTC takes years up to 99 for those of the twentieth century; 400 years have the same days.
  const seconds = Date.UTC(year + 400, month - 1, day, hour, minute, second) / 1000 - 12622780800 - offset;
  return seconds < minSeconds || seconds > maxSeconds ? undefined : Instant.of(seconds, m[1] === undefined ? 0 : Number(m[1].padEnd(9, "0")));
}

function daysIn(year: number, month: number): number {
  return month === 2 ? (year % 4 === 0 && (year % 100 !== 0 || year % 400 === 0) ? 29 : 28) : month === 4 || month === 6 || month === 9 || month === 11 ? 30 : 31;
}

/** Makes a type of its own over another: a T that was called Name on purpose. */
export type Named<T, Name extends string> = T & { readonly [brand]: Name };
declare const brand: unique symbol;

/** A value of the scalar any: integers are bigint, so that 1 and 1.0 stay apart; a map has text keys. */
export type Any = null | boolean | bigint | number | string | readonly Any[] | ReadonlyMap<string, Any>;

/** Makes an Any of plain values: whole numbers become integers, objects maps. */
export function anyOf(plain: unknown): Any {
  switch (typeof plain) {
    case "boolean":
    case "bigint":
    case "string":
      return plain;
    case "number":
      return Number.isSafeInteger(plain) && !Object.is(plain, -0) ? BigInt(plain) : plain;
    case "object":
      if (plain === null) {
        return null;
      }
      if (Array.isArray(plain)) {
        return plain.map(anyOf);
      }
      return new Map([...(plain instanceof Map ? (plain as Map<string, unknown>) : Object.entries(plain))].map(([key, value]) => [key, anyOf(value)]));
  }
  throw new WireError(`an any can't contain a ${typeof plain}`);
}

/** What anyOf is made from: numbers, arrays and objects. An integer beyond 2^53-1 stays a bigint. */
export function plainOf(any: Any): unknown {
  if (typeof any === "bigint") {
    return BigInt.asIntN(53, any) === any ? Number(any) : any;
  }
  if (any instanceof Map) {
    return Object.fromEntries([...any].map(([key, value]) => [key, plainOf(value as Any)]));
  }
  return Array.isArray(any) ? any.map((item) => plainOf(item as Any)) : any;
}

const maxDigits = 34;
const decimalPattern = /^(-?)(0|[1-9][0-9]*)(?:\.([0-9]+))?(?:[eE]([+-]?[0-9]+))?$/;

/** An exact decimal number that keeps its scale: 1.50 stays 1.50. */
export class Decimal {
  /** The number without its point. */
  readonly coefficient: bigint;
  /** How many digits come after the point, 0 to 34. */
  readonly scale: number;

  private constructor(coefficient: bigint, scale: number) {
    this.coefficient = coefficient;
    this.scale = scale;
  }

  /** coefficient divided by ten to the power of scale, of at most 34 digits. */
  static of(coefficient: bigint, scale = 0): Decimal {
    if (!Number.isInteger(scale)) {
      throw new WireError(`${String(scale)} is not a scale`);
    }
    if (scale >= 0 && scale <= maxDigits && coefficient < 1_000_000_000n && coefficient > -1_000_000_000n) {
      return new Decimal(coefficient, scale);
    }
    if (coefficient === 0n) {
      return new Decimal(0n, Math.min(Math.max(scale, 0), maxDigits));
    }
    let digits = (coefficient < 0n ? -coefficient : coefficient).toString();
    if (scale < 0 && digits.length - scale <= maxDigits) {
      digits += "0".repeat(-scale);
      scale = 0;
    }
    const cut = scale - maxDigits;
    if (cut > 0 && cut < digits.length && /^0+$/.test(digits.slice(-cut))) {
      digits = digits.slice(0, -cut);
      scale = maxDigits;
    }
    if (digits.length > maxDigits || scale < 0 || scale > maxDigits) {
      throw new WireError(`a decimal has at most ${String(maxDigits)} digits, and as many after the point`);
    }
    return new Decimal(coefficient < 0n ? -BigInt(digits) : BigInt(digits), scale);
  }

  /** Reads the text of a JSON number (RFC 8259, section 6); -0 is refused. */
  static parse(text: string): Decimal {
    const m = decimalPattern.exec(text);
    if (m === null) {
      throw new WireError('a decimal is written as in "12.50"');
    }
    const [, sign = "", whole = "", fraction = "", exponent = "0"] = m;
    const digits = (whole + fraction).replace(/^0+/, "");
    if (digits === "" && sign !== "") {
      throw new WireError("a decimal has no -0");
    }
    // Zeros at the end may well be cut; more than this can't be in range.
    if (digits.length > 4096 || Math.abs(Number(exponent)) > 1 << 20) {
      throw new WireError(`a decimal has at most ${String(maxDigits)} digits, and as many after the point`);
    }
    return Decimal.of(BigInt(sign + (digits || "0")), fraction.length - Number(exponent));
  }

  /** Negative, 0 or positive as this is less than, equal to or greater than other, by number: 1.5 equals 1.50. */
  compare(other: Decimal): number {
    const scale = Math.max(this.scale, other.scale);
    const difference = this.coefficient * 10n ** BigInt(scale - this.scale) - other.coefficient * 10n ** BigInt(scale - other.scale);
    return difference < 0n ? -1 : difference > 0n ? 1 : 0;
  }

  /** Refuses "<" and "+", which would go by texts or lose digits. */
  valueOf(): never {
    throw new TypeError("decimals have no operators: use compare, toNumber or toString");
  }

  /** The nearest number; most decimals have no exact one. */
  toNumber(): number {
    return Number(this.toString());
  }

  /** The same number with no zeros at the end. */
  normalized(): Decimal {
    let { coefficient, scale } = this;
    while (scale > 0 && coefficient % 10n === 0n) {
      coefficient /= 10n;
      scale--;
    }
    return new Decimal(coefficient, scale);
  }

  /** All digits, and no exponent. */
  toString(): string {
    const minus = this.coefficient < 0n ? "-" : "";
    const digits = (minus === "" ? this.coefficient : -this.coefficient).toString().padStart(this.scale + 1, "0");
    const point = digits.length - this.scale;
    return minus + digits.slice(0, point) + (this.scale === 0 ? "" : "." + digits.slice(point));
  }

  toJSON(): string {
    return this.toString();
  }
}

/** The first and the last day of the years 0001 to 9999. */
const minDays = minSeconds / 86400;
const maxDays = (maxSeconds + 1) / 86400 - 1;
const datePattern = /^(\d{4})-(\d\d)-(\d\d)$/;

/** A day of the calendar, in the years 0001 to 9999. */
export class CalendarDate {
  /** How many days it lies after 1970-01-01. */
  readonly days: number;

  private constructor(days: number) {
    this.days = days;
  }

  static ofDays(days: number): CalendarDate {
    if (!Number.isInteger(days) || days < minDays || days > maxDays) {
      throw new WireError("a date lies in the years 0001 to 9999");
    }
    return new CalendarDate(days);
  }

  /** Months and days count from 1. */
  static of(year: number, month: number, day: number): CalendarDate {
    return CalendarDate.parse(`${String(year).padStart(4, "0")}-${String(month).padStart(2, "0")}-${String(day).padStart(2, "0")}`);
  }

  /** The day of a Date in UTC. */
  static fromDate(date: Date): CalendarDate {
    return CalendarDate.ofDays(Math.floor(date.getTime() / 86_400_000));
  }

  /** Reads YYYY-MM-DD. */
  static parse(text: string): CalendarDate {
    const m = datePattern.exec(text);
    const [year, month, day] = (m?.slice(1) ?? []).map(Number);
    const date = new Date(0);
    date.setUTCFullYear(year ?? 0, (month ?? 0) - 1, day ?? 0);
    if (m === null || year === 0 || date.getUTCMonth() + 1 !== month || date.getUTCDate() !== day) {
      throw new WireError("a date is written as in 2026-07-15");
    }
    return CalendarDate.ofDays(date.getTime() / 86_400_000);
  }

  get year(): number {
    return this.toDate().getUTCFullYear();
  }

  /** 1 to 12. */
  get month(): number {
    return this.toDate().getUTCMonth() + 1;
  }

  get day(): number {
    return this.toDate().getUTCDate();
  }

  /** Negative, 0 or positive as this is before, on or after other. */
  compare(other: CalendarDate): number {
    return this.days - other.days;
  }

  /** The begin of the day in UTC. */
  toDate(): Date {
    return new Date(this.days * 86_400_000);
  }

  /** YYYY-MM-DD. */
  toString(): string {
    return this.toDate().toISOString().slice(0, 10);
  }

  /** Days, so that "<" goes by the calendar. */
  valueOf(): number {
    return this.days;
  }

  toJSON(): string {
    return this.toString();
  }
}

const durationPattern = /^(-?)P(?:(\d{1,24})D)?(?:T(?=\d)(?:(\d{1,24})H)?(?:(\d{1,24})M)?(?:(\d{1,24})(?:\.(\d{1,9}))?S)?)?$/;

/** A length of time, to the nanosecond, of at most 2^63 of them: about 292 years. */
export class Duration {
  readonly nanoseconds: bigint;

  private constructor(nanoseconds: bigint) {
    this.nanoseconds = nanoseconds;
  }

  static of(nanoseconds: bigint): Duration {
    if (nanoseconds !== BigInt.asIntN(64, nanoseconds)) {
      throw new WireError("a duration has at most 2^63 nanoseconds");
    }
    return new Duration(nanoseconds);
  }

  static ofSeconds(seconds: number): Duration {
    return Duration.of(BigInt(Math.round(seconds * 1e9)));
  }

  /** Reads ISO 8601: days, hours, minutes and seconds in this order, a fraction of up to 9 digits in the seconds alone. */
  static parse(text: string): Duration {
    const m = durationPattern.exec(text);
    if (m === null || m.slice(2).every((part) => (part as string | undefined) === undefined)) {
      throw new WireError("a duration is written as in PT1.5S");
    }
    const part = (i: number): bigint => BigInt(m[i] ?? 0);
    const seconds = part(2) * 86400n + part(3) * 3600n + part(4) * 60n + part(5);
    const total = seconds * 1_000_000_000n + BigInt((m[6] ?? "").padEnd(9, "0"));
    return Duration.of(m[1] === "-" ? -total : total);
  }

  /** Negative, 0 or positive as this is shorter than, as long as or longer than other. */
  compare(other: Duration): number {
    return this.nanoseconds < other.nanoseconds ? -1 : this.nanoseconds > other.nanoseconds ? 1 : 0;
  }

  toSeconds(): number {
    return Number(this.nanoseconds) / 1e9;
  }

  toMilliseconds(): number {
    return Number(this.nanoseconds) / 1e6;
  }

  /** Seconds alone, with the shortest exact fraction: PT90S. */
  toString(): string {
    const minus = this.nanoseconds < 0n ? "-" : "";
    const n = minus === "" ? this.nanoseconds : -this.nanoseconds;
    const fraction = n % 1_000_000_000n;
    return `${minus}PT${String(n / 1_000_000_000n)}${fraction === 0n ? "" : "." + String(fraction).padStart(9, "0").replace(/0+$/, "")}S`;
  }

  /** Nanoseconds, so that "<" goes by length. */
  valueOf(): bigint {
    return this.nanoseconds;
  }

  toJSON(): string {
    return this.toString();
  }
}

/** Reads what must be text. */
export const decoder: TextDecoder = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
export const encoder: TextEncoder = new TextEncoder();
export const loneSurrogate: RegExp = /\p{Surrogate}/u;

/** A number that is an integer in a range, or a refusal. */
export function checked(v: number, kind: string, low: number, high: number): number {
  if (!Number.isInteger(v) || v < low || v > high) {
    throw new WireError(`${String(v)} is not ${kind.startsWith("i") ? "an" : "a"} ${kind}`);
  }
  return v;
}

/** Refuses a value of another kind, which a program without types, or a copy, may give. */
export function misfit(v: unknown, kind: string): WireError {
  const lost = typeof v === "object" && v !== null && /^[A-Z]/.test(kind) ? "; structuredClone and a spread lose the class" : "";
  return new WireError(`expected ${kind}, found ${shown(v)}${lost}`);
}

function shown(v: unknown): string {
  const text = typeof v === "string" ? JSON.stringify(v) : typeof v === "object" && v !== null ? "an object" : String(v);
  return text.length <= 100 ? text : `${text.slice(0, 99)}…`;
}

/** Refuses what is not of a type of JavaScript's own. */
export function must(v: unknown, type: "bigint" | "boolean" | "number" | "string"): void {
  if (typeof v !== type) {
    throw misfit(v, type);
  }
}

/** A number as the nearest float32; one that is too large is refused. */
export function narrow(v: number): number {
  const float = Math.fround(v);
  if (!Number.isFinite(float) && Number.isFinite(v)) {
    throw new WireError(`${String(v)} is too large for a float32`);
  }
  return float;
}

export function missing(name: string, offset: number): never {
  throw new WireError("the field is required", offset).inside(name);
}

export function rank(field: UnlistedField): number {
  return "number" in field ? field.number : 65536;
}

/**
 * Puts the unlisted fields of a message in order, numbers ascending before names,
 * and refuses what came twice. It is done once, at the end: a payload of many
 * unlisted fields must not cost more than its length.
 */
export function settle(m: Keeper): void {
  const list = m[unlisted];
  if (list === undefined || list.length < 2) {
    return;
  }
  const seen = new Set<number | string>();
  for (const field of list) {
    const identity = "number" in field ? field.number : field.name;
    if (seen.has(identity)) {
      throw new WireError("an unlisted field comes twice").inside("number" in field ? `#${String(field.number)}` : field.name);
    }
    seen.add(identity);
  }
  (list as UnlistedField[]).sort((a, b) => rank(a) - rank(b));
}

/** Adds the step of the field with a number to what went wrong. */
export function insideField(problem: unknown, fields: Fields, number: number): unknown {
  return number === 0 ? problem : inside(problem, fields.find(([n]) => n === number)?.[1] ?? `#${String(number)}`);
}

/** What makes a map of texts: a map, or an object. */
export type MapInit<V> = ReadonlyMap<string, V> | Readonly<Record<string, V>>;

/** A decimal that was written as one, or as text. */
export function decimalOf<T extends Decimal | string | null | undefined>(value: T): Decimal | Extract<T, null | undefined> {
  return typeof value === "string" ? Decimal.parse(value) : (value as Decimal | Extract<T, null | undefined>);
}

/** A map that was written as one, or as an object. */
export function mapOf<V>(map: MapInit<V>): ReadonlyMap<string, V> {
  return map instanceof Map ? (map as ReadonlyMap<string, V>) : new Map(Object.entries(map));
}

/** A map of the same keys, with what make makes of the values. */
export function mapValues<K, V, W>(map: ReadonlyMap<K, V>, make: (value: V) => W): Map<K, W> {
  return new Map(Array.from(map, ([key, value]) => [key, at(String(key), () => make(value))]));
}

/** What make makes; where it fails, that is told with a step of the path. */
export function at<T>(step: string | number, make: () => T): T {
  try {
    return make();
  } catch (problem) {
    throw inside(problem, step);
  }
}

/**
 * How many entries a map with 64-bit keys may have: engines put a bigint into a place that its digits alone decide, so
 * whoever chooses the keys can make each entry wait for all before it.
 */
const mostBigintKeys = 16_384;

/** Refuses a map in which some key came twice. */
export function distinct<K extends string | number | bigint, V>(map: Map<K, V>, key: K, value: V): void {
  if (typeof key === "bigint" && map.size >= mostBigintKeys) {
    throw new WireError(`a map with 64-bit keys of more than ${String(mostBigintKeys)} entries`, 0, true);
  }
  if (map.has(key)) {
    throw new WireError("the key comes twice").inside(String(key));
  }
  map.set(key, value);
}

/** A message while it is read: every field may still be missing. */
export type Unfinished<T> = { [K in Exclude<keyof T, typeof unlisted>]: T[K] | undefined } & Keeper;

const ErrorWithUnlisted: new (message: string) => Error & { readonly [unlisted]?: readonly UnlistedField[] | undefined } = Error;

/** Every declared error is one: its name is the full name in the definitions. */
export class DeclaredError extends ErrorWithUnlisted {
  constructor(name: string, message: string) {
    super(message);
    this.name = name;
  }
}

const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
/** What each character means; 64 is none. */
const digits64 = new Uint8Array(128).fill(64);
for (const [digit, c] of Array.from(alphabet + "+/").entries()) {
  digits64[c.charCodeAt(0)] = digit < 64 ? digit : digit - 2;
}

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
  const length = text.endsWith("==") ? text.length - 2 : text.endsWith("=") ? text.length - 1 : text.length;
  if ((length !== text.length && text.length % 4 !== 0) || length % 4 === 1) {
    return undefined;
  }
  const bytes = new Uint8Array(Math.floor((length * 3) / 4));
  let word = 0;
  let bits = 0;
  let to = 0;
  for (let i = 0; i < length; i++) {
    const digit = digits64[text.charCodeAt(i)] ?? 64;
    if (digit === 64) {
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

/** Whether two messages, or values of their fields, are the same; what is absent and what is undefined are. */
export function same(a: unknown, b: unknown): boolean {
  if (a === b || (a !== a && b !== b)) {
    return true;
  }
  if (typeof a !== "object" || typeof b !== "object" || a === null || b === null) {
    return false;
  }
  if (a instanceof Decimal) {
    return b instanceof Decimal && a.compare(b) === 0;
  }
  if (a instanceof Instant || a instanceof CalendarDate || a instanceof Duration) {
    return a.constructor === b.constructor && a.valueOf() === b.valueOf();
  }
  if (a instanceof Uint8Array) {
    return b instanceof Uint8Array && a.length === b.length && a.every((octet, i) => octet === b[i]);
  }
  if (Array.isArray(a)) {
    return Array.isArray(b) && a.length === b.length && a.every((item, i) => same(item, b[i]));
  }
  if (a instanceof Map) {
    return b instanceof Map && a.size === b.size && [...(a as ReadonlyMap<unknown, unknown>)].every(([key, value]) => b.has(key) && same(value, b.get(key)));
  }
  if (Array.isArray(b) || b instanceof Map || Object.getPrototypeOf(a) !== Object.getPrototypeOf(b)) {
    return false;
  }
  return [...new Set([...members(a), ...members(b)])].every((key) => (key === unlisted ? same(ordered(memberOf(a, key)), ordered(memberOf(b, key))) : same(memberOf(a, key), memberOf(b, key))));
}

/** Unlisted fields by number, then by name, however they came. */
function ordered(fields: unknown): readonly UnlistedField[] {
  const name = (field: UnlistedField): string => ("name" in field ? field.name : "");
  return [...((fields as readonly UnlistedField[] | undefined) ?? [])].sort((a, b) => rank(a) - rank(b) || (name(a) < name(b) ? -1 : 1));
}

/** A copy of a message, or of a value of a field, and of everything in it. */
export function copied<T>(v: T): T {
  const copy = (value: unknown): unknown => {
    if (typeof value !== "object" || value === null || value instanceof Decimal || value instanceof Instant || value instanceof CalendarDate || value instanceof Duration) {
      return value; // which nothing can change
    }
    if (value instanceof Uint8Array) {
      return value.slice();
    }
    if (Array.isArray(value)) {
      return value.map(copy);
    }
    if (value instanceof Map) {
      return mapValues(value as ReadonlyMap<unknown, unknown>, copy);
    }
    const made = Object.create(Object.getPrototypeOf(value) as object | null, value instanceof Error ? Object.getOwnPropertyDescriptors(value) : {}) as Record<string | symbol, unknown>;
    for (const key of members(value)) {
      made[key] = copy(memberOf(value, key));
    }
    return made;
  };
  return copy(v) as T;
}

function members(v: object): (string | symbol)[] {
  return Reflect.ownKeys(v).filter((key) => Object.prototype.propertyIsEnumerable.call(v, key));
}

function memberOf(v: object, key: string | symbol): unknown {
  return (v as Record<string | symbol, unknown>)[key];
}

/** Map entries in the order of their encoding (RFC 8949, section 4.2.1): shorter keys first, then bytewise. */
export function sortedTexts<K extends string, V>(map: ReadonlyMap<K, V>): [K, V][] {
  const list = [...map];
  if (list.length < 2) {
    return list;
  }
  if (list.every(hasPlainKey)) {
    return list.length < 12 ? inserted(list) : list.sort((a, b) => (before(a[0], b[0]) ? -1 : 1));
  }
  const keyed = list.map((entry) => ({ entry, bytes: encoder.encode(entry[0]) }));
  return keyed.sort((a, b) => compareBytes(a.bytes, b.bytes)).map(({ entry }) => entry);
}

function hasPlainKey(entry: readonly [string, unknown]): boolean {
  const [key] = entry;
  for (let i = 0; i < key.length; i++) {
    if (key.charCodeAt(i) > 127) {
      return false;
    }
  }
  return true;
}

function before(a: string, b: string): boolean {
  return a.length === b.length ? a < b : a.length < b.length;
}

/** Sorts a few entries by their keys, which are ASCII. */
function inserted<E extends readonly [string, unknown]>(list: E[]): E[] {
  for (let i = 1; i < list.length; i++) {
    const entry = list[i] as E;
    let to = i;
    for (let last = list[to - 1] as E; to > 0 && before(entry[0], last[0]); last = list[--to - 1] as E) {
      list[to] = last;
    }
    list[to] = entry;
  }
  return list;
}

/** Compares texts as keys of a map are. */
export function compareTexts(a: string, b: string): number {
  return compareBytes(encoder.encode(a), encoder.encode(b));
}

function compareBytes(a: Uint8Array, b: Uint8Array): number {
  if (a.length !== b.length) {
    return a.length - b.length;
  }
  for (let i = 0; i < a.length; i++) {
    const difference = (a[i] ?? 0) - (b[i] ?? 0);
    if (difference !== 0) {
      return difference;
    }
  }
  return 0;
}

/** sortedTexts for integers: those from 0 up, then -1, -2…. */
export function sortedIntegers<K extends number | bigint, V>(map: ReadonlyMap<K, V>): [K, V][] {
  return [...map].sort(([a], [b]) => {
    if (a < 0 !== b < 0) {
      return a < 0 ? 1 : -1;
    }
    return a === b ? 0 : a < b === a >= 0 ? -1 : 1;
  });
}
