/**
 * Carries calls over HTTP: requests and answers as CBOR or JSON, errors as
 * problem details (RFC 9457).
 */

import * as wire from "./wire.js";

export const cborType = "application/cbor";
export const jsonType = "application/json";
const problemType = "application/problem+json";

/** The form of a payload. */
export type Form = "cbor" | "json";

/** What both sides know of one call. */
export interface Call<Q, A> {
  /** Full: module, service and call. */
  readonly name: string;
  readonly method: string;
  /** Below the base. */
  readonly path: string;
  readonly safe: boolean;
  /** undefined is "()". */
  readonly request: wire.Codec<Q> | undefined;
  readonly answer: wire.Codec<A> | undefined;
  readonly fails: readonly Failure[];
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
  constructor(
    /** What follows "/-/errors/" in the type, such as "invalid-request". */
    readonly problem: string,
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly violations: readonly wire.Violation[] = [],
  ) {
    super([`${status} ${title}`, detail].filter((s) => s !== "").join(": ") + violations.map((v) => `; ${v.pointer} ${v.detail}`).join(""));
  }
}

/** A call that got no answer: no connection, one that broke, a time-out or a cancellation. */
export class Unreachable extends Error {
  override readonly name = "Unreachable";
}

/** An answer that could not be understood. */
export class BadAnswer extends Error {
  override readonly name = "BadAnswer";
  constructor(
    readonly status: number,
    message: string,
    options?: ErrorOptions,
  ) {
    super(`the answer with status ${status} was not understood: ${message}`, options);
  }
}

/** How a client calls. */
export interface ClientOptions {
  /** What requests are sent as; "cbor" where it is not given. */
  readonly form?: Form;
  /** The transport; the global fetch where it is not given. */
  readonly fetch?: (request: Request) => Promise<Response>;
  /** In milliseconds, for each call; 60,000 where it is not given. */
  readonly timeout?: number;
  readonly headers?: Readonly<Record<string, string>>;
  /** In bytes; 4 MiB where it is not given. */
  readonly answerLimit?: number;
  /** Told when a server's definitions are not the ones of this client. */
  readonly onDigest?: (theirs: string) => void;
}

/** How one call is made. */
export interface CallOptions {
  readonly signal?: AbortSignal;
}

/** Sends calls to one server. */
export class Client {
  private readonly base: string;

  constructor(
    base: string,
    private readonly digest: string,
    private readonly options: ClientOptions,
  ) {
    this.base = base.replace(/\/+$/, "");
  }

  async do<Q, A>(call: Call<Q, A>, message: Q, options: CallOptions | undefined): Promise<A> {
    const timeout = this.options.timeout ?? 60_000;
    const signal = AbortSignal.any([AbortSignal.timeout(timeout), ...(options?.signal === undefined ? [] : [options.signal])]);
    const request = this.request(call, message, timeout, signal);
    let response: Response;
    let body: Uint8Array | undefined;
    try {
      response = await (this.options.fetch ?? fetch)(request);
      body = await readBody(response.body, this.options.answerLimit ?? 4 << 20);
    } catch (cause) {
      throw new Unreachable(`${call.name}: no answer`, { cause });
    }
    const theirs = response.headers.get("faithful-definitions");
    if (theirs !== null && theirs !== this.digest) {
      this.options.onDigest?.(theirs);
    }
    if (body === undefined) {
      throw new BadAnswer(response.status, "it is too large");
    }
    const type = mediaType(response.headers);
    if (!response.ok) {
      throw failure(call, response.status, type, body);
    }
    if (call.answer === undefined) {
      return undefined as A;
    }
    if (type !== cborType && type !== jsonType) {
      throw new BadAnswer(response.status, `its type is ${JSON.stringify(type)}`);
    }
    try {
      return decode(type, body, call.answer);
    } catch (cause) {
      throw new BadAnswer(response.status, String(cause), { cause });
    }
  }

