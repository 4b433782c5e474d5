/**
 * Messages as plain data: strings, numbers, booleans, null, arrays and objects, with the names and texts of their JSON.
 * That is what caches, stores, forms and structured clones can keep.
 */

import type { CborReader } from "./cbor.js";
import { JsonReader } from "./json.js";
import { WireError, defaultBudget, maxDepth, pointer as stepTo, toBase64, unlistedKind } from "./values.js";
import type { UnlistedAlternative, Uuid } from "./values.js";
import * as wire from "./wire.js";

export type Plain = boolean | number | string | null | readonly Plain[] | { readonly [member: string]: Plain };

/** What was parsed is not what the definitions say; violations has all that is wrong with it. */
export class InvalidValue extends Error {
  override readonly name = "InvalidValue";
  readonly violations: readonly wire.Violation[];

  constructor(violations: readonly wire.Violation[]) {
    super(violations.map(({ pointer, detail }) => `${pointer === "" ? "the value" : pointer} ${detail}`).join("; "));
    this.violations = violations;
  }
}

/** What JSON.parse makes of a message's JSON. Only an integer in an `any` can be too large for that, and throws. */
export function toPlain<T>(tools: wire.Coded<T>, message: T): Plain {
  const text = wire.toJson(tools[wire.codecOf], message);
  const plain = JSON.parse(text) as Plain;
  if (/(?:^|[:[,])-?\d{16,}(?=[,}\]]|$)/.test(text.replace(/"(?:[^"\\]|\\.)*"/g, '""'))) {
    throw new WireError("an integer in an any is too large for a number, and plain data has no others");
  }
  return plain;
}

/** Reads plain data, such as a cache has it, as fromJson reads JSON: bounds are not checked. It throws an InvalidValue. */
export function fromPlain<T>(tools: wire.Coded<T>, value: unknown, items: number = defaultBudget): T {
  const [message, violations] = collected(tools[wire.codecOf], value, items);
  if (violations.length > 0) {
    throw new InvalidValue(violations);
  }
  return message as T;
}

/**
 * Reads a value of which nothing is known, and checks all that the definitions say of it. Besides plain data it takes
 * maps, bigints, bytes and whatever has toJSON. It throws an InvalidValue with every violation.
 */
export function parse<T>(tools: wire.Coded<T>, value: unknown, items: number = defaultBudget): T {
  const [message, violations] = collected(tools[wire.codecOf], value, items);
  if (message !== undefined) {
    try {
      const places = new Set(violations.map(({ pointer }) => pointer));
      const within = (pointer: string): boolean => places.has(pointer) || (pointer !== "" && within(pointer.slice(0, pointer.lastIndexOf("/"))));
      violations.push(...wire.validate(tools[wire.codecOf], message).filter(({ pointer }) => !within(pointer)));
    } catch (problem) {
      if (violations.length === 0) {
        throw problem; // else what is missing was in the way, and is told
      }
    }
  }
  if (violations.length > 0) {
    throw new InvalidValue(violations);
  }
  return message as T;
}

/** The message that a value is, as far as it is one, and what is wrong with it. */
function collected<T>(codec: wire.Codec<T>, value: unknown, items: number): [message: T | undefined, violations: wire.Violation[]] {
  const violations: wire.Violation[] = [];
  const text = jsonOf(value, "", 0, violations);
  const r = new Collector(text, items, violations);
  try {
    return [codec.readJson(r), violations];
  } catch (problem) {
    if (problem instanceof WireError) {
      violations.push({ pointer: problem.path, detail: problem.detail });
    } else if (violations.length === 0) {
      throw problem;
    }
    return [undefined, violations];
  }
}

/** A value as JSON. What has none is a violation, and null. */
function jsonOf(value: unknown, pointer: string, depth: number, violations: wire.Violation[]): string {
  const refused = (what: string): string => {
    violations.push({ pointer, detail: `is ${what}, which JSON does not have` });
    return "null";
  };
  if (depth > maxDepth) {
    return refused(`nested over ${String(maxDepth)} deep`);
  }
  switch (typeof value) {
    case "string":
      return JSON.stringify(value);
    case "boolean":
      return String(value);
    case "number":
      return Number.isFinite(value) ? String(value) : refused(String(value));
    case "bigint":
      return String(value);
    case "undefined":
      return refused("undefined");
    case "function":
    case "symbol":
      return refused(`a ${typeof value}`);
  }
  if (typeof value !== "object" || value === null) {
    return "null";
  }
  if (value instanceof Uint8Array) {
    return JSON.stringify(toBase64(value));
  }
  if ("toJSON" in value && typeof value.toJSON === "function") {
    return jsonOf((value as { toJSON(): unknown }).toJSON(), pointer, depth + 1, violations);
  }
  if (Array.isArray(value)) {
    return `[${value.map((item, i) => jsonOf(item, `${pointer}/${String(i)}`, depth + 1, violations)).join(",")}]`;
  }
  const members = (value instanceof Map ? [...(value as ReadonlyMap<unknown, unknown>)] : Object.entries(value)) as [unknown, unknown][];
  const written = members.filter(([, member]) => member !== undefined).map(([key, member]) => {
    const name = String(key);
    return `${JSON.stringify(name)}:${jsonOf(member, pointer + stepTo(name), depth + 1, violations)}`;
  });
  return `{${written.join(",")}}`;
}

