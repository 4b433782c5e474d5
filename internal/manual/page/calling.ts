/** A call of a model as the client of the stubs makes it, in JSON: what is sent and taken is text. */

import { bare, Checker } from "./checking.js";
import type { Wrong } from "./checking.js";
import { isObject, parse, quoted, write } from "./json.js";
import type { Json, JsonObject } from "./json.js";
import type { CallModel, CredentialModel, Place, RawModel } from "./model.js";
import { pointer } from "../../stubs/typescript/support/values.js";
import * as web from "../../stubs/typescript/support/web.js";
import * as wire from "../../stubs/typescript/support/wire.js";

/** What somebody filled in. */
export interface Filled {
  readonly head: string;
  /** The request, or an element of it. */
  readonly request: string;
  readonly raw: Blob | undefined;
  readonly mediaType: string;
  /** By full name. */
  readonly credentials: ReadonlyMap<string, string>;
  /** Whether to send what the definitions refuse, too. */
  readonly unchecked: boolean;
}

/** One message as it is sent. */
export interface Outgoing {
  readonly text: string;
  readonly fields: JsonObject;
  readonly raw: Blob | undefined;
}

export function outgoing(text: string, raw: Blob | undefined): Outgoing {
  const json = text.trim() === "" ? (new Map() as JsonObject) : parse(text);
  return { text: write(json), fields: isObject(json) ? json : new Map<string, Json>(), raw };
}

/** An answer, or an element of one, and what the definitions have against it. */
export interface Taken {
  readonly text: string;
  readonly wrong: readonly Wrong[];
  readonly raw: wire.Body | undefined;
}

export type PageCall = web.Call<Outgoing, Taken>;

/** What the client of the stubs needs to know of a call. */
export function callOf(call: CallModel, checker: Checker, unchecked: boolean): PageCall {
  const request = call.request;
  return {
    name: call.full,
    method: call.method,
    path: call.path,
    status: call.status,
    safe: call.safe === true,
    idempotent: call.idempotent === true,
    requestStream: call.sends === true,
    answerStream: call.receives === true,
    request: request === undefined ? undefined : new RequestCodec(checker, request, call.raw, unchecked),
    answer: call.answer === undefined ? undefined : new AnswerCodec(checker, call.answer, call.answerRaw?.field),
    needs: call.needs.map((all) => all.map(credentialOf)),
    fails: call.fails.map(({ name, status }) => ({ name, status, codec: new FailureCodec(name, status) })),
    ...(call.head === undefined
      ? {}
      : {
          head: {
            codec: new RequestCodec(checker, call.head, undefined, unchecked),
            travel: travelOf(call.places, undefined, undefined),
          },
        }),
    ...(request !== undefined && !call.sends && (!call.body || call.places.length > 0 || call.raw !== undefined)
      ? { travel: travelOf(call.places, call.body ? new RestCodec(call.places) : undefined, call.raw) }
      : {}),
    ...(call.answerPlaces.length > 0 || call.answerRaw !== undefined
      ? { answerTravel: answerTravelOf(call, checker) }
      : {}),
  };
}

function credentialOf({ name, kind, key }: CredentialModel): web.Credential {
  return { name, kind, key: key ?? "" };
}

function placedOf(places: readonly Place[]): web.Placed[] {
  return places.map(({ field, place, name }) => ({ number: 0, name: field, in: place, parameter: name }));
}

function travelOf(
  places: readonly Place[],
  body: wire.Codec<unknown> | undefined,
  raw: RawModel | undefined,
): web.Travel<Outgoing> {
  return {
    placed: placedOf(places),
    body,
    bodyOf: (m) => m,
    place(m, p) {
      for (const { field, place, name } of places) {
        const value = m.fields.get(field);
        if (value === undefined || value === null) {
          continue;
        }
        for (const one of Array.isArray(value) ? value : [value]) {
          if (place === "query") {
            p.query(name, bare(one));
          } else if (place === "path") {
            p.path(name, bare(one));
          } else if (place === "header") {
            p.header(name, bare(one));
          } else {
            p.cookie(name, bare(one));
          }
        }
      }
    },
    take() {
      throw new Error("the pages take no requests");
    },
    ...(raw === undefined
      ? {}
      : {
          raw: { field: raw.field, bounds: boundsOf(raw), of: (m: Outgoing) => new wire.Body(m.raw ?? new Blob([])) },
        }),
  };
}