  private request<Q, A>(call: Call<Q, A>, message: Q, timeout: number, signal: AbortSignal): Request {
    const type = this.options.form === "json" ? jsonType : cborType;
    const headers = new Headers(this.options.headers);
    headers.set("accept", type);
    headers.set("prefer", `wait=${Math.max(1, Math.ceil(timeout / 1000))}`); // RFC 7240, section 4.3
    const init: RequestInit = { method: call.method, headers, signal, redirect: "manual" };
    if (call.request !== undefined) {
      const violations = wire.validate(call.request, message);
      if (violations.length > 0) {
        throw new Problem("invalid-request", 400, "invalid request", "it was not sent", violations);
      }
      headers.set("content-type", type);
      init.body = encode(type, message, call.request);
    }
    return new Request(this.base + call.path, init);
  }
}

function encode<T>(type: string, message: T, codec: wire.Codec<T>): Uint8Array<ArrayBuffer> | string {
  return type === cborType ? wire.toCbor(codec, message) : wire.toJson(codec, message);
}

function decode<T>(type: string, body: Uint8Array, codec: wire.Codec<T>): T {
  return type === cborType ? wire.fromCbor(codec, body) : wire.fromJson(codec, body);
}

function mediaType(headers: Headers): string {
  return (headers.get("content-type") ?? "").split(";", 1)[0]?.trim().toLowerCase() ?? "";
}

/** Reads a body up to a limit; undefined when it is longer. */
async function readBody(stream: ReadableStream<Uint8Array> | null, limit: number): Promise<Uint8Array | undefined> {
  const parts: Uint8Array[] = [];
  let total = 0;
  const reader = stream?.getReader();
  for (;;) {
    const part = await reader?.read();
    if (part === undefined || part.done) {
      break;
    }
    total += part.value.length;
    if (total > limit) {
      await reader?.cancel();
      return undefined;
    }
    parts.push(part.value);
  }
  const [first] = parts;
  if (parts.length === 1 && first !== undefined) {
    return first;
  }
  const body = new Uint8Array(total);
  let at = 0;
  for (const part of parts) {
    body.set(part, at);
    at += part.length;
  }
  return body;
}

/** Turns an answer that is no success into what is thrown. */
function failure(call: Call<unknown, unknown>, status: number, type: string, body: Uint8Array): Error {
  if (type !== problemType) {
    return new BadAnswer(status, "it is no problem details");
  }
  try {
    const text = new TextDecoder("utf-8", { fatal: true }).decode(body);
    const parsed: unknown = JSON.parse(text);
    const p = (typeof parsed === "object" && parsed !== null ? parsed : {}) as Readonly<Record<string, unknown>>;
    const name = String(p["type"] ?? "").split("/-/errors/").pop() ?? "";
    const declared = call.fails.find((f) => f.name === name);
    if (declared !== undefined) {
      return wire.fromJson(declared.codec, JSON.stringify(p["error"] ?? {}));
    }
    const violations = Array.isArray(p["errors"]) ? (p["errors"] as wire.Violation[]) : [];
    return new Problem(name, status, String(p["title"] ?? ""), String(p["detail"] ?? ""), violations);
  } catch (cause) {
    return new BadAnswer(status, String(cause), { cause });
  }
}

/** What a handler knows of its call. */
export interface Context {
  /** Aborted when the client has left or the time is over. */
  readonly signal: AbortSignal;
  readonly request: Request;
}

/** One call with what serves it. */
export interface Route {
  readonly call: Call<unknown, unknown>;
  /** undefined answers 501. */
  readonly serve: Handler<unknown, unknown> | undefined;
}

/** Answers one call. */
export type Handler<Q, A> = (message: Q, context: Context) => Promise<A> | A;

/** Pairs a call with its handler; finish makes the answer whole. */
export function route<Q, A, I>(call: Call<Q, A>, handler: Handler<Q, I> | undefined, finish?: (answer: I) => A): Route {
  const serve = handler && (async (message: Q, context: Context) => finish === undefined ? handler(message, context) : finish(await handler(message, context)));
  // A route forgets the types of its call, which the codecs stand for.
  return { call, serve } as unknown as Route;
}

/** The handler of a call whose request is "()". */
export function withoutRequest<A>(handler: ((context: Context) => Promise<A> | A) | undefined): Handler<unknown, A> | undefined {
  return handler && ((_, context) => handler(context));
}

