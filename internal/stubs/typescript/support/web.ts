/**
 * What clients and servers share of a call over HTTP: requests and answers as
 * CBOR or JSON, errors as problem details (RFC 9457), where a request's fields
 * travel.
 */

import * as wire from "./wire.js";

export const cborType = "application/cbor";
export const jsonType = "application/json";
export const cborSequence = "application/cbor-seq";
export const jsonSequence = "application/json-seq";
export const problemType = "application/problem+json";

/** The encoding of a payload. */
export type Encoding = "cbor" | "json";

/** What both sides know of one call. */
export interface Call<Q, A> {
  /** Full: module, service and call. */
  readonly name: string;
  readonly method: string;
  /** Below the base; "{field}" is the place of a segment. */
  readonly path: string;
  /** Of success, where that is not 200, or 204 without an answer. */
  readonly status?: number;
  readonly safe: boolean;
  readonly idempotent: boolean;
  readonly requestStream: boolean;
  readonly answerStream: boolean;
  /** Whether answers may be compressed. */
  readonly compressible?: boolean;
  /** Of the request, or an element of it; undefined is "()". */
  readonly request: wire.Codec<Q> | wire.Checks<Q> | undefined;
  readonly answer: wire.Codec<A> | wire.Checks<A> | undefined;
  /** How a request travels that is not all in the body. */
  readonly travel?: Travel<Q>;
  /** What comes before a stream of requests. */
  readonly head?: Head;
  /** How an answer does. */
  readonly answerTravel?: Travel<A>;
  /** One of these, of it all. */
  readonly needs: readonly (readonly Credential[])[];
  readonly fails: readonly Failure[];
}

/** A message before a stream of requests, all of whose fields travel outside of the body. */
export interface Head {
  readonly codec: wire.Checks<unknown>;
  readonly travel: Travel<unknown>;
}

/** Whether anything of a call's request or answer travels in cookies. */
export function inCookies<Q, A>({ travel, head, answerTravel }: Call<Q, A>): boolean {
  return [travel, head?.travel, answerTravel].some((side) => side?.placed.some((p) => p.in === "cookie") === true);
}

/** How the fields of a message travel. */
export interface Travel<T> {
  readonly placed: readonly Placed[];
  /** What is left for the body; undefined where there is none. */
  readonly body: wire.Codec<unknown> | undefined;
  bodyOf(m: T): unknown;
  place(m: T, p: Parameters): void;
  take(a: Arguments, body: unknown, raw: wire.Body | undefined): T;
  /** Where the body is one field as it is. */
  readonly raw?: Raw<T>;
}

/** How a body travels as it is. */
export interface Raw<T> {
  /** In JSON. */
  readonly field: string;
  readonly bounds: wire.RawBounds;
  of(m: T): wire.Body;
}

/** Whether a status sends the client elsewhere (RFC 9110, section 15.4). */
export function isRedirect(status: number | undefined): boolean {
  return status !== undefined && [301, 302, 303, 307, 308].includes(status);
}

/** Whether an answer's status is one of success. */
export function succeeds(call: Pick<Call<never, unknown>, "status">, status: number): boolean {
  return isRedirect(call.status) ? isRedirect(status) : status >= 200 && status < 300;
}

/** A field that travels outside of the body. */
export interface Placed {
  readonly number: number;
  /** In JSON. */
  readonly name: string;
  readonly in: "path" | "query" | "header" | "cookie";
  /** How it is called there. */
  readonly parameter: string;
}

/** What a caller may have to show. */
export interface Credential {
  /** Full: module and credential. */
  readonly name: string;
  readonly kind: "header" | "query" | "cookie" | "bearer" | "basic";
  /** Of a key: the name of the header, parameter or cookie. */
  readonly key: string;
}

/** Whether name, with or without its module, is the credential's. */
export function isNamed(credential: string, name: string): boolean {
  return credential === name || (!name.includes(".") && credential.endsWith(`.${name}`));
}

