/** How scalars that not every definition has are in JSON: apart, so that bundles have those that they need. */

import type { JsonReader, JsonWriter } from "./json.js";
import { CalendarDate, Decimal, Duration, Instant, WireError, distinct, inside, instantOf, misfit, must, narrow, sortedTexts } from "./values.js";
import type { Any } from "./values.js";

/** What read returns, or what stands in for it where a reader goes on after what is wrong. */
function recovering<T>(r: JsonReader, read: (r: JsonReader) => T, other: () => T): T {
  return r.recover === undefined ? read(r) : r.recover(read, other);
}

export function writeJsonInstant(w: JsonWriter, v: Instant): void {
  if (!(v instanceof Instant)) {
    throw misfit(v, "Instant");
  }
  w.out += '"' + v.toString() + '"';
}

export function writeJsonDecimal(w: JsonWriter, v: Decimal): void {
  if (!(v instanceof Decimal)) {
    throw misfit(v, "Decimal");
  }
  w.out += `"${(w.purpose === "comparison" ? v.normalized() : v).toString()}"`;
}

export function writeJsonDate(w: JsonWriter, v: CalendarDate): void {
  if (!(v instanceof CalendarDate)) {
    throw misfit(v, "CalendarDate");
  }
  w.out += `"${v.toString()}"`;
}

export function writeJsonDuration(w: JsonWriter, v: Duration): void {
  if (!(v instanceof Duration)) {
    throw misfit(v, "Duration");
  }
  w.out += `"${v.toString()}"`;
}

export function writeJsonAny(w: JsonWriter, v: Any): void {
  switch (typeof v) {
    case "boolean":
      w.bool(v);
      return;
    case "string":
      w.text(v);
      return;
    case "bigint":
      if (v !== (v < 0n ? BigInt.asIntN(64, v) : BigInt.asUintN(64, v))) {
        throw new WireError(`${String(v)} is neither an int64 nor a uint64`);
      }
      w.out += v.toString();
      return;
    case "number": {
      if (!Number.isFinite(v)) {
        throw new WireError(`an any can't contain ${String(v)}`);
      }
      const text = Object.is(v, -0) ? "-0" : String(v);
      w.out += /[.e]/.test(text) ? text : `${text}.0`;
      return;
    }
  }
  if (v === null) {
    w.out += "null";
  } else if (v instanceof Map) {
    w.open("{");
    for (const [key, entry] of sortedTexts(v as ReadonlyMap<string, Any>)) {
      w.member(key);
      writeJsonAny(w, entry);
    }
    w.close("}");
  } else {
    w.open("[");
    for (const item of v as readonly Any[]) {
      w.separate();
      writeJsonAny(w, item);
    }
    w.close("]");
  }
}

export function writeJsonFloat32(w: JsonWriter, v: number): void {
  must(v, "number");
  w.float64(narrow(v));
}

function instant(r: JsonReader): Instant {
  if (r.code() !== 0x22) {
    r.wrong("instant");
  }
  return instantOf(r.string()) ?? r.fail("expected an instant such as 2026-07-15T09:30:00Z");
}

export function readJsonInstant(r: JsonReader): Instant {
  return recovering(r, instant, () => Instant.of(0));
}

function date(r: JsonReader): CalendarDate {
  return r.parsed("date", (text) => CalendarDate.parse(text));
}

export function readJsonDate(r: JsonReader): CalendarDate {
  return recovering(r, date, () => CalendarDate.of(1970, 1, 1));
}

function duration(r: JsonReader): Duration {
  return r.parsed("duration", (text) => Duration.parse(text));
}

export function readJsonDuration(r: JsonReader): Duration {
  return recovering(r, duration, () => Duration.ofSeconds(0));
}

function decimal(r: JsonReader): Decimal {
  if (r.peek() === '"') {
    return r.parsed("decimal", (text) => Decimal.parse(text));
  }
  const digits = r.number("decimal");
  try {
    return Decimal.parse(digits);
  } catch (problem) {
    r.fail(problem instanceof WireError ? problem.detail : "expected decimal");
  }
}

export function readJsonDecimal(r: JsonReader): Decimal {
  return recovering(r, decimal, () => Decimal.of(0n));
}

function any(r: JsonReader): Any {
  const c = r.peek();
  if (c === "n" && r.word("null")) {
    return null;
  }
  if (c === "t" || c === "f") {
    return r.bool();
  }
  if (c === '"') {
    return r.string();
  }
  if (c === "[") {
    const list: Any[] = [];
    r.openList();
    while (r.more()) {
      try {
        list.push(any(r));
      } catch (problem) {
        throw inside(problem, list.length);
      }
    }
    return list;
  }
  if (c === "{") {
    const entries = new Map<string, Any>();
    r.openObject("a map");
    for (let name = r.member(); name !== undefined; name = r.member()) {
      try {
        distinct(entries, name, any(r));
      } catch (problem) {
        throw inside(problem, name);
      }
    }
    return entries;
  }
  const digits = r.number("a JSON value");
  if (/[.eE]/.test(digits)) {
    return Number.isFinite(Number(digits)) ? Number(digits) : r.fail("too large for a float64");
  }
  const n = digits.length > 21 ? undefined : BigInt(digits);
  if (n === undefined || n !== (n < 0n ? BigInt.asIntN(64, n) : BigInt.asUintN(64, n))) {
    r.fail(`${digits.slice(0, 40)} is neither an int64 nor a uint64`);
  }
  return n;
}

export function readJsonAny(r: JsonReader): Any {
  return recovering(r, any, () => null);
}

function float32(r: JsonReader): number {
  return r.float("float32", nearestFloat32);
}

/** Reads a float32, rounded straight from the digits. */
export function readJsonFloat32(r: JsonReader): number {
  return recovering(r, float32, () => 0);
}

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
  if (Math.abs(double) >= 2 ** 128) {
    return rounded; // too large, and not near the largest
  }
  const float = Number.isFinite(rounded) ? rounded : Math.sign(rounded) * largestFloat32;
  const other = neighbour(float, double > float);
  if (Math.abs(double - float) !== Math.abs(other - double)) {
    return rounded; // not halfway
  }
  const side = compareDecimals(shortened(digits), double);
  if (side === 0) {
    return rounded;
  }
  const nearest = side > 0 === other > float ? other : float;
  return Math.abs(nearest) > largestFloat32 ? nearest * Infinity : nearest;
}

/** Digits of which so many decide: what follows them counts only as more than nothing. */
function shortened(digits: string): string {
  const enough = 1000;
  if (digits.length <= enough) {
    return digits;
  }
  const [number = "", exponent = "0"] = digits.toLowerCase().split("e");
  const [whole = "", fraction = ""] = number.split(".");
  const all = whole + fraction;
  const first = all.search(/[1-9]/);
  const end = first + enough;
  if (first < 0 || end >= all.length) {
    return digits;
  }
  const sticky = /[1-9]/.test(all.slice(end)) ? "1" : "0";
  return `${all.slice(0, end)}${sticky}e${String(Number(exponent) - fraction.length + all.length - end - 1)}`;
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