/** What a server says of itself. */
export interface Definitions {
  readonly name: string;
  readonly version: string;
  readonly digest: string;
  readonly modules: readonly { readonly name: string; readonly text: string }[];
  readonly errors: readonly ErrorPage[];
}

/** Documents one error. */
export interface ErrorPage {
  readonly name: string;
  readonly status: number;
  readonly documentation: string;
}

/** How a server serves. */
export interface ServerOptions {
  /** The path that everything lies below, such as "/v1". */
  readonly base?: string;
  /** In bytes; 4 MiB where it is not given. */
  readonly bodyLimit?: number;
  /** In milliseconds; 60,000 where it is not given. */
  readonly handlerTimeout?: number;
  /** Told each error that the caller is not. */
  readonly onError?: (call: string, error: unknown) => void;
  /** Makes /-/health answer 503 while it throws. */
  readonly health?: () => Promise<void> | void;
  /** Keeps /-/about and /-/definitions to the server. */
  readonly withoutDefinitions?: boolean;
}

const commonErrors: readonly ErrorPage[] = [
  { name: "invalid-request", status: 400, documentation: "The request could not be read, or breaks what its definition demands. The member errors lists every violation with a JSON Pointer." },
  { name: "unknown-call", status: 404, documentation: "No call has this path." },
  { name: "wrong-method", status: 405, documentation: "The path is right and the method is not; Allow names the right one." },
  { name: "not-acceptable", status: 406, documentation: "Accept names neither application/cbor nor application/json." },
  { name: "too-large", status: 413, documentation: "The request is larger than this server takes, or holds more items." },
  { name: "unsupported-form", status: 415, documentation: "The body is neither application/cbor nor application/json, or is encoded." },
  { name: "internal", status: 500, documentation: "The server failed. Its log says why." },
  { name: "not-implemented", status: 501, documentation: "The call is defined, but this server does not implement it." },
  { name: "too-slow", status: 503, documentation: "The call took longer than the client or the server allows." },
];

/**
 * Answers requests: call it with one, or give it to a listener. A listener that
 * knows the path as it was sent passes it on, since URLs resolve "..".
 */
export type Mount = ((request: Request, path?: string) => Promise<Response>) & {
  readonly routes: readonly Route[];
  readonly definitions: Definitions;
  readonly options: ServerOptions;
};

/** Makes a mount of routes. */
export function mount(definitions: Definitions, routes: readonly Route[], options: ServerOptions): Mount {
  const server = new Server(definitions, routes, options);
  return Object.assign((request: Request, path?: string) => server.answer(request, path ?? new URL(request.url).pathname), { routes, definitions, options });
}

/** Joins mounts of several services into one; the options are those of the first. */
export function serve(first: Mount, ...others: readonly Mount[]): Mount {
  const routes = [first, ...others].flatMap((m) => m.routes);
  return mount(first.definitions, routes, first.options);
}

/** Thrown inside of the server to answer with one of the common errors. */
class Refusal extends Error {
  constructor(
    readonly problem: string,
    readonly detail: string,
    readonly violations: readonly wire.Violation[] = [],
    readonly headers: Readonly<Record<string, string>> = {},
  ) {
    super(problem);
  }
}

class Server {
  private readonly byPath: ReadonlyMap<string, Route>;
  private readonly base: string;

  constructor(
    private readonly definitions: Definitions,
    routes: readonly Route[],
    private readonly options: ServerOptions,
  ) {
    this.byPath = new Map(routes.map((r) => [r.call.path, r]));
    this.base = (options.base ?? "").replace(/\/+$/, "");
  }

  async answer(request: Request, path: string): Promise<Response> {
    let name = "";
    let response: Response;
    try {
      if (!path.startsWith(this.base)) {
        throw new Refusal("unknown-call", `nothing is served at ${path}`);
      }
      const below = path.slice(this.base.length);
      if (below.startsWith("/-/")) {
        response = await this.ownPage(request, below.slice(3));
      } else {
        const found = this.byPath.get(below);
        if (found === undefined) {
          throw new Refusal("unknown-call", `no call has the path ${below}`);
        }
        name = found.call.name;
        response = await this.call(request, found);
      }
    } catch (problem) {
      response = this.refuse(name, problem);
    }
    response.headers.set("faithful-definitions", this.definitions.digest);
    return response;
  }