/** One error that a call declares. */
export interface Failure {
  /** Full: module and error. */
  readonly name: string;
  readonly status: number;
  readonly codec: wire.Codec<wire.DeclaredError>;
}

/** An error that the call does not declare, as problem details. */
export class Problem extends Error {
  override readonly name = "Problem";
  /** What follows "/-/errors/" in the type, such as "invalid-request"; another type as it is. */
  readonly problem: string;
  readonly status: number;
  readonly title: string;
  readonly detail: string;
  readonly violations: readonly wire.Violation[];
  /** A URI of this occurrence. */
  readonly instance: string | undefined;

  constructor(
    problem: string,
    status: number,
    title: string,
    detail: string,
    violations: readonly wire.Violation[] = [],
    instance?: string,
  ) {
    super([`${String(status)} ${title}`, detail].filter((s) => s !== "").join(": ") + violations.map((v) => `; ${v.pointer} ${v.detail}`).join(""));
    this.problem = problem;
    this.status = status;
    this.title = title;
    this.detail = detail;
    this.violations = violations;
    this.instance = instance;
  }
}

/** Why there is no answer: there was no connection, it broke, the time was over, or the caller gave up. */
export type Reason = "refused" | "lost" | "timed out" | "cancelled";

/** A call that got no answer, or a stream that lost its end. */
export class Unreachable extends Error {
  override readonly name = "Unreachable";
  readonly reason: Reason;

  constructor(message: string, reason: Reason, options?: ErrorOptions) {
    super(message, options);
    this.reason = reason;
  }
}

/** What a status is called (RFC 9110, section 15), of those that servers answer with most. */
export function statusText(status: number): string {
  return names.get(status) ?? (status >= 500 ? "Server error" : "Client error");
}

const names = new Map([
  [400, "Bad Request"],
  [401, "Unauthorized"],
  [402, "Payment Required"],
  [403, "Forbidden"],
  [404, "Not Found"],
  [405, "Method Not Allowed"],
  [406, "Not Acceptable"],
  [408, "Request Timeout"],
  [409, "Conflict"],
  [410, "Gone"],
  [412, "Precondition Failed"],
  [413, "Content Too Large"],
  [415, "Unsupported Media Type"],
  [422, "Unprocessable Content"],
  [423, "Locked"],
  [428, "Precondition Required"],
  [429, "Too Many Requests"],
  [431, "Request Header Fields Too Large"],
  [500, "Internal Server Error"],
  [501, "Not Implemented"],
  [502, "Bad Gateway"],
  [503, "Service Unavailable"],
  [504, "Gateway Timeout"],
]);

/** An answer that could not be understood. */
export class BadAnswer extends Error {
  override readonly name = "BadAnswer";
  readonly status: number;

  constructor(status: number, message: string, options?: ErrorOptions) {
    super(`the answer with status ${String(status)} was not understood: ${message}`, options);
    this.status = status;
  }
}

/**
 * A call whose answer is the one that the caller has already, by the entity-tag in the field of its request that travels
 * in If-None-Match. For middleware and tries it is a success.
 */
export class NotModified extends Error {
  override readonly name = "NotModified";
  /** Of the answer, as in the field of it that travels in ETag. */
  readonly etag: string;

  constructor(call: string, etag: string) {
    super(`${call}: not modified since ${etag}`);
    this.etag = etag;
  }
}

/** A request that the definitions refuse; nothing was sent. */
export class InvalidRequest extends Error {
  override readonly name = "InvalidRequest";
  readonly violations: readonly wire.Violation[];

  constructor(call: string, violations: readonly wire.Violation[], options?: ErrorOptions) {
    super(`${call}: ${violations.map((v) => `${v.pointer} ${v.detail}`.trimStart()).join("; ")}`, options);
    this.violations = violations;
  }
}