/** Where the reader is: in a list or an object, and at which item or member. A hollow one has nothing that can be read. */
interface Level {
  step: number | string;
  readonly hollow: boolean;
}

/** Reads JSON as JsonReader does, and goes on after what is wrong, with a value that stands in for it. */
class Collector extends JsonReader {
  private readonly violations: wire.Violation[];
  private readonly places: Set<string>;
  private readonly levels: Level[] = [];
  /** Whether the message that was read last is hollow, so that nothing more is said of its fields. */
  private hollow = false;

  constructor(text: string, budget: number, violations: wire.Violation[]) {
    super(text, budget);
    this.violations = violations;
    this.places = new Set(violations.map(({ pointer }) => pointer));
  }

  private get pointer(): string {
    return this.levels.map(({ step }) => stepTo(String(step))).join("");
  }

  /** Notes the first violation of each place. */
  private note(pointer: string, detail: string): void {
    if (!this.places.has(pointer)) {
      this.places.add(pointer);
      this.violations.push({ pointer, detail });
    }
  }

  /** What read returns; or else, with the violation noted and the value skipped. */
  private attempt<T>(read: () => T, other: T): T {
    const { at, depth } = this;
    const open = this.levels.length;
    try {
      return read();
    } catch (problem) {
      if (!(problem instanceof WireError) || problem.tooLarge) {
        throw problem;
      }
      this.levels.length = open;
      this.note(this.pointer + problem.path, problem.detail);
      this.at = at;
      this.depth = depth;
      this.raw();
      return other;
    }
  }

  private opened(open: () => void): void {
    const hollow = this.attempt(() => {
      open();
      return false;
    }, true);
    this.levels.push({ step: -1, hollow });
  }

  private closed(): void {
    this.hollow = this.levels.pop()?.hollow ?? false;
  }

  private get level(): Level {
    return this.levels[this.levels.length - 1] ?? { step: "", hollow: false };
  }

  override openMessage(name: string, fields: number): void {
    this.opened(() => {
      super.openMessage(name, fields);
    });
  }

  override openObject(name: string): void {
    this.opened(() => {
      super.openObject(name);
    });
  }

  override openList(): void {
    this.opened(() => {
      super.openList();
    });
  }

  override more(): boolean {
    const { level } = this;
    if (!level.hollow && super.more()) {
      level.step = Number(level.step) + 1;
      return true;
    }
    this.closed();
    return false;
  }

  override member(): string | undefined {
    const { level } = this;
    const name = level.hollow ? undefined : super.member();
    if (name === undefined) {
      this.closed();
    } else {
      level.step = name;
    }
    return name;
  }

  override openUnion(union: string): string {
    const name = this.attempt(() => super.openUnion(union), undefined);
    if (name === undefined) {
      this.levels.push({ step: "", hollow: true });
    }
    return name ?? "";
  }

  override closeUnion(): void {
    while (this.member() !== undefined) {
      this.note(this.pointer, "is a second alternative, and one is expected");
      this.raw();
    }
  }

  override unlisted(name: string): UnlistedAlternative | [number, CborReader] {
    return this.level.hollow ? { kind: unlistedKind, name, json: "null" } : super.unlisted(name);
  }

  /** Notes a required field that is missing, and returns all the same: the message is not used. */
  override missing(name: string): never {
    if (!this.hollow) {
      this.note(this.pointer + stepTo(name), "is required");
    }
    return undefined as never;
  }

  override recover<T>(read: (r: JsonReader) => T, other: () => T): T {
    return this.attempt(() => read(this), other());
  }

  override float64(): number {
    return this.attempt(() => super.float64(), 0);
  }

  override bool(): boolean {
    return this.attempt(() => super.bool(), false);
  }

  override int8(): number {
    return this.attempt(() => super.int8(), 0);
  }

  override int16(): number {
    return this.attempt(() => super.int16(), 0);
  }

  override int32(): number {
    return this.attempt(() => super.int32(), 0);
  }

  override int64(): bigint {
    return this.attempt(() => super.int64(), 0n);
  }

  override uint8(): number {
    return this.attempt(() => super.uint8(), 0);
  }

  override uint16(): number {
    return this.attempt(() => super.uint16(), 0);
  }

  override uint32(): number {
    return this.attempt(() => super.uint32(), 0);
  }

  override uint64(): bigint {
    return this.attempt(() => super.uint64(), 0n);
  }

  override enum(expected: string): string | number {
    return this.attempt(() => super.enum(expected), "");
  }

  override textValue(): string {
    return this.attempt(() => super.textValue(), "");
  }

  override bytes(): Uint8Array {
    return this.attempt(() => super.bytes(), new Uint8Array());
  }

  override uuid(): Uuid {
    return this.attempt(() => super.uuid(), "" as Uuid);
  }

  /** A key that is not of its type is noted, and another one stands in for it, out of range and new. */
  override smallKey(name: string, low: number, high: number): number {
    return this.key(() => super.smallKey(name, low, high), low - 1 - this.violations.length);
  }

  override largeKey(name: string, signed: boolean): bigint {
    return this.key(() => super.largeKey(name, signed), BigInt(this.violations.length + 1) << 64n);
  }

  private key<K>(read: () => K, other: K): K {
    try {
      return read();
    } catch (problem) {
      if (problem instanceof WireError) {
        this.note(this.pointer, problem.detail);
        return other;
      }
      throw problem;
    }
  }
}