function answerTravelOf(call: CallModel, checker: Checker): web.Travel<Taken> {
  const { answerRaw } = call;
  return {
    ...(answerRaw === undefined
      ? {}
      : {
          raw: {
            field: answerRaw.field,
            bounds: boundsOf(answerRaw),
            of: ({ raw }: Taken) => raw ?? new wire.Body(new Blob([])),
          },
        }),
    placed: placedOf(call.answerPlaces),
    body: call.answerBody ? new TextCodec() : undefined,
    bodyOf: (m) => m,
    place() {
      throw new Error("the pages answer nothing");
    },
    take(args, body, raw) {
      const found = typeof body === "string" ? parse(body) : new Map<string, Json>();
      const members: JsonObject = isObject(found) ? found : new Map<string, Json>();
      for (const [i, { field, shape, list }] of call.answerPlaces.entries()) {
        const read = (r: wire.JsonReader): string => r.raw();
        const texts = list === true ? args.list(i, shape, read) : [args.optional(i, shape, read)];
        const values = texts.filter((text) => text !== undefined).map((text) => parse(text));
        if (list === true) {
          members.set(field, values);
        } else if (values[0] !== undefined) {
          members.set(field, values[0]);
        }
      }
      const text = write(members);
      return { text, wrong: checker.check(call.answer ?? "", text, call.answerRaw?.field), raw };
    },
  };
}

/** What the definitions have against a request, its body included. */
export function wrongIn(checker: Checker, message: string, m: Outgoing, raw: RawModel | undefined): readonly Wrong[] {
  const list: wire.Violation[] = [...checker.check(message, m.text, raw?.field)];
  if (raw !== undefined) {
    wire.bodyViolations(list, pointer(raw.field), new wire.Body(m.raw ?? new Blob([])), boundsOf(raw));
  }
  return list;
}

function boundsOf({ type, low, high }: RawModel): wire.RawBounds {
  return { mediaType: type, low, ...(high === undefined ? {} : { high }) };
}

/** Writes text that is JSON. */
class TextCodec implements wire.Codec<string> {
  writeJson(w: wire.JsonWriter, text: string): void {
    w.out += text;
  }

  readJson(r: wire.JsonReader): string {
    return r.raw();
  }

  violations(): void {
    // Nothing is known of it.
  }

  writeCbor(): void {
    throw new Error("the pages write JSON");
  }

  readCbor(): never {
    throw new Error("the pages read JSON");
  }
}

class RequestCodec extends TextCodec implements wire.Codec<string> {
  private readonly checker: Checker;
  private readonly message: string;
  private readonly raw: RawModel | undefined;
  private readonly unchecked: boolean;

  constructor(checker: Checker, message: string, raw: RawModel | undefined, unchecked: boolean) {
    super();
    this.checker = checker;
    this.message = message;
    this.raw = raw;
    this.unchecked = unchecked;
  }

  override writeJson(w: wire.JsonWriter, m: unknown): void {
    w.out += (m as Outgoing).text;
  }

  override violations(list?: wire.Violation[], _?: string, m?: unknown): void {
    if (!this.unchecked && list !== undefined && m !== undefined) {
      list.push(...wrongIn(this.checker, this.message, m as Outgoing, this.raw));
    }
  }
}

/** The part of a request that is its body. */
class RestCodec extends TextCodec implements wire.Codec<string> {
  private readonly places: readonly Place[];

  constructor(places: readonly Place[]) {
    super();
    this.places = places;
  }

  override writeJson(w: wire.JsonWriter, m: unknown): void {
    const rest = new Map(
      [...(m as Outgoing).fields].filter(([name]) => !this.places.some(({ field }) => field === name)),
    );
    w.out += write(rest);
  }
}

class AnswerCodec implements wire.Codec<Taken> {
  private readonly checker: Checker;
  private readonly message: string;
  private readonly apart: string | undefined;

  constructor(checker: Checker, message: string, apart: string | undefined) {
    this.checker = checker;
    this.message = message;
    this.apart = apart;
  }

  readJson(r: wire.JsonReader): Taken {
    const text = r.raw();
    return { text, wrong: this.checker.check(this.message, text, this.apart), raw: undefined };
  }

  violations(): void {
    // Answers are shown as they are.
  }

  writeJson(): void {
    throw new Error("the pages answer nothing");
  }

  writeCbor(): void {
    throw new Error("the pages write JSON");
  }

  readCbor(): never {
    throw new Error("the pages read JSON");
  }
}

/** An error that a call declares, as it came. */
export class Declared extends wire.DeclaredError {
  readonly text: string;
  readonly full: string;
  readonly code: number;

  constructor(full: string, code: number, text: string) {
    super(full, `${full} ${text}`);
    this.full = full;
    this.code = code;
    this.text = text;
  }
}

class FailureCodec implements wire.Codec<wire.DeclaredError> {
  private readonly full: string;
  private readonly status: number;

  constructor(full: string, status: number) {
    this.full = full;
    this.status = status;
  }

  readJson(r: wire.JsonReader): Declared {
    return new Declared(this.full, this.status, r.raw());
  }

  violations(): void {
    // It is shown as it is.
  }

  writeJson(w: wire.JsonWriter): void {
    w.out += quoted(this.full);
  }

  writeCbor(): void {
    throw new Error("the pages write JSON");
  }

  readCbor(): never {
    throw new Error("the pages read JSON");
  }
}