/** A call for which the client has none of the credentials that would do; nothing was sent. */
export class MissingCredential extends Error {
  override readonly name = "MissingCredential";
  /** Such as "crew | door". */
  readonly needs: string;
  /** The names of the credentials that the client has. */
  readonly given: readonly string[];

  constructor(call: string, needs: string, given: readonly string[]) {
    super(`${call} needs ${needs}; the credentials that the client was given: ${given.map((name) => `"${name}"`).join(", ") || "none"}`);
    this.needs = needs;
    this.given = given;
  }
}

/** What a server says of itself. */
export interface Definitions {
  readonly name: string;
  readonly version: string;
  readonly digest: string;
  readonly modules: readonly { readonly name: string; readonly text: string }[];
  readonly errors: readonly { readonly name: string; readonly status: number; readonly documentation: string }[];
  /** For /-/manual, as generate packs it. */
  readonly manual?: string;
}

/** The trace that a call is in (W3C Trace Context). */
export interface Trace {
  readonly traceparent: string;
  readonly tracestate?: string;
}

/** A media type in lower case, without parameters. */
export function mediaType(header: string | null | undefined): string {
  if (header === cborType || header === jsonType) {
    return header;
  }
  return (header ?? "").split(";", 1)[0]?.trim().toLowerCase() ?? "";
}

/** How a call went. */
export interface Watched {
  /** In milliseconds. */
  readonly duration: number;
  /** HTTP, of the last try; 101 of a WebSocket, 0 where no answer began. */
  readonly status: number;
  /** How often a client sent it; 0 for servers, and where nothing was sent. */
  readonly tries: number;
  /** Bytes of the body that came, or of a stream's elements; of all tries. */
  readonly received: number;
  /** Bytes of the body that went; of all tries. */
  readonly sent: number;
  /**
   * What it failed with, in the middle of a stream, too. At a server it is undefined for what the server refused by
   * itself; at a client it is what the caller gets, but undefined for NotModified.
   */
  readonly failed: unknown;
}

/** A body as it comes. */
export interface Chunks extends AsyncIterable<Uint8Array> {
  /** A quicker way to all of it, where a transport has one: undefined when that is more than limit bytes. */
  whole?(limit: number): Promise<Uint8Array | undefined>;
}

/** The same chunks; add is told how many bytes come. */
export function counted(chunks: Chunks, add: (bytes: number) => void): Chunks {
  return {
    async *[Symbol.asyncIterator]() {
      for await (const chunk of chunks) {
        add(chunk.length);
        yield chunk;
      }
    },
    whole: async (limit) => {
      const all = await readAll(chunks, limit);
      add(all?.length ?? 0);
      return all;
    },
  };
}

/** Reads chunks to their end; undefined when they are more than limit bytes. */
export async function readAll(chunks: Chunks, limit: number): Promise<Uint8Array | undefined> {
  if (chunks.whole !== undefined) {
    return chunks.whole(limit);
  }
  const parts: Uint8Array[] = [];
  let total = 0;
  for await (const chunk of chunks) {
    total += chunk.length;
    if (total > limit) {
      return undefined;
    }
    parts.push(chunk);
  }
  return joined(parts, total);
}

/** Parts of so many bytes in all as one. */
export function joined(parts: readonly Uint8Array[], total: number): Uint8Array {
  const [only] = parts;
  if (only !== undefined && parts.length === 1) {
    return only;
  }
  const all = new Uint8Array(total);
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
}

export function encode<T>(type: string, message: T, codec: wire.Codec<T>): Uint8Array<ArrayBuffer> {
  return type === cborType ? wire.toCbor(codec, message) : new TextEncoder().encode(wire.toJson(codec, message));
}

export function decode<T>(type: string, payload: Uint8Array, codec: wire.Codec<T>, items: number | undefined): T {
  return type === cborType ? wire.fromCbor(codec, payload, items) : wire.fromJson(codec, payload, items);
}