  /** Answers one call, refusing in the order: method, form of the answer, form of the request, size, what can't be read, what is not allowed. */
  private async call(request: Request, found: Route): Promise<Response> {
    const { call, serve } = found;
    if (request.method !== call.method) {
      throw new Refusal("wrong-method", `${call.name} is called with ${call.method}, not ${request.method}`, [], { allow: call.method });
    }
    const requestType = mediaType(request.headers);
    const type = preferred(request.headers.get("accept"), requestType);
    if (type === undefined) {
      throw new Refusal("not-acceptable", "answers are application/cbor or application/json");
    }
    const message = await this.readRequest(request, call, requestType);
    if (serve === undefined) {
      throw new Refusal("not-implemented", `${call.name} is not implemented here`);
    }
    const tooSlow = AbortSignal.timeout(this.patience(request));
    const signal = AbortSignal.any([request.signal, tooSlow]);
    let answer: unknown;
    try {
      answer = await before(tooSlow, Promise.resolve(serve(message, { signal, request })));
    } catch (problem) {
      const declared = call.fails.find((f) => problem instanceof wire.DeclaredError && f.name === problem.name);
      if (declared !== undefined) {
        return this.declared(declared, problem as wire.DeclaredError);
      }
      throw problem;
    }
    if (call.answer === undefined) {
      return new Response(null, { status: 204, headers: { vary: "Accept" } });
    }
    if (answer === undefined || answer === null) {
      throw new Error("the handler returned no answer");
    }
    return new Response(encode(type, answer, call.answer), { headers: { "content-type": type, vary: "Accept" } });
  }

  private async readRequest(request: Request, call: Call<unknown, unknown>, type: string): Promise<unknown> {
    const codec = call.request;
    if (codec === undefined) {
      return undefined;
    }
    const coding = request.headers.get("content-encoding") ?? "identity";
    if (coding.toLowerCase() !== "identity") {
      throw new Refusal("unsupported-form", `encoded bodies are not read: ${coding}`);
    }
    if (type !== cborType && type !== jsonType && (type !== "" || request.body !== null)) {
      throw new Refusal("unsupported-form", `Content-Type is application/cbor or application/json, not ${JSON.stringify(type)}`);
    }
    const limit = this.options.bodyLimit ?? 4 << 20;
    let body: Uint8Array | undefined;
    try {
      body = await readBody(request.body, limit);
    } catch {
      throw new Refusal("invalid-request", "the body ended too early");
    }
    if (body === undefined) {
      throw new Refusal("too-large", `the body is larger than ${limit} bytes`);
    }
    let message: unknown;
    try {
      message = type === "" ? wire.fromJson(codec, "{}") : decode(type, body, codec);
    } catch (problem) {
      if (!(problem instanceof wire.WireError)) {
        throw problem;
      }
      if (problem.tooLarge) {
        throw new Refusal("too-large", problem.detail);
      }
      throw new Refusal("invalid-request", "the body can't be read", [{ pointer: problem.path, detail: problem.detail }]);
    }
    const violations = wire.validate(codec, message);
    if (violations.length > 0) {
      throw new Refusal("invalid-request", violations.length === 1 ? "1 violation" : `${violations.length} violations`, violations);
    }
    return message;
  }

  /** How long the handler may take: as long as the client waits (RFC 7240, section 4.3), and no longer than the server allows. */
  private patience(request: Request): number {
    const ceiling = this.options.handlerTimeout ?? 60_000;
    const wait = /(?:^|,)\s*wait=(\d{1,9})\s*(?:,|$)/.exec(request.headers.get("prefer") ?? "")?.[1];
    return wait === undefined || wait === "0" ? ceiling : Math.min(ceiling, Number(wait) * 1000);
  }

