/** Reads and writes JSON (RFC 8259). */

import { CborReader } from "./cbor.js";
import {
  WireError,
  checked,
  decoder,
  defaultBudget,
  encoder,
  fromBase64,
  inside,
  isUuid,
  keep,
  loneSurrogate,
  maxDepth,
  misfit,
  missing,
  must,
  rank,
  toBase64,
  unlistedKind,
  uuid,
  uuidPattern,
} from "./values.js";
import type { Fields, Keeper, UnlistedField, UnlistedAlternative, Uuid } from "./values.js";

/** Writes JSON, without blanks between tokens. */
export class JsonWriter {
  out = "";
  /** What was written before: parts that are whole, so that not every piece of the text is kept until its end. */
  private written = "";
  private within = 0;
  private depth = 0;
  /** Where writing is, by depth: the index of an item, a field as it is in JSON, or "=" and the name of a member. */
  private readonly at: (number | string)[] = [];
  /** Whether what was opened last is still empty: the text itself is not looked at while it grows, since that would copy it. */
  private fresh = false;

  /** "text" is for people and logs, without what is secret; "comparison" writes equal decimals alike. */
  readonly purpose: "payload" | "text" | "comparison";

  constructor(purpose: "payload" | "text" | "comparison" = "payload") {
    this.purpose = purpose;
  }

  /** All that was written. */
  get result(): string {
    return this.written + this.out;
  }

  /** Writes a placeholder for a secret, where what is written is for people. */
  secret(): boolean {
    if (this.purpose === "text") {
      this.out += '"(secret)"';
      return true;
    }
    return false;
  }

  open(bracket: string): void {
    if (++this.depth > maxDepth) {
      throw new WireError(`a nesting over ${String(maxDepth)}`);
    }
    this.at[this.depth] = -1;
    this.out += bracket;
    this.fresh = true;
  }

  /** What a failure means, with its place. */
  failure(problem: unknown): unknown {
    if (!(problem instanceof WireError || problem instanceof TypeError)) {
      return problem;
    }
    const told = problem instanceof WireError ? problem : new WireError(problem.message, -1, false, { cause: problem });
    for (let depth = this.depth; depth > 0; depth--) {
      const step = this.at[depth] ?? -1;
      if (step !== -1) {
        told.inside(typeof step === "number" ? String(step) : step.startsWith("=") ? step.slice(1) : (JSON.parse(step.slice(0, -1)) as string));
      }
    }
    return told;
  }

  close(bracket: string): void {
    this.depth--;
    this.out += bracket;
    this.fresh = false;
  }

  /** Writes a comma unless nothing comes before it. */
  separate(): void {
    const index = this.at[this.depth];
    if (typeof index === "number") {
      this.at[this.depth] = index + 1;
    }
    if (this.fresh) {
      this.fresh = false;
    } else {
      this.out += ",";
    }
  }

  /** Writes the name of a field, which comes as it is in JSON, with what separates it. */
  field(name: string): void {
    this.at[this.depth] = name;
    if (this.fresh) {
      this.fresh = false;
      this.out += name;
    } else {
      this.out += "," + name;
    }
  }

  null(): void {
    this.out += "null";
  }

  /** Writes the name of a member, with what separates it. */
  member(name: string): void {
    this.separate();
    this.at[this.depth] = "=" + name;
    this.text(name);
    this.out += ":";
  }

  bool(v: boolean): void {
    must(v, "boolean");
    this.out += v ? "true" : "false";
  }

  int8(v: number): void {
    this.out += String(checked(v, "int8", -0x80, 0x7f));
  }

  int16(v: number): void {
    this.out += String(checked(v, "int16", -0x8000, 0x7fff));
  }

  int32(v: number): void {
    this.out += String(checked(v, "int32", -0x80000000, 0x7fffffff));
  }

  uint8(v: number): void {
    this.out += String(checked(v, "uint8", 0, 0xff));
  }

  uint16(v: number): void {
    this.out += String(checked(v, "uint16", 0, 0xffff));
  }

  uint32(v: number): void {
    this.out += String(checked(v, "uint32", 0, 0xffffffff));
  }

