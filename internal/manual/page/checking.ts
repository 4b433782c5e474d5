/** Holds JSON against definitions, in the words of every stub: it is their reader that reads. */

import { Digits, parse, write } from "./json.js";
import type { Json } from "./json.js";
import { named } from "./model.js";
import type { Bounds, FieldModel, Model, TypeModel } from "./model.js";
import { JsonReader } from "../../stubs/typescript/support/json.js";
import type { Seen } from "../../stubs/typescript/support/json.js";
import {
  readJsonAny,
  readJsonDate,
  readJsonDecimal,
  readJsonDuration,
  readJsonFloat32,
  readJsonInstant,
} from "../../stubs/typescript/support/json_values.js";
import * as values from "../../stubs/typescript/support/values.js";
import * as wire from "../../stubs/typescript/support/wire.js";

/** What is wrong with a payload, and where. */
export interface Wrong {
  readonly pointer: string;
  readonly detail: string;
}

type Value = unknown;
interface MessageValue {
  readonly fields: Map<FieldModel, Value>;
  readonly others: string;
}
interface UnionValue {
  readonly name: string;
  readonly type: TypeModel | undefined;
  readonly value: Value;
}

/** Checks the messages of a model. */
export class Checker {
  readonly model: Model;
  private readonly enums = new Map<string, wire.EnumCodec<string>>();

  constructor(model: Model) {
    this.model = model;
  }

  /** What the definitions have against a message in JSON: that it can't be read, or all that breaks its bounds. without is the field that travels apart. */
  check(message: string, text: string, without?: string): readonly Wrong[] {
    try {
      const r = new JsonReader(text);
      const value = this.message(r, message, without);
      r.end();
      const list: wire.Violation[] = [];
      this.violations(list, "", value, { kind: "message", of: message }, undefined, false);
      return list;
    } catch (problem) {
      if (problem instanceof values.WireError) {
        return [{ pointer: problem.path, detail: problem.detail }];
      }
      throw problem;
    }
  }

  private enum(name: string): wire.EnumCodec<string> {
    let codec = this.enums.get(name);
    if (codec === undefined) {
      const { name: short, members } = named(this.model.enums, name);
      codec = new wire.EnumCodec(
        short,
        members.map((member) => [member.number, member.name] as const),
      );
      this.enums.set(name, codec);
    }
    return codec;
  }

  private message(r: JsonReader, name: string, without?: string): MessageValue {
    const model = named(this.model.messages, name);
    const { fields } = model;
    const found = new Map<FieldModel, Value>();
    const keeper: values.Keeper = {};
    const numbers: values.Fields = fields.map((field) => [field.number, field.name]);
    let seen: Seen = 0;
    const given = new Set<FieldModel>();
    r.openMessage(model.name, fields.length);
    for (let member = r.member(); member !== undefined; member = r.member()) {
      const index = fields.findIndex((field) => field.name === member);
      const field = fields[index];
      if (field === undefined || field.name === without) {
        const known =
          model.patch === true && /^#[1-9][0-9]{0,4}$/.test(member) && r.null()
            ? undefined
            : r.keepUnlisted(keeper, numbers, member);
        if (known !== undefined) {
          const byNumber = fields.find(({ number }) => number === known[0]);
          if (byNumber !== undefined) {
            given.add(byNumber); // in CBOR, which is the server's to read
          }
        }
        continue;
      }
      try {
        seen = r.once(seen, index);
        given.add(field);
        if (field.type.clear === true && r.null()) {
          found.set(field, null);
        } else if (model.patch === true) {
          if (field.type.kind === "any" && r.null()) {
            r.fail("the field is required, and can't be cleared");
          }
          found.set(field, this.read(r, field.type));
        } else if (field.must === "required" || !r.null()) {
          found.set(field, this.read(r, field.type));
        }
      } catch (problem) {
        throw values.inside(problem, field.name);
      }
    }
    for (const field of fields) {
      if (field.must === "required" && field.name !== without && !given.has(field)) {
        r.missing(field.name);
      }
    }
    return {
      fields: found,
      others: values
        .unlistedFields(keeper)
        .map((field) => ("name" in field ? field.name + field.json : `#${String(field.number)}${field.cbor.join()}`))
        .join(),
    };
  }

  private read(r: JsonReader, type: TypeModel): Value {
    switch (type.kind) {
      case "text":
        return r.textValue();
      case "float32":
        return readJsonFloat32(r);
      case "instant":
        return readJsonInstant(r);
      case "date":
        return readJsonDate(r);
      case "duration":
        return readJsonDuration(r);
      case "decimal":
        return readJsonDecimal(r);
      case "any":
        return readJsonAny(r);
      case "message":
        return this.message(r, type.of ?? "");
      case "enum":
        return this.enum(type.of ?? "").readJson(r);
      case "union":
        return this.union(r, type.of ?? "");
      case "list":
        return this.list(r, type.elem as TypeModel);
      case "map":
        return this.map(r, type.key as TypeModel, type.elem as TypeModel);
      default:
        return r[type.kind]();
    }
  }

