/** What patches are read, applied and made with: messages whose fields are left (undefined), set, or cleared (null). */

import type { CborReader } from "./cbor.js";
import type { JsonReader } from "./json.js";
import { keep, rank, same, unlisted, unlistedFields, WireError } from "./values.js";
import type { Fields, Keeper, UnlistedField } from "./values.js";
import * as wire from "./wire.js";

const cborNull = 0xf6;

/** What there is for patches of messages Of. */
export interface PatchTools<Init, T, Of> extends wire.Tools<Init, T> {
  /** What to is once the patch is applied, unlisted fields included: what is cleared is absent, or has its default. */
  apply(patch: T, to: Of): Of;
  /** The patch that changes a into b: applied to a, it gives what equals b. */
  between(a: Of, b: Of): T;
}

export function tools<Init, T, Of>(coded: wire.MadeCodec<Init, T>, apply: (patch: T, to: Of) => Of, between: (a: Of, b: Of) => T): PatchTools<Init, T, Of> {
  return { ...wire.tools(coded), apply, between };
}

/** Refuses null for a field that is required. */
export function notCleared(): never {
  throw new WireError("the field is required, and can't be cleared");
}

/** What a field is once a change is applied; cleared is what null makes of it. */
export function changed<T, B>(change: T | null | undefined, before: B, cleared: B): T | B {
  return change === undefined ? before : (change ?? cleared);
}

/** The change of a field that is a before and b after it: undefined where they are the same, null where b is absent. */
export function change<T>(a: T | undefined, b: T | undefined): T | null | undefined {
  return same(a, b) ? undefined : (b ?? null);
}

/** change, for a field that is never absent. */
export function changeOf<T>(a: T, b: T): T | undefined {
  return same(a, b) ? undefined : b;
}

/** JsonReader.keepUnlisted for a patch, in which null may replace a number. */
export function keepUnlistedChange(r: JsonReader, m: Keeper, fields: Fields, name: string): [number, CborReader] | undefined {
  const number = /^#[1-9][0-9]{0,4}$/.test(name) ? Number(name.slice(1)) : 65536;
  if (number > 65535 || !r.null()) {
    return r.keepUnlisted(m, fields, name);
  }
  if (fields.some(([n]) => n === number)) {
    return [number, r.inner(Uint8Array.of(cborNull))];
  }
  keep(m, { number, cbor: Uint8Array.of(cborNull) });
  return undefined;
}

function isNull(field: UnlistedField): boolean {
  return "number" in field ? field.cbor.length === 1 && field.cbor[0] === cborNull : field.json === "null";
}

function identity(field: UnlistedField): number | string {
  return "number" in field ? field.number : field.name;
}

/** Gives m what to has of unlisted fields, changed by those of a patch: null takes one away. */
export function applyUnlisted<T extends object>(m: T, to: Readonly<Keeper>, patch: Readonly<Keeper>): T {
  const kept = new Map(unlistedFields(to).map((field) => [identity(field), field]));
  for (const field of unlistedFields(patch)) {
    if (isNull(field)) {
      kept.delete(identity(field));
    } else {
      kept.set(identity(field), field);
    }
  }
  return withFields(m, [...kept.values()]);
}

/** Gives a patch what changed of unlisted fields between two messages. */
export function unlistedBetween<T extends object>(patch: T, a: Readonly<Keeper>, b: Readonly<Keeper>): T {
  const before = new Map(unlistedFields(a).map((field) => [identity(field), field]));
  const after = new Map(unlistedFields(b).map((field) => [identity(field), field]));
  const changes: UnlistedField[] = [];
  for (const [key, field] of before) {
    if (!after.has(key)) {
      changes.push("number" in field ? { number: field.number, cbor: Uint8Array.of(cborNull) } : { name: field.name, json: "null" });
    }
  }
  for (const [key, field] of after) {
    if (!same(before.get(key), field)) {
      changes.push(field);
    }
  }
  return withFields(patch, changes);
}

function withFields<T extends object>(m: T, fields: UnlistedField[]): T {
  return fields.length === 0 ? m : { ...m, [unlisted]: fields.sort((a, b) => rank(a) - rank(b)) };
}