  private declared(failure: Failure, error: wire.DeclaredError): Response {
    const page = this.definitions.errors.find((e) => e.name === failure.name);
    const title = (page?.documentation ?? "").split("\n", 1)[0] || (failure.name.split(".").pop() ?? "");
    const head = JSON.stringify({ type: `${this.base}/-/errors/${failure.name}`, title, status: failure.status });
    const body = `${head.slice(0, -1)},"error":${wire.toJson(failure.codec, error)}}`;
    return new Response(body, { status: failure.status, headers: { "content-type": problemType, vary: "Accept" } });
  }

  private refuse(name: string, problem: unknown): Response {
    let refusal = problem;
    if (!(refusal instanceof Refusal)) {
      this.options.onError?.(name, problem);
      refusal = new Refusal("internal", "");
    }
    const { problem: kind, detail, violations, headers } = refusal as Refusal;
    const status = commonErrors.find((e) => e.name === kind)?.status ?? 500;
    const body = {
      type: `${this.base}/-/errors/${kind}`,
      title: kind.replaceAll("-", " "),
      status,
      ...(detail === "" ? {} : { detail }),
      ...(violations.length === 0 ? {} : { errors: violations }),
    };
    return new Response(JSON.stringify(body), { status, headers: { "content-type": problemType, ...headers } });
  }

  private async ownPage(request: Request, page: string): Promise<Response> {
    if (request.method !== "GET" && request.method !== "HEAD") {
      throw new Refusal("wrong-method", "pages below /-/ are read with GET", [], { allow: "GET, HEAD" });
    }
    const { name, version, digest, modules, errors } = this.definitions;
    if (page === "health") {
      try {
        await this.options.health?.();
      } catch (problem) {
        this.options.onError?.("health", problem);
        return json({ status: "unwell" }, 503);
      }
      return json({ status: "ok" });
    }
    if (page === "about" && this.options.withoutDefinitions !== true) {
      const calls = [...this.byPath.values()].map(({ call }) => ({ call: call.name, method: call.method, path: this.base + call.path }));
      calls.sort((a, b) => (a.path < b.path ? -1 : 1));
      return json({ name, version, digest, calls });
    }
    if (page === "definitions" && this.options.withoutDefinitions !== true) {
      return json({ name, version, digest, modules });
    }
    const error = [...commonErrors, ...errors].find((e) => page === `errors/${e.name}`);
    if (error === undefined) {
      throw new Refusal("unknown-call", `there is no page /-/${page}`);
    }
    return json(error);
  }
}

function json(value: unknown, status = 200): Response {
  return new Response(JSON.stringify(value), { status, headers: { "content-type": jsonType } });
}

/** Waits for a result, but no longer than until a signal. */
async function before<T>(signal: AbortSignal, result: Promise<T>): Promise<T> {
  let stop = (): void => undefined;
  const late = new Promise<never>((_, reject) => {
    stop = () => {
      reject(new Refusal("too-slow", "the call took too long", [], { "retry-after": "1" }));
    };
    signal.addEventListener("abort", stop, { once: true });
  });
  try {
    return await Promise.race([result, late]);
  } finally {
    signal.removeEventListener("abort", stop);
  }
}

/** Chooses the form of an answer by Accept (RFC 9110, section 12.5.1): of two alike the form of the request, or JSON. */
function preferred(accept: string | null, requestType: string): string | undefined {
  const fallback = requestType === cborType ? cborType : jsonType;
  if (accept === null) {
    return fallback;
  }
  const cbor = quality(accept, cborType);
  const json = quality(accept, jsonType);
  if (cbor === 0 && json === 0) {
    return undefined;
  }
  return cbor > json ? cborType : json > cbor ? jsonType : fallback;
}

function quality(accept: string, want: string): number {
  let best = 0;
  let bestRank = -1;
  for (const part of accept.split(",")) {
    const [pattern = "", ...parameters] = part.split(";").map((s) => s.trim().toLowerCase());
    const rank = ["*/*", "application/*", want].indexOf(pattern);
    if (rank <= bestRank) {
      continue;
    }
    const q = Number(parameters.find((p) => p.startsWith("q="))?.slice(2) ?? "1");
    best = Number.isNaN(q) ? 1 : q;
    bestRank = rank;
  }
  return best;
}