  private union(r: JsonReader, of: string): UnionValue {
    const union = named(this.model.unions, of);
    const name = r.openUnion(union.name);
    const alternative = union.alternatives.find((one) => one.name === name);
    let value: Value;
    if (alternative === undefined) {
      const found = r.unlisted(name);
      if (Array.isArray(found)) {
        const known = union.alternatives.find(({ number }) => number === found[0]);
        r.closeUnion();
        return { name, type: known && { kind: "any" }, value: undefined }; // in CBOR
      }
    } else {
      try {
        value = this.read(r, alternative.type);
      } catch (problem) {
        throw values.inside(problem, name);
      }
    }
    r.closeUnion();
    return { name, type: alternative?.type, value };
  }

  private list(r: JsonReader, elem: TypeModel): Value[] {
    const list: Value[] = [];
    r.openList();
    try {
      while (r.more()) {
        list.push(this.read(r, elem));
      }
    } catch (problem) {
      throw values.inside(problem, list.length);
    }
    return list;
  }

  private map(r: JsonReader, key: TypeModel, elem: TypeModel): Map<string | number | bigint, Value> {
    const entries = new Map<string | number | bigint, Value>();
    r.openObject("a map");
    for (let name = r.member(); name !== undefined; name = r.member()) {
      const at = this.key(r, key, name);
      try {
        values.distinct(entries, at, this.read(r, elem));
      } catch (problem) {
        throw values.inside(problem, name);
      }
    }
    return entries;
  }

  private key(r: JsonReader, { kind, of }: TypeModel, name: string): string | number | bigint {
    switch (kind) {
      case "text":
        return name;
      case "enum":
        return this.enum(of ?? "").readKey(r, name);
      case "int64":
      case "uint64":
        return r.largeKey(name, kind === "int64");
      default: {
        const bits = Number(/\d+$/.exec(kind)?.[0]);
        return kind.startsWith("u")
          ? r.smallKey(name, 0, 2 ** bits - 1)
          : r.smallKey(name, -(2 ** (bits - 1)), 2 ** (bits - 1) - 1);
      }
    }
  }

  private violations(
    list: wire.Violation[],
    at: string,
    value: Value,
    type: TypeModel,
    own: Bounds | undefined,
    secret: boolean,
  ): void {
    if (value === null && type.kind !== "any") {
      return; // cleared
    }
    if (own !== undefined) {
      this.bounds(list, at, value, type, own, secret || type.secret === true);
    }
    const hidden = secret || type.secret === true;
    if (type.bounds !== undefined) {
      this.bounds(list, at, value, type, type.bounds, hidden);
    }
    switch (type.kind) {
      case "enum":
        this.enum(type.of ?? "").violations(list, at, value as string);
        break;
      case "union": {
        const { name, type: inner, value: held } = value as UnionValue;
        if (inner === undefined) {
          wire.refuseUnlisted(
            list,
            at,
            named(this.model.unions, type.of)
              .alternatives.map((one) => one.name)
              .join(", "),
          );
        } else if (inner.kind !== "any") {
          this.violations(list, at + values.pointer(name), held, inner, undefined, false);
        }
        break;
      }
      case "list":
        for (const [i, element] of (value as Value[]).entries()) {
          this.violations(list, `${at}/${String(i)}`, element, type.elem as TypeModel, undefined, false);
        }
        break;
      case "map":
        for (const [key, entry] of this.sorted(value as Map<string | number | bigint, Value>, type.key as TypeModel)) {
          const there = at + values.pointer(this.keyText(key, type.key as TypeModel));
          this.violations(list, there, key, type.key as TypeModel, undefined, false);
          this.violations(list, there, entry, type.elem as TypeModel, undefined, false);
        }
        break;
      case "message":
        for (const field of named(this.model.messages, type.of).fields) {
          const { fields } = value as MessageValue;
          if (fields.has(field)) {
            this.violations(
              list,
              at + values.pointer(field.name),
              fields.get(field),
              field.type,
              field.bounds,
              field.secret === true,
            );
          }
        }
    }
  }

  private keyText(key: string | number | bigint, { kind, of }: TypeModel): string {
    return kind === "enum" ? this.enum(of ?? "").key(String(key)) : String(key);
  }