  uint64(v: bigint): void {
    must(v, "bigint");
    if (v !== BigInt.asUintN(64, v)) {
      throw new WireError(`${String(v)} is not a uint64`);
    }
    this.out += v <= 0x1fffffffffffffn ? v.toString() : `"${String(v)}"`;
  }

  int64(v: bigint): void {
    must(v, "bigint");
    if (v !== BigInt.asIntN(64, v)) {
      throw new WireError(`${String(v)} is not an int64`);
    }
    const safe = v <= 0x1fffffffffffffn && v >= -0x1fffffffffffffn;
    this.out += safe ? v.toString() : `"${String(v)}"`;
  }

  float64(v: number): void {
    must(v, "number");
    if (v !== v) {
      this.out += '"NaN"';
    } else if (v === Infinity || v === -Infinity) {
      this.out += `"${String(v)}"`;
    } else {
      this.out += Object.is(v, -0) ? "-0" : String(v);
    }
  }

  text(v: string): void {
    must(v, "string");
    this.out += isPlain(v) ? '"' + v + '"' : escaped(v);
  }

  bytesValue(v: Uint8Array): void {
    if (!ArrayBuffer.isView(v)) {
      throw misfit(v, "Uint8Array");
    }
    this.out += `"${toBase64(v)}"`;
  }

  uuid(v: Uuid): void {
    this.out += '"' + (isUuid(v) ? v : uuid(v)) + '"';
  }

  /** The name of a member that is a secret itself. */
  secretMember(name: string): void {
    this.member(this.purpose === "text" ? "(secret)" : name);
  }

  /** Begins the alternative of a union. */
  openUnion(name: string): void {
    this.open("{");
    this.member(name);
  }

  /** An alternative that a union does not list. */
  unlisted(v: UnlistedField): void {
    if (this.purpose === "text") {
      this.out += '"(unlisted)"';
    } else if ("number" in v) {
      this.out += `{"#${String(v.number)}":"${toBase64(v.cbor)}"}`;
    } else {
      this.out += "{";
      this.text(v.name);
      this.out += `:${v.json}}`;
    }
  }

  /** Begins a message; closeMessage ends it, with what this returns: where the message has unlisted fields, what was written before. */
  openMessage(unlisted: readonly UnlistedField[] | undefined): string {
    let before = "";
    if (unlisted !== undefined && unlisted.length > 0) {
      before = this.out;
      this.out = "";
      this.within++;
    }
    this.open("{");
    return before;
  }

  /** Ends a message, and puts unlisted fields in: numbers in their places among the known, names last. */
  closeMessage(before: string, unlisted: readonly UnlistedField[] | undefined, fields: Fields): void {
    if (unlisted === undefined || unlisted.length === 0) {
      this.close("}");
      if (this.out.length > 8192 && this.within === 0) {
        this.out.charCodeAt(0); // makes one text of its pieces
        this.written += this.out;
        this.out = "";
      }
      return;
    }
    this.within--;
    if (this.purpose === "text") {
      this.separate();
      this.out += `"(unlisted fields)":${String(unlisted.length)}`;
      this.close("}");
      this.out = before + this.out;
      return;
    }
    this.close("}");
    const members = new JsonReader(this.out).members().map(([name, json]) => ({ rank: fields.find((field) => field[1] === name)?.[0] ?? 0, name, json }));
    for (const field of unlisted) {
      members.push("number" in field ? { rank: field.number, name: `#${String(field.number)}`, json: `"${toBase64(field.cbor)}"` } : { rank: rank(field), name: field.name, json: field.json });
    }
    // Sorting is stable, so names stay in the order in which they were read.
    members.sort((a, b) => a.rank - b.rank);
    this.out = before + "{" + members.map(({ name, json }) => `${JSON.stringify(name)}:${json}`).join(",") + "}";
  }
}

/** Whether a short text is the same in JSON; looking into longer ones is better left to JSON.stringify. */
function isPlain(v: string): boolean {
  if (v.length > 64) {
    return false;
  }
  for (let i = 0; i < v.length; i++) {
    const c = v.charCodeAt(i);
    if (c < 0x20 || c === 0x22 || c === 0x5c || (c & 0xf800) === 0xd800) {
      return false;
    }
  }
  return true;
}