/** What is put into path, query, headers and cookies. */
export class Parameters {
  readonly paths: Map<string, string> = new Map();
  readonly queries: string[] = [];
  readonly headers: Record<string, string> = {};
  /** Names and values, encoded. */
  readonly cookies: [name: string, value: string][] = [];
  readonly violations: wire.Violation[] = [];

  path(name: string, text: string): void {
    if (text === "" || text === "." || text === "..") {
      this.violations.push({ pointer: `/${name}`, detail: "must not be empty, . or .., in a path", in: "path" });
    }
    this.paths.set(name, encodeURIComponent(text));
  }

  query(name: string, text: string): void {
    this.queries.push(`${encodeURIComponent(name)}=${encodeURIComponent(text)}`);
  }

  header(name: string, text: string): void {
    if (isVerbatim(name) && !isPrintable(text)) {
      this.violations.push({ pointer: "", detail: `the header "${name}" ${notPrintable}`, in: "header" });
    }
    this.headers[name.toLowerCase()] = isVerbatim(name) ? text : encodeHeader(text);
  }

  cookie(name: string, text: string): void {
    this.cookies.push([name, encodeCookie(text)]);
  }
}

/** What is sent as it is: headers that HTTP has a meaning for. */
const verbatim = new Set(["accept-language", "if-match", "if-none-match", "cache-control", "content-disposition", "content-language", "etag", "last-modified", "link", "location"]);

function isVerbatim(header: string): boolean {
  return verbatim.has(header.toLowerCase());
}

const notPrintable = "must be printable ASCII, without spaces at either end";

function isPrintable(text: string): boolean {
  return /^(?:[!-~](?:[ -~]*[!-~])?)?$/.test(text);
}

function percentEncoded(part: string): string {
  return Array.from(new TextEncoder().encode(part), (b) => `%${b.toString(16).toUpperCase().padStart(2, "0")}`).join("");
}

/** Writes text for a header, with what can't be in one, or would not be seen at its ends, percent-encoded. */
function encodeHeader(text: string): string {
  return text.replace(/[^ !-$&-~]+|^ +| +$/gu, percentEncoded);
}