  private sorted(
    map: Map<string | number | bigint, Value>,
    { kind, of }: TypeModel,
  ): Iterable<[string | number | bigint, Value]> {
    switch (kind) {
      case "text":
        return values.sortedTexts(map as Map<string, Value>);
      case "enum":
        return this.enum(of ?? "").sorted(map as Map<values.Unlisted, Value>);
      default:
        return values.sortedIntegers(map as Map<number | bigint, Value>);
    }
  }

  private bounds(list: wire.Violation[], at: string, value: Value, type: TypeModel, b: Bounds, secret: boolean): void {
    if (b.range !== undefined && outside(value, type, b)) {
      wire.refuse(list, at, b.range, secret ? undefined : shown(value));
    }
    const limited = (count: number, rule: string | undefined, low = 0, high = 0): void => {
      if (rule !== undefined && (count < low || (count > high && (high > 0 || low === 0)))) {
        wire.refuse(list, at, rule, count);
      }
    };
    if (b.length !== undefined) {
      limited(
        typeof value === "string" ? wire.codePoints(value) : (value as Uint8Array).length,
        b.length,
        b.lengthLow,
        b.lengthMax,
      );
    }
    if (b.count !== undefined) {
      limited(
        Array.isArray(value) ? value.length : (value as Map<unknown, unknown>).size,
        b.count,
        b.countLow,
        b.countMax,
      );
    }
    if (b.pattern !== undefined && !new RegExp(b.pattern, "u").test(value as string)) {
      wire.refuse(list, at, `must match ${b.pattern}`);
    }
    if (b.unique === true) {
      wire.unique(list, at, value as Value[], (w, element) => {
        w.out += this.comparison(element, type.elem as TypeModel);
      });
    }
  }

  /** A text that is the same for values that are equal. */
  private comparison(value: Value, type: TypeModel): string {
    if (value === null || value === undefined) {
      return "null";
    }
    switch (type.kind) {
      case "list":
        return `[${(value as Value[]).map((one) => this.comparison(one, type.elem as TypeModel)).join(",")}]`;
      case "map":
        return `{${Array.from(this.sorted(value as Map<string, Value>, type.key as TypeModel), ([key, entry]) => `${JSON.stringify(String(key))}:${this.comparison(entry, type.elem as TypeModel)}`).join(",")}}`;
      case "union": {
        const { name, type: inner, value: held } = value as UnionValue;
        return `{${JSON.stringify(name)}:${inner === undefined ? "" : this.comparison(held, inner)}}`;
      }
      case "message": {
        const { fields, others } = value as MessageValue;
        return `{${named(this.model.messages, type.of)
          .fields.map((field) =>
            fields.has(field) || field.default !== undefined
              ? `${String(field.number)}:${this.comparison(fields.has(field) ? fields.get(field) : plainDefault(field), field.type)}`
              : "",
          )
          .join()}${others}}`;
      }
      case "decimal":
        return value instanceof values.Decimal ? value.normalized().toString() : shown(value);
      case "any": {
        const w = new wire.JsonWriter("comparison");
        wire.writeJsonAny(w, value as values.Any);
        return w.result;
      }
      case "bytes":
        return values.toBase64(value as Uint8Array);
      default:
        return JSON.stringify(shown(value));
    }
  }
}

/** The default of a field as its values are compared. */
function plainDefault(field: FieldModel): Value {
  return bare(parse(field.default ?? "null"));
}

function shown(value: Value): string {
  return typeof value === "number" ? wire.floatText(value) : String(value);
}

/** Whether a value lies outside of a range. */
function outside(value: Value, type: TypeModel, { low, high }: Bounds): boolean {
  const order = (limit: string): number => {
    if (value instanceof values.Decimal) {
      return value.compare(values.Decimal.parse(limit));
    }
    if (value instanceof values.Instant) {
      return value.compare(values.Instant.parse(limit));
    }
    if (value instanceof values.CalendarDate) {
      return value.compare(values.CalendarDate.parse(limit));
    }
    if (value instanceof values.Duration) {
      return value.compare(values.Duration.parse(limit));
    }
    if (typeof value === "bigint") {
      return value < BigInt(limit) ? -1 : value > BigInt(limit) ? 1 : 0;
    }
    const n = Number(value);
    const bound = type.kind === "float32" ? Math.fround(Number(limit)) : Number(limit);
    return n < bound ? -1 : n > bound ? 1 : n === bound ? 0 : NaN;
  };
  return (low !== undefined && !(order(low) >= 0)) || (high !== undefined && !(order(high) <= 0));
}

/** A text outside of a body: JSON without its quotes. */
export function bare(json: Json): string {
  return typeof json === "string" ? json : json instanceof Digits ? json.text : write(json);
}