function escaped(v: string): string {
  if (loneSurrogate.test(v)) {
    throw new WireError("text with half of a surrogate pair");
  }
  return JSON.stringify(v);
}

const numberPattern = /-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?/y;
const plainPattern = /[^"\\\u0000-\u001f]*/y;
const escapePattern = /\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4})/y;
const integerPattern = /^(?:0|-?[1-9][0-9]*)$/;

/** Which fields of a message were read. */
export type Seen = number | Set<number>;

/** Reads JSON; what is wrong is thrown as a WireError. */
export class JsonReader {
  /** Goes on after what is wrong; most readers do not. */
  recover?<T>(read: (r: JsonReader) => T, other: () => T): T;
  private readonly text: string;
  protected at = 0;
  protected depth = 0;
  private fresh = false;

  private budget: number;

  constructor(payload: string | Uint8Array, budget: number = defaultBudget) {
    this.budget = budget;
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

  /** How far reading is, in bytes. */
  get offset(): number {
    return encoder.encode(this.text.slice(0, this.at)).length;
  }

  fail(detail: string, tooLarge = false): never {
    throw new WireError(detail, this.offset, tooLarge);
  }

  /** The next character that is not a blank; NaN at the end. */
  code(): number {
    let c = this.text.charCodeAt(this.at);
    while (c === 0x20 || c === 0x0a || c === 0x09 || c === 0x0d) {
      c = this.text.charCodeAt(++this.at);
    }
    return c;
  }

  peek(): string {
    const c = this.code();
    return c === c ? String.fromCharCode(c) : "";
  }

  wrong(expected: string): never {
    const c = this.peek();
    const found =
      c === "" ? "the end" : c === "{" ? "an object" : c === "[" ? "an array" : c === '"' ? "a string" : /[-0-9]/.test(c) ? "a number" : (["null", "true", "false"].find((word) => this.text.startsWith(word, this.at)) ?? `'${c}'`);
    this.fail(`expected ${expected}, found ${found}`);
  }

  /** Refuses a field that was read before: the n-th of a message, of which seen has a bit each, of those beyond 31 a set. */
  once(seen: Seen, n: number): Seen {
    if (typeof seen === "number" && n < 31) {
      if ((seen & (1 << n)) !== 0) {
        this.fail("the field comes twice");
      }
      return seen | (1 << n);
    }
    const all = typeof seen === "number" ? new Set(Array.from({ length: 31 }, (_, i) => i).filter((i) => (seen & (1 << i)) !== 0)) : seen;
    if (all.has(n)) {
      this.fail("the field comes twice");
    }
    return all.add(n);
  }

  /** Refuses a message without a required field. */
  missing(name: string): never {
    missing(name, this.offset);
  }

  end(): void {
    if (this.peek() !== "") {
      this.fail("more text after the end");
    }
  }

  private begin(bracket: number, expected: string): void {
    if (this.code() !== bracket) {
      this.wrong(expected);
    }
    this.at++;
    if (++this.depth > maxDepth) {
      this.fail(`a nesting over ${String(maxDepth)}`);
    }
    this.fresh = true;
  }

  /** Begins a message that declares so many fields; member goes on. */
  openMessage(name: string, fields: number): void {
    this.budget -= 1 + fields;
    if (this.budget < 0) {
      this.fail("more elements and entries than a payload may contain", true);
    }
    this.begin(0x7b, name);
  }

  /** Begins a map; member goes on. */
  openObject(name: string): void {
    this.begin(0x7b, name);
  }

  /** Begins a list; more goes on. */
  openList(): void {
    this.begin(0x5b, "a list");
  }

  private following(closing: number): boolean {
    const c = this.code();
    if (c === closing) {
      this.at++;
      this.fresh = false;
      this.depth--;
      return false;
    }
    if (this.fresh) {
      this.fresh = false;
    } else if (c === 0x2c) {
      this.at++;
    } else {
      this.wrong(`a comma or ${String.fromCharCode(closing)}`);
    }
    if (--this.budget < 0) {
      this.fail("more elements and entries than a payload may contain", true);
    }
    return true;
  }

  /** Whether another item of a list follows. */
  more(): boolean {
    return this.following(0x5d);
  }

  /** The name of the next member, or undefined after the last. */
  member(): string | undefined {
    if (!this.following(0x7d)) {
      return undefined;
    }
    if (this.code() !== 0x22) {
      this.wrong("a name in quotes");
    }
    const name = this.string();
    if (this.code() !== 0x3a) {
      this.wrong("a colon");
    }
    this.at++;
    return name;
  }

  word(word: string): boolean {
    this.peek();
    if (!this.text.startsWith(word, this.at)) {
      return false;
    }
    this.at += word.length;
    return true;
  }

  null(): boolean {
    return this.code() === 0x6e && this.word("null");
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

  number(expected: string): string {
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
    this.code();
    const start = this.at;
    const n = this.shortInteger();
    if (n >= low && n <= high) {
      return n;
    }
    this.at = start;
    return this.careful(expected, low, high);
  }

  /** Up to nine digits with a sign before them; NaN where something else comes. */
  private shortInteger(): number {
    const negative = this.text.charCodeAt(this.at) === 0x2d;
    const first = negative ? this.at + 1 : this.at;
    let i = first;
    let n = 0;
    for (; i < first + 9; i++) {
      const digit = this.text.charCodeAt(i) - 0x30;
      if (!(digit >= 0 && digit <= 9)) {
        break;
      }
      n = n * 10 + digit;
    }
    const c = this.text.charCodeAt(i);
    const ends = c === 0x2c || c === 0x7d || c === 0x5d;
    if (!ends || i === first || (this.text.charCodeAt(first) === 0x30 && i > first + 1)) {
      return NaN;
    }
    this.at = i;
    return negative && n !== 0 ? -n : n;
  }

  private careful(expected: string, low: number, high: number): number {
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
    this.code();
    const start = this.at;
    const short = this.shortInteger();
    if (short >= 0 || (short < 0 && expected === "int64")) {
      return BigInt(short);
    }
    this.at = start;
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

  float(expected: string, parse: (digits: string) => number): number {
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
    if (this.code() !== 0x22) {
      this.wrong("text");
    }
    return this.string();
  }

  /** The value of the string here (RFC 8259, section 7). */
  string(): string {
    const start = this.at;
    for (let i = start + 1; i < start + 64; i++) {
      const c = this.text.charCodeAt(i);
      if (c === 0x22) {
        this.at = i + 1;
        return this.text.substring(start + 1, i);
      }
      if (!(c >= 0x20) || c === 0x5c) {
        break;
      }
    }
    let escaped = false;
    for (plainPattern.lastIndex = start + 1; ; plainPattern.lastIndex = escapePattern.lastIndex) {
      plainPattern.test(this.text);
      const end = plainPattern.lastIndex;
      if (this.text[end] === '"') {
        this.at = end + 1;
        return escaped ? this.unescaped(start) : this.text.slice(start + 1, end);
      }
      if (this.text[end] !== "\\") {
        this.fail(end >= this.text.length ? "a string that is not closed" : "a control character in a string");
      }
      escaped = true;
      escapePattern.lastIndex = end;
      if (!escapePattern.test(this.text)) {
        this.at = end;
        this.fail("an escape that is not well formed");
      }
    }
  }

  /** The value of a well-formed string with escapes. */
  private unescaped(start: number): string {
    const value = JSON.parse(this.text.slice(start, this.at)) as string;
    if (loneSurrogate.test(value)) {
      this.at = start;
      this.fail("half of a surrogate pair");
    }
    return value;
  }

  bytes(): Uint8Array {
    if (this.peek() !== '"') {
      this.wrong("bytes as base64url");
    }
    return fromBase64(this.string()) ?? this.fail("expected bytes as base64url");
  }

  uuid(): Uuid {
    if (this.code() !== 0x22) {
      this.wrong("uuid");
    }
    const text = this.string();
    return isUuid(text) ? text : uuidPattern.test(text) ? uuid(text) : this.fail("expected a uuid as 8-4-4-4-12 hexadecimal digits");
  }

  /** Reads text with a parser of the scalars. */
  parsed<T>(expected: string, parse: (text: string) => T): T {
    if (this.peek() !== '"') {
      this.wrong(expected);
    }
    const start = this.at;
    const text = this.string();
    try {
      return parse(text);
    } catch (problem) {
      this.at = start;
      this.fail(problem instanceof WireError ? `${problem.detail}, found ${JSON.stringify(text.slice(0, 40))}` : `expected ${expected}`);
    }
  }

  /** Reads an element of a stream: an object of one member, which counts as no level of its own. */
  element<T>(read: (name: string) => T): T {
    this.openObject("an element of a stream");
    const name = this.member() ?? this.fail("expected one member in an element");
    this.depth--;
    const value = read(name);
    this.depth++;
    if (this.member() !== undefined) {
      this.fail("expected one member in an element");
    }
    this.end();
    return value;
  }

  /** Begins a union: the name of its alternative. */
  openUnion(union: string): string {
    this.openObject(union);
    this.budget++; // a union is one value, whatever it is written as
    return this.member() ?? this.fail(`expected one alternative of ${union}, found none`);
  }

  closeUnion(): void {
    if (this.member() !== undefined) {
      this.fail("expected one alternative, found a second one");
    }
  }

  /** Reads an alternative whose name is not listed: what is written by number is returned, for the union to read. */
  unlisted(name: string): UnlistedAlternative | [number, CborReader] {
    if (/^#[0-9]+$/.test(name)) {
      return this.entry(name);
    }
    return { kind: unlistedKind, name, json: this.raw() };
  }

  /** Takes over what is left of the budget of an entry that was read. */
  absorb(inner: CborReader): void {
    inner.end();
    this.budget = inner.left;
  }

  /** A key of a map as an integer: its canonical digits. */
  smallKey(name: string, low: number, high: number): number {
    const n = integerPattern.test(name) ? Number(name) : NaN;
    return n >= low && n <= high ? n : this.fail(`expected an integer of the key's type, found ${name.slice(0, 40)}`);
  }

  largeKey(name: string, signed: boolean): bigint {
    const n = integerPattern.test(name) && name.length <= 20 ? BigInt(name) : undefined;
    if (n === undefined || n !== (signed ? BigInt.asIntN(64, n) : BigInt.asUintN(64, n))) {
      this.fail(`expected an integer of the key's type, found ${name.slice(0, 40)}`);
    }
    return n;
  }

  /**
   * Keeps a member whose name the definitions do not know. Where it is the
   * number of a field that they do know, that field's entry in CBOR is
   * returned instead, with the number.
   */
  keepUnlisted(m: Keeper, fields: Fields, name: string): [number, CborReader] | undefined {
    if (/^#[0-9]+$/.test(name)) {
      const entry = this.entry(name);
      if (fields.some(([n]) => n === entry[0])) {
        return entry;
      }
      entry[1].keepUnlisted(m, entry[0]);
      this.absorb(entry[1]);
      return undefined;
    }
    try {
      keep(m, { name, json: this.raw() });
    } catch (problem) {
      throw inside(problem, name);
    }
    return undefined;
  }

  /** A reader of CBOR that counts on from here. */
  inner(cbor: Uint8Array): CborReader {
    return new CborReader(cbor, this.budget, this.depth);
  }

  /** Reads "#13" and its CBOR as base64url. */
  private entry(name: string): [number, CborReader] {
    const number = Number(name.slice(1));
    if (!/^#[1-9][0-9]{0,4}$/.test(name) || number > 65535) {
      this.fail(`expected #1 to #65535, found ${name.slice(0, 40)}`);
    }
    return [number, this.inner(this.bytes())];
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
  raw(): string {
    const c = this.peek();
    const start = this.at;
    if (c === "{") {
      const members: string[] = [];
      this.begin(0x7b, "an object");
      while (this.following(0x7d)) {
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
      this.begin(0x5b, "a list");
      while (this.following(0x5d)) {
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