/** Writes text for a cookie, with what means something there percent-encoded (RFC 6265, section 4.1.1). */
function encodeCookie(text: string): string {
  return text.replace(/[^!#$&-+\--:<-[\]-~]+/gu, percentEncoded);
}

/** A scalar as it travels outside of a body: its JSON without quotes. */
export function plain(write: (w: wire.JsonWriter) => void): string {
  const w = new wire.JsonWriter();
  write(w);
  return w.result.startsWith('"') ? (JSON.parse(w.result) as string) : w.result;
}

/** How the JSON of a type relates to its text outside of a body: as it is, without its quotes, or either, by whether it looks like a number. */
export type Shape = "bare" | "quoted" | "number";

/** What is found in path, query, headers and cookies. */
export class Arguments {
  readonly violations: wire.Violation[] = [];

  private readonly placed: readonly Placed[];
  private readonly values: (p: Placed) => readonly string[];

  constructor(placed: readonly Placed[], values: (p: Placed) => readonly string[]) {
    this.placed = placed;
    this.values = values;
  }

  /** A field that must be there. Where it is not, that is a violation, and the request is refused in the end. */
  required<T>(i: number, shape: Shape, read: (r: wire.JsonReader) => T): T {
    const before = this.violations.length;
    const value = this.optional(i, shape, read);
    const p = this.placed[i];
    if (value === undefined && this.violations.length === before && p !== undefined) {
      this.refuse(p, "is required");
    }
    return value as T;
  }

  optional<T>(i: number, shape: Shape, read: (r: wire.JsonReader) => T): T | undefined {
    const p = this.placed[i];
    const [text, ...more] = p === undefined ? [] : this.values(p);
    if (p === undefined || text === undefined) {
      return undefined;
    }
    if (more.length > 0) {
      this.refuse(p, "comes more than once");
      return undefined;
    }
    return this.read(p, text, shape, read);
  }

  list<T>(i: number, shape: Shape, read: (r: wire.JsonReader) => T): T[] {
    const p = this.placed[i];
    const texts = p === undefined ? [] : this.values(p);
    return texts.map((text) => this.read(p as Placed, text, shape, read) as T);
  }

  /** Refuses fields that travel outside of the body and came in it too. */
  rest(unlisted: readonly wire.UnlistedField[] | undefined): void {
    for (const p of this.placed) {
      if (unlisted?.some((u) => ("number" in u ? u.number === p.number : u.name === p.name)) === true) {
        this.violations.push({ pointer: wire.pointer(p.name), detail: `travels in the ${p.in}, and must not come in the body too` });
      }
    }
  }

  private read<T>(p: Placed, value: string, shape: Shape, read: (r: wire.JsonReader) => T): T | undefined {
    try {
      const asIs = p.in === "header" && isVerbatim(p.parameter);
      if (asIs && !isPrintable(value)) {
        this.refuse(p, notPrintable);
        return undefined;
      }
      const text = (p.in === "header" && !asIs) || p.in === "cookie" ? decodeURIComponent(value) : value;
      if (p.in === "path" && (text === "" || text === "." || text === "..")) {
        this.refuse(p, "must not be empty, . or .., in a path");
        return undefined;
      }
      const bare = shape === "bare" || (shape === "number" && /^-?[0-9]/.test(text));
      if (bare && /[ \t\r\n"]/.test(text)) {
        this.refuse(p, "expected a value without blanks and quotes");
        return undefined;
      }
      const r = new wire.JsonReader(bare ? text : JSON.stringify(text));
      const result = read(r);
      r.end();
      return result;
    } catch (problem) {
      this.refuse(p, problem instanceof wire.WireError ? problem.detail : "has a % that is not followed by two hexadecimal digits");
      return undefined;
    }
  }

  private refuse(p: Placed, detail: string): void {
    this.violations.push({ pointer: wire.pointer(p.name), detail, in: p.in });
  }
}

/** Says of each violation of a whole message where its field travels. */
export function locate(violations: readonly wire.Violation[], placed: readonly Placed[]): wire.Violation[] {
  return violations.map((v) => {
    const p = placed.find(({ name }) => v.pointer === wire.pointer(name) || v.pointer.startsWith(`${wire.pointer(name)}/`));
    return p === undefined ? v : { ...v, in: p.in };
  });
}

/** The error that a call declares where a problem is one, else the problem. */
export function failure(call: Pick<Call<never, unknown>, "fails">, status: number, text: string): Error {
  try {
    const body = JSON.parse(text) as { type?: unknown; title?: unknown; status?: unknown; detail?: unknown; errors?: unknown; instance?: unknown };
    const name = String(body.type).split("/-/errors/")[1] ?? String(body.type);
    const declared = call.fails.find((f) => f.name === name);
    if (declared !== undefined) {
      return wire.fromJson(declared.codec, memberOf(text, "error"));
    }
    const violations = Array.isArray(body.errors) ? (body.errors as wire.Violation[]) : [];
    return new Problem(name, typeof body.status === "number" ? body.status : status, String(body.title), typeof body.detail === "string" ? body.detail : "", violations, typeof body.instance === "string" ? body.instance : undefined);
  } catch (cause) {
    return new BadAnswer(status, String(cause), { cause });
  }
}

/** The problem of an answer without problem details, as proxies send: its detail is how the body begins. */
export function bareProblem(status: number, body: Uint8Array): Problem {
  const most = 200;
  const text = new TextDecoder().decode(body.subarray(0, 4 * most)).trim().replace(/\s+/g, " ");
  const points = Array.from(text);
  return new Problem("about:blank", status, statusText(status), points.length > most ? `${points.slice(0, most).join("")}…` : text);
}

/** A member of an object as it is in the text, so that large integers stay exact. */
function memberOf(text: string, name: string): string {
  return new wire.JsonReader(text).members().find(([member]) => member === name)?.[1] ?? "{}";
}
