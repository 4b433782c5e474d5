/** Serves calls: routes, credentials, limits, and errors that say nothing of the inside. */

import { chunksOf } from "./body.js";
import { streamOf } from "./client.js";
import { compressed, compressedFrom, expanded, isGzip, takesGzip } from "./compression.js";
import { cachingOf, isTag, matches, tagged, withoutEncodings } from "./conditional.js";
import type { Caching } from "./conditional.js";
import { BadElement, ElementWriter, Lost, elements, readElement, withHeartbeats, within } from "./stream.js";
import type { Element } from "./stream.js";
import { poured, rawLimit, ranged } from "./raw.js";
import * as web from "./web.js";
import type { Call, Definitions, Failure, Encoding, Trace } from "./web.js";
import * as wire from "./wire.js";

/** What a handler knows in addition to its request. */
export interface Context {
  /** Aborted when the client has left, or the call takes too long. */
  readonly signal: AbortSignal;
  /** Full: module, service and call. */
  readonly call: string;
  /** The values that the request came with, by full name; of basic credentials "user:password". */
  readonly credentials: ReadonlyMap<string, string>;
  /** What the authorizer returned. */
  readonly identity: unknown;
  readonly trace: Trace | undefined;
  /** A header of the request. */
  readonly header: (name: string) => string | undefined;
  /** The address of who calls, or of the proxy in between, where the listener knows it. */
  readonly peer: string | undefined;
  /** Sets a header of the answer, until it begins; what a field of the answer says counts more. */
  readonly setHeader: (name: string, value: string) => void;
  /** For middleware: the request, or the head of a stream; undefined where there is none. */
  readonly request: unknown;
  /** For middleware: what the handler returned, once next has ended; undefined where that is nothing, and for streams. */
  readonly answer: unknown;
}

/** Judges the credentials of a request; what it returns is the context's identity. call is undefined for /-/about, /-/definitions and /-/manual. */
export type Authorizer = (call: string | undefined, credentials: ReadonlyMap<string, string>, header: (name: string) => string | undefined) => unknown;

/** Runs around every handler; next runs the rest. */
export type Middleware = (context: Context, next: () => Promise<void>) => Promise<void>;

/**
 * Told that a call begins, by its full name; what it returns is told how it went. For metrics, logs and traces: a trace
 * that it returns is the context's, instead of the one that the request came with.
 */
export type Watcher = (call: string, header: (name: string) => string | undefined) => Told | { readonly trace: Trace; readonly done: Told };

/** Is told how a call went. */
export type Told = (watched: web.Watched) => void;

/** How a cookie is set (RFC 6265, section 4.1). */
export interface CookieAttributes {
  /** "/" where it is not given. */
  readonly path?: string;
  readonly domain?: string;
  /** In seconds; until the browser is closed where it is not given. */
  readonly maxAge?: number;
  /** Whether scripts don't see it; true where it is not given. */
  readonly httpOnly?: boolean;
  /** Whether it is sent over TLS alone; true where it is not given. */
  readonly secure?: boolean;
  /** "Lax" where it is not given; pages of another site need "None". */
  readonly sameSite?: "Strict" | "Lax" | "None";
}

/** How a server serves. */
export interface ServerOptions {
  /** A path such as "/v1". */
  readonly base?: string;
  /** In bytes; 4 MiB where it is not given. */
  readonly bodyLimit?: number;
  /**
   * How much a request, or an element of a stream, may contain: list items and entries of maps and messages count one, a
   * message one plus its declared fields; 250,000 where it is not given.
   */
  readonly itemLimit?: number;
  /** Of streams, in bytes; 1 MiB where it is not given. */
  readonly elementLimit?: number;
  /** In milliseconds, with the body; 60,000 where it is not given. Streams are not limited. */
  readonly handlerTimeout?: number;
  /** In milliseconds, how long a stream may be silent; 60,000 where it is not given. */
  readonly idleTimeout?: number;
  /** In milliseconds, after how much silence a stream says that it lives; 15,000 where it is not given. */
  readonly heartbeat?: number;
  /** How many calls are answered at once, streams included; others are refused with 503. No limit where it is not given. */
  readonly callLimit?: number;
  /** Pages of these origins, such as "https://skerry.example", may call from a browser. */
  readonly origins?: readonly string[];
  /** Lets requests contain members and alternatives that the definitions do not list, for servers that only pass messages on. */
  readonly unlisted?: boolean;
  /** Whether answers of more than 1 KiB go out in gzip to clients that take it; they do where it is not given. */
  readonly compression?: boolean;
  /** How cookies are set that answers have fields for, by name, where that is not as usual. */
  readonly cookies?: Readonly<Record<string, CookieAttributes>>;
  readonly authorizer?: Authorizer;
  readonly middleware?: readonly Middleware[];
  /** Told each error that the caller is not, with the call's context where it came so far; else console.error is. */
  readonly onError?: (call: string, problem: unknown, context: Context | undefined) => void;
  readonly watcher?: Watcher;
  /** /-/state answers 503 when this throws. */
  readonly serving?: () => void | Promise<void>;
  /** Whether /-/about, /-/definitions and /-/manual answer: to all, where it is not given. */
  readonly definitions?: "open" | "guarded" | "hidden";
}

/** A request, as a listener hands it on. */
export interface Incoming {
  readonly method: string;
  /** The path as it was sent, since URLs resolve "..". */
  readonly path: string;
  /** What comes after "?", without it. */
  readonly query: string;
  header(name: string): string | undefined;
  /** The address of the other side, where a listener knows it. */
  readonly peer?: string | undefined;
  /** Each line of a header, where a listener tells them apart. */
  headers?(name: string): readonly string[];
  /** undefined where there is none. */
  readonly body: web.Chunks | undefined;
  /** Whether somebody else has read the body, and nothing is left of it. */
  readonly readBefore?: boolean;
  /** Aborted when the client has left. */
  readonly signal: AbortSignal;
}

/** An answer, as a listener sends it. A body that throws must break the connection. */
export interface Outgoing {
  readonly status: number;
  /** A list is one line each. */
  readonly headers: Record<string, string | string[]>;
  readonly body: Uint8Array<ArrayBuffer> | AsyncIterable<Uint8Array<ArrayBuffer>> | undefined;
}

/** A call that streams both ways, when the upgrade is agreed to. */
export interface Upgrade {
  readonly encoding: Encoding;
  readonly elementLimit: number;
  readonly idleTimeout: number;
  /** Takes the messages of the client and gives those of the server, until its end or problem. What it throws means that nobody listens any more. */
  converse(messages: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array<ArrayBuffer>>;
}

/** Answers requests: call it with one, or give it to a listener. */
export interface Served {
  (request: Request): Promise<Response>;
  readonly routes: readonly Route[];
  readonly definitions: Definitions;
  readonly options: ServerOptions;
  answer(incoming: Incoming): Promise<Outgoing>;
  upgrade(incoming: Incoming): Promise<Upgrade | Outgoing>;
  /**
   * Ends the mount's work: /-/state answers 503, requests that come are refused with 503, streams end with a problem, and
   * other calls are finished. It resolves when all are; then close the listener.
   */
  shutdown(): Promise<void>;
}

type Handler = (argument: unknown, context: Context) => unknown;

/** One call with what serves it. */
export interface Route {
  readonly call: Call<unknown, unknown>;
  readonly serve: Handler | undefined;
  /** Makes whole what a handler returned. */
  readonly finish: (answer: never) => unknown;
}

/** Pairs a call with its handler, of a request or of the elements of one; a call without one is answered with 501. */
export function route<Q, A>(call: Call<Q, A>, serve: ((argument: never, context: Context) => unknown) | undefined, finish: (answer: never) => unknown): Route {
  return { call, serve: serve as Handler | undefined, finish };
}

/** A handler of a call without a request, as one with. */
export function withoutRequest(serve: ((context: Context) => unknown) | undefined): ((request: undefined, context: Context) => unknown) | undefined {
  return serve === undefined ? undefined : (_, context) => serve(context);
}

/** A stream of requests with what comes before it, as its handler is given both. */
interface Headed {
  readonly head: unknown;
  readonly elements: unknown;
}

/** A handler of a call whose stream has a head, as one of a single argument. */
export function withHead(serve: ((head: never, elements: never, context: Context) => unknown) | undefined): ((request: Headed, context: Context) => unknown) | undefined {
  return serve === undefined ? undefined : ({ head, elements }, context) => serve(head as never, elements as never, context);
}

/** What an authorizer throws when it does not know who calls. */
export class Unauthenticated extends Error {
  override readonly name = "Unauthenticated";
}

/** What an authorizer throws when it knows who calls, and says no. */
export class Forbidden extends Error {
  override readonly name = "Forbidden";
}

/** What a handler throws when it has too much to do: 503, and when to try again. */
export class Overloaded extends Error {
  override readonly name = "Overloaded";
  readonly retryAfterSeconds: number;

  constructor(retryAfterSeconds: number) {
    super("overloaded");
    this.retryAfterSeconds = retryAfterSeconds;
  }
}

/** Violations that only the handler can find: 400, as those that the definitions name; or any problem (RFC 9457) with a status of 4xx or 5xx, such as 429. */
export type RefusalDetails =
  | { readonly violations: readonly wire.Violation[] }
  | {
      /** 400 to 599. */
      readonly status: number;
      /** A URI that tells which problem it is. */
      readonly type?: string;
      /** What is always the same about it. */
      readonly title?: string;
      /** What is the matter this time. */
      readonly detail?: string;
      /** A URI of this occurrence. */
      readonly instance?: string;
      readonly retryAfterSeconds?: number;
    };

/** What a handler or middleware throws to refuse a request for a reason of its own. Its texts are for the caller, who gets a Problem. */
export class Refusal extends Error {
  override readonly name = "Refusal";
  readonly details: RefusalDetails;

  constructor(details: RefusalDetails) {
    super("violations" in details ? details.violations.map((v) => `${v.pointer} ${v.detail}`).join("; ") : [String(details.status), details.title, details.detail].filter((part) => part !== undefined).join(" "));
    this.details = details;
  }
}

const commonErrors = [
  { name: "invalid-request", status: 400, documentation: "The request could not be read, or violates its definition. The member errors lists every violation with a JSON Pointer." },
  { name: "unauthenticated", status: 401, documentation: "The call needs credentials that the request did not show, or that are not good; WWW-Authenticate names them." },
  { name: "forbidden", status: 403, documentation: "The credentials are good, and not enough for this." },
  { name: "unknown-call", status: 404, documentation: "No call has this path." },
  { name: "wrong-method", status: 405, documentation: "The path is right and the method is not; Allow names the right one." },
  { name: "not-acceptable", status: 406, documentation: "Accept names neither application/cbor nor application/json." },
  { name: "too-large", status: 413, documentation: "The request is larger than this server takes, or has more elements." },
  { name: "unsupported-form", status: 415, documentation: "The body is neither application/cbor nor application/json, or is encoded." },
  { name: "range-not-satisfiable", status: 416, documentation: "The range that was asked for is not a part of the body; Content-Range says how long that is." },
  { name: "internal", status: 500, documentation: "The server failed. Its log says why." },
  { name: "not-implemented", status: 501, documentation: "The call is defined, but this server does not implement it." },
  { name: "overloaded", status: 503, documentation: "The server has too much to do; Retry-After says when to try again." },
  { name: "too-slow", status: 503, documentation: "The call took longer than the client or the server allows." },
  { name: "unavailable", status: 503, documentation: "The server is shutting down; Retry-After says when to try again." },
];

/** Makes a mount of routes. */
export function mount(definitions: Definitions, routes: readonly Route[], options: ServerOptions): Served {
  const server = new Server(definitions, routes, options);
  return Object.assign(
    async (request: Request): Promise<Response> => {
      const url = new URL(request.url);
      const body = request.body === null ? undefined : chunksOf(request.body);
      const outgoing = await server.answer({ readBefore: request.bodyUsed, method: request.method, path: url.pathname, query: url.search.slice(1), header: (name) => request.headers.get(name) ?? undefined, body, signal: request.signal });
      const stream = outgoing.body instanceof Uint8Array || outgoing.body === undefined ? outgoing.body : streamOf(outgoing.body);
      const headers = Object.entries(outgoing.headers).flatMap(([name, value]) => [value].flat().map((one): [string, string] => [name, one]));
      return new Response(request.method === "HEAD" ? null : (stream ?? null), { status: outgoing.status, headers });
    },
    {
      routes,
      definitions,
      options,
      answer: (incoming: Incoming) => server.answer(incoming),
      upgrade: (incoming: Incoming) => server.upgrade(incoming),
      shutdown: () => server.shutdown(),
    },
  );
}

/**
 * Joins mounts of several services into one. The options of the first apply to
 * all; it throws where another has options of its own, which would not be heeded.
 */
export function serve(first: Served, ...others: readonly Served[]): Served {
  if (others.some((m) => Object.keys(m.options).length > 0)) {
    throw new Error("options are given to the first mount, and apply to all");
  }
  const routes = [first, ...others].flatMap((m) => m.routes);
  return mount(first.definitions, routes, first.options);
}

/** Thrown inside of the server to answer with one of the common errors. */
class Refused extends Error {
  readonly problem: string;
  readonly detail: string;
  readonly violations: readonly wire.Violation[];
  readonly headers: Readonly<Record<string, string>>;

  constructor(
    problem: string,
    detail: string,
    violations: readonly wire.Violation[] = [],
    headers: Readonly<Record<string, string>> = {},
  ) {
    super(problem);
    this.problem = problem;
    this.detail = detail;
    this.violations = violations;
    this.headers = headers;
  }
}

interface Found {
  readonly route: Route;
  readonly values: ReadonlyMap<string, string>;
}

const encoder = new TextEncoder();

class Server {
  private readonly exact = new Map<string, Route[]>();
  private readonly patterns: { readonly segments: readonly string[]; readonly route: Route }[] = [];
  private readonly base: string;
  private readonly active = new Map<object, () => void>();
  private readonly caching = new Map<Route, Caching>();
  private closing = false;
  private manual: Promise<ReadonlyMap<string, string>> | undefined;
  private rest: (() => void)[] = [];

  private readonly definitions: Definitions;
  private readonly options: ServerOptions;

  constructor(definitions: Definitions, routes: readonly Route[], options: ServerOptions) {
    this.definitions = definitions;
    this.options = options;
    for (const r of routes) {
      this.caching.set(r, cachingOf(r.call, r.call.compressible === true && options.compression !== false));
      const { path } = r.call;
      if (path.includes("{")) {
        this.patterns.push({ segments: path.slice(1).split("/"), route: r });
      } else {
        this.exact.set(path, [...(this.exact.get(path) ?? []), r]);
      }
    }
    const fields = (segments: readonly string[]): number => segments.filter((s) => s.startsWith("{")).length;
    // The more specific first: a literal is more than a field.
    this.patterns.sort((a, b) => fields(a.segments) - fields(b.segments));
    this.base = (options.base ?? "").replace(/\/+$/, "");
  }

  /** Counts a call; interrupt is called when the mount shuts down. */
  enter(call: object, interrupt: () => void): void {
    if (this.closing) {
      throw unavailable();
    }
    if (this.active.size >= (this.options.callLimit ?? Infinity)) {
      throw new Refused("overloaded", "the server has too much to do", [], { "retry-after": "1" });
    }
    this.active.set(call, interrupt);
  }

  leave(call: object): void {
    this.active.delete(call);
    if (this.active.size === 0) {
      for (const resolve of this.rest.splice(0)) {
        resolve();
      }
    }
  }

  async shutdown(): Promise<void> {
    this.closing = true;
    for (const interrupt of [...this.active.values()]) {
      interrupt();
    }
    if (this.active.size > 0) {
      await new Promise<void>((resolve) => {
        this.rest.push(resolve);
      });
    }
  }

  async answer(incoming: Incoming): Promise<Outgoing> {
    const headers: Record<string, string> = { "faithful-definitions": this.definitions.digest };
    const origin = incoming.header("origin");
    if ((this.options.origins?.length ?? 0) > 0) {
      headers["vary"] = "Origin"; // also where none is told: what is kept of that answer is not for all
    }
    if (origin !== undefined && this.options.origins?.includes(origin) === true) {
      headers["access-control-allow-origin"] = origin;
      headers["access-control-allow-credentials"] = "true";
      headers["access-control-expose-headers"] = "Faithful-Definitions, Retry-After, WWW-Authenticate";
      const method = incoming.header("access-control-request-method");
      if (incoming.method === "OPTIONS" && method !== undefined) {
        headers["access-control-allow-methods"] = method;
        headers["access-control-allow-headers"] = incoming.header("access-control-request-headers") ?? "";
        headers["access-control-max-age"] = "600";
        return { status: 204, headers, body: undefined };
      }
    }
    let name = "";
    let outgoing: Outgoing;
    let watching: Watching | undefined;
    let caching: Caching | undefined;
    const given: Record<string, string> = {}; // headers that the handler sets
    try {
      const below = this.below(incoming.path);
      if (below.startsWith("/-/")) {
        outgoing = await this.ownPage(incoming, below.slice(3));
      } else if (incoming.method === "OPTIONS") {
        outgoing = { status: 204, headers: { allow: this.methods(below) }, body: undefined };
      } else {
        const found = this.find(incoming.method, below);
        name = found.route.call.name;
        watching = this.options.watcher === undefined ? undefined : new Watching(this.options, name, incoming);
        if (incoming.readBefore === true) {
          throw new Error("a body parser has read the body before: put the mount in front of it, or have it leave the bytes");
        }
        caching = this.caching.get(found.route);
        for (const p of found.route.call.answerTravel?.placed ?? []) {
          if (p.in === "header" && headers["access-control-expose-headers"] !== undefined) {
            headers["access-control-expose-headers"] += `, ${p.parameter}`;
          }
        }
        outgoing = await this.call(watching?.counted(incoming) ?? incoming, found, watching, given);
      }
    } catch (problem) {
      outgoing = this.refuse(name, problem);
      watching?.fail(problem);
    }
    if (watching !== undefined) {
      outgoing = watching.answered(outgoing);
    }
    const vary = [headers["vary"], caching?.vary].filter((v) => v !== undefined && v !== "").join(", ");
    Object.assign(outgoing.headers, { ...given, ...outgoing.headers }, headers, vary === "" ? {} : { vary });
    if (caching !== undefined) {
      outgoing.headers["cache-control"] ??= outgoing.headers["etag"] === undefined ? caching.none : caching.checked;
    }
    return outgoing;
  }

  private below(path: string): string {
    const below = path.startsWith(this.base) ? path.slice(this.base.length) : "";
    if (!below.startsWith("/")) { // a base is whole segments
      throw new Refused("unknown-call", `nothing is served at ${path}`);
    }
    return below;
  }

  /** What has a path, the more specific first. */
  private *at(path: string): Generator<Found, undefined> {
    for (const route of this.exact.get(path) ?? []) {
      yield { route, values: new Map() };
    }
    if (this.patterns.length > 0) {
      const segments = path.slice(1).split("/").map(decoded);
      for (const { segments: pattern, route } of this.patterns) {
        const values = match(pattern, segments);
        if (values !== undefined) {
          yield { route, values };
        }
      }
    }
    return undefined;
  }

  private find(method: string, path: string): Found {
    const wanted = method === "HEAD" ? "GET" : method; // all of it but the body
    for (const found of this.at(path)) {
      if (found.route.call.method === wanted) {
        return found;
      }
    }
    const allow = this.methods(path);
    const methods = [...new Set([...this.at(path)].map(({ route }) => route.call.method))].sort();
    throw new Refused("wrong-method", `${path} is called with ${methods.join(" or ")}, not ${method}`, [], { allow });
  }

  /** The methods that a path answers. */
  private methods(path: string): string {
    const methods = new Set([...this.at(path)].map(({ route }) => route.call.method));
    if (methods.size === 0) {
      throw new Refused("unknown-call", `no call has the path ${path}`);
    }
    if (methods.has("GET")) {
      methods.add("HEAD");
    }
    return [...methods.add("OPTIONS")].sort().join(", ");
  }

  /** Answers one call, refusing in the order: credentials, encoding of the answer, encoding of the request, size, what can't be read, what is not allowed. */
  private async call(incoming: Incoming, found: Found, watching: Watching | undefined, given: Record<string, string>): Promise<Outgoing> {
    const { call } = found.route;
    if (this.foreign(incoming, call)) {
      throw new Refused("forbidden", "a page of another site may not make this call");
    }
    const { credentials, identity } = await this.admit(incoming, call);
    if (call.requestStream && call.answerStream) {
      throw new Refused("not-acceptable", "the call streams both ways: upgrade to a WebSocket with the subprotocol faithful-cbor or faithful-json", [], { upgrade: "websocket" });
    }
    const requestType = web.mediaType(incoming.header("content-type"));
    const [cbor, json] = call.answerStream ? [web.cborSequence, web.jsonSequence] : [web.cborType, web.jsonType];
    const type = preferred(incoming.header("accept"), requestType, cbor, json);
    if (type === undefined && call.answerTravel?.raw === undefined) {
      throw new Refused("not-acceptable", "answers are in CBOR or JSON");
    }
    const exchange = new Exchange(this, this.options, this.definitions, this.base, incoming, found, credentials, identity, watching, given);
    this.enter(exchange, () => {
      exchange.interrupt();
    });
    try {
      if (call.requestStream) {
        return await exchange.receive(requestType, type ?? "");
      }
      if (call.travel?.raw !== undefined || call.answerTravel?.raw !== undefined) {
        return await exchange.raw(requestType, type ?? "");
      }
      return call.answerStream ? await exchange.send(requestType, type ?? "") : await exchange.unary(requestType, type ?? "");
    } catch (problem) {
      exchange.done();
      throw problem;
    }
  }

  /** Whether a page of another site made a browser send this, with what it keeps for this one: cookies, and names and passwords (Fetch standard; Fetch Metadata). */
  private foreign(incoming: Incoming, call: Call<unknown, unknown>): boolean {
    const basic = /^basic /i.test(incoming.header("authorization") ?? "");
    const kept = call.needs.some((all) => all.some(({ kind }) => kind === "cookie" || (kind === "basic" && basic))) || web.inCookies(call);
    if (!kept) {
      return false;
    }
    const origin = incoming.header("origin");
    if (origin !== undefined) {
      return !this.allows(incoming, origin);
    }
    if ((incoming.method === "GET" || incoming.method === "HEAD") && incoming.header("sec-fetch-mode") === "navigate") {
      return false; // somebody follows a link
    }
    return incoming.header("sec-fetch-site") === "cross-site";
  }

  /** Lets pages of the server itself in, and of the origins given. */
  private allows(incoming: Incoming, origin: string): boolean {
    if (this.options.origins?.includes(origin) === true || incoming.header("sec-fetch-site") === "same-origin") {
      return true;
    }
    const host = /^https?:\/\/([^/?#@\s]+)$/i.exec(origin)?.[1];
    return host !== undefined && host.toLowerCase() === incoming.header("host")?.toLowerCase();
  }

  /** Looks at credentials: that they are there, and what the authorizer says. */
  private async admit(incoming: Incoming, call: Call<unknown, unknown>): Promise<{ credentials: ReadonlyMap<string, string>; identity: unknown }> {
    if (call.needs.length === 0 && this.options.authorizer === undefined) {
      return { credentials: none, identity: undefined };
    }
    const credentials = new Map<string, string>();
    let enough = call.needs.length === 0;
    for (const all of call.needs) {
      let complete = true;
      for (const credential of all) {
        const value = shown(credential, incoming);
        if (value === undefined) {
          complete = false;
        } else {
          credentials.set(credential.name, value);
        }
      }
      enough ||= complete;
    }
    if (!enough) {
      const text = call.needs.map((all) => all.map(({ name }) => name.split(".").pop() ?? "").join(" + ")).join(" | ");
      throw new Refused("unauthenticated", `the call needs ${text}`, [], { "www-authenticate": challenges(call) });
    }
    return { credentials, identity: await this.judge(call, call.name, credentials, incoming) };
  }

  private async judge(call: Pick<Call<unknown, unknown>, "needs" | "name">, name: string | undefined, credentials: ReadonlyMap<string, string>, incoming: Incoming): Promise<unknown> {
    try {
      return await this.options.authorizer?.(name, credentials, (header) => incoming.header(header));
    } catch (problem) {
      if (problem instanceof Unauthenticated) {
        throw new Refused("unauthenticated", problem.message, [], { "www-authenticate": challenges(call) });
      }
      throw problem instanceof Forbidden ? new Refused("forbidden", problem.message) : problem;
    }
  }

  /** Agrees to the upgrade of a call that streams both ways, or answers why not. */
  async upgrade(incoming: Incoming): Promise<Upgrade | Outgoing> {
    let name = "";
    let watching: Watching | undefined;
    try {
      const found = this.find(incoming.method, this.below(incoming.path));
      const { call } = found.route;
      name = call.name;
      watching = this.options.watcher === undefined ? undefined : new Watching(this.options, name, incoming);
      const origin = incoming.header("origin");
      if (this.foreign(incoming, call) || (origin !== undefined && !this.allows(incoming, origin))) {
        throw new Refused("forbidden", "a page of another site may not make this call");
      }
      const { credentials, identity } = await this.admit(incoming, call);
      const protocol = (incoming.header("sec-websocket-protocol") ?? "").split(",").map((s) => s.trim()).find((s) => s === "faithful-cbor" || s === "faithful-json");
      if (!call.requestStream || !call.answerStream || protocol === undefined) {
        throw new Refused("not-acceptable", "a call that streams both ways is a WebSocket with the subprotocol faithful-cbor or faithful-json");
      }
      if (found.route.serve === undefined) {
        throw new Refused("not-implemented", `${call.name} is not implemented here`);
      }
      const exchange = new Exchange(this, this.options, this.definitions, this.base, incoming, found, credentials, identity, watching, {});
      exchange.begin();
      this.enter(exchange, () => {
        exchange.interrupt();
      });
      const encoding = protocol === "faithful-json" ? "json" : "cbor";
      // A handshake may fail after this; then nobody converses.
      const never = (): void => {
        exchange.done();
        watching?.abandoned();
      };
      incoming.signal.addEventListener("abort", never, { once: true });
      if (incoming.signal.aborted) {
        never();
      }
      const converse = (messages: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array<ArrayBuffer>> => {
        incoming.signal.removeEventListener("abort", never);
        return watching?.conversation((counted) => exchange.converse(counted, encoding), messages) ?? exchange.converse(messages, encoding);
      };
      return { encoding, elementLimit: exchange.elementLimit, idleTimeout: exchange.idle, converse };
    } catch (problem) {
      const outgoing = this.refuse(name, problem);
      outgoing.headers["faithful-definitions"] = this.definitions.digest;
      watching?.fail(problem);
      return watching?.answered(outgoing) ?? outgoing;
    }
  }

  /** What an error is answered with: as it is where the call declares it, else without anything of the inside. */
  refuse(name: string, problem: unknown, fails: readonly Failure[] = [], context?: Context): Outgoing {
    const [text, status, headers] = this.details(name, problem, fails, context);
    return { status, headers: { ...headers, "content-type": web.problemType }, body: encoder.encode(text) };
  }

  details(name: string, problem: unknown, fails: readonly Failure[], context?: Context): [text: string, status: number, headers: Readonly<Record<string, string>>] {
    const declared = fails.find((f) => problem instanceof wire.DeclaredError && f.name === problem.name);
    if (declared !== undefined) {
      const page = this.definitions.errors.find((e) => e.name === declared.name);
      const title = (page?.documentation ?? "").split("\n", 1)[0] || (declared.name.split(".").pop() ?? "");
      try {
        const head = JSON.stringify({ type: `${this.base}/-/errors/${declared.name}`, title, status: declared.status });
        return [`${head.slice(0, -1)},"error":${wire.toJson(declared.codec, problem as wire.DeclaredError)}}`, declared.status, {}];
      } catch (unwritable) {
        return this.details(name, unwritable, [], context);
      }
    }
    let refusal: Refused;
    if (problem instanceof Refusal) {
      const { details } = problem;
      if ("violations" in details && details.violations.length > 0) {
        return this.details(name, violated(details.violations), [], context);
      }
      const whole = ownProblem(details);
      if (whole !== undefined) {
        return whole;
      }
    }
    if (problem instanceof Refused) {
      refusal = problem;
    } else if (problem instanceof Overloaded) {
      refusal = new Refused("overloaded", "the server has too much to do", [], { "retry-after": String(Math.max(0, Math.ceil(problem.retryAfterSeconds))) });
    } else if (problem instanceof Forbidden) {
      refusal = new Refused("forbidden", problem.message);
    } else {
      if (!gaveUp(problem, context)) {
        report(this.options, name, undeclared(name, problem), context);
      }
      refusal = new Refused("internal", "");
    }
    const { problem: kind, detail, violations, headers } = refusal;
    const status = commonErrors.find((e) => e.name === kind)?.status ?? 500;
    const body = {
      type: `${this.base}/-/errors/${kind}`,
      title: kind.replaceAll("-", " "),
      status,
      ...(detail === "" ? {} : { detail }),
      ...(violations.length === 0 ? {} : { errors: violations }),
    };
    return [JSON.stringify(body), status, headers];
  }

  private async ownPage(incoming: Incoming, page: string): Promise<Outgoing> {
    if (incoming.method !== "GET" && incoming.method !== "HEAD") {
      throw new Refused("wrong-method", "pages below /-/ are read with GET", [], { allow: "GET, HEAD" });
    }
    const { name, version, digest, modules, errors } = this.definitions;
    const visible = this.options.definitions ?? "open";
    if (page === "state") {
      if (this.closing) {
        return json({ serving: false }, 503);
      }
      try {
        await this.options.serving?.();
      } catch (problem) {
        report(this.options, "state", problem);
        return json({ serving: false }, 503);
      }
      return json({ serving: true });
    }
    if (this.definitions.manual !== undefined && (page === "manual" || page.startsWith("manual/")) && visible !== "hidden") {
      if (visible === "guarded") {
        await this.admitPages(incoming);
      }
      return this.manualPage(this.definitions.manual, page);
    }
    if ((page === "about" || page === "definitions") && visible !== "hidden") {
      if (visible === "guarded") {
        await this.admitPages(incoming);
      }
      if (page === "definitions") {
        return json({ name, version, digest, modules });
      }
      const calls = [...[...this.exact.values()].flat(), ...this.patterns.map((p) => p.route)].map(({ call }) => ({ call: call.name, method: call.method, path: this.base + call.path }));
      calls.sort((a, b) => (a.path === b.path ? (a.method < b.method ? -1 : 1) : a.path < b.path ? -1 : 1));
      return json({ name, version, digest, calls });
    }
    const error = [...commonErrors, ...errors].find((e) => page === `errors/${e.name}`);
    if (error === undefined) {
      throw new Refused("unknown-call", `there is no page /-/${page}`);
    }
    return json(error);
  }

  /** A page of the manual; links of the first one lead from below its folder. */
  private async manualPage(packed: string, page: string): Promise<Outgoing> {
    if (page === "manual") {
      return { status: 308, headers: { location: `${this.base}/-/manual/` }, body: undefined };
    }
    this.manual ??= unpacked(packed);
    const name = page.slice("manual/".length) || "index.html";
    const content = (await this.manual).get(name);
    if (content === undefined) {
      throw new Refused("unknown-call", `the manual has no page "${name}"`);
    }
    const headers = {
      "content-type": `${manualTypes[name.slice(name.lastIndexOf(".") + 1)] ?? "text/plain"}; charset=utf-8`,
      "content-security-policy": manualPolicy,
      "x-content-type-options": "nosniff",
      "cache-control": "no-cache",
    };
    return { status: 200, headers, body: encoder.encode(content) };
  }

  private async admitPages(incoming: Incoming): Promise<void> {
    const routes = [...[...this.exact.values()].flat(), ...this.patterns.map((p) => p.route)];
    const needs = routes.flatMap(({ call }) => call.needs.flatMap((all) => all.map((credential) => [credential])));
    const credentials = new Map<string, string>();
    for (const credential of needs.flat()) {
      const value = shown(credential, incoming);
      if (value !== undefined) {
        credentials.set(credential.name, value);
      }
    }
    await this.judge({ needs, name: "definitions" }, undefined, credentials, incoming);
  }
}

/** What browsers may do with the pages of a manual (W3C Content Security Policy, level 3). */
const manualPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' blob:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

const manualTypes: Readonly<Record<string, string>> = { html: "text/html", css: "text/css", js: "text/javascript" };

/** The pages of a manual by their paths: JSON (RFC 8259) in gzip (RFC 1952) in base64url (RFC 4648, section 5). */
async function unpacked(packed: string): Promise<ReadonlyMap<string, string>> {
  const bytes = wire.fromBase64(packed.replaceAll("\n", "")) ?? new Uint8Array();
  const text = new TextDecoder().decode(await expanded(bytes, Infinity));
  return new Map(Object.entries(JSON.parse(text) as Record<string, string>));
}

/** The problem that a refusal makes; undefined where it makes none, which is an error of the server's author. */
function ownProblem(details: Refusal["details"]): [text: string, status: number, headers: Readonly<Record<string, string>>] | undefined {
  if ("violations" in details) {
    return undefined;
  }
  const { status, type = "about:blank", title = web.statusText(status), detail, instance, retryAfterSeconds } = details;
  if (!(status >= 400 && status <= 599) || type.includes("/-/errors/")) {
    return undefined;
  }
  const headers: Record<string, string> = {};
  const wait = retryAfterSeconds ?? (status === 503 ? 1 : undefined);
  if (wait !== undefined) {
    headers["retry-after"] = String(Math.max(0, Math.ceil(wait)));
  }
  return [JSON.stringify({ type, title, status, detail, instance }), status, headers];
}

function unavailable(): Refused {
  return new Refused("unavailable", "the server is shutting down", [], { "retry-after": "1" });
}

/** Lets one wait for something end early. */
class Interruption {
  private reason: Error | undefined;
  private reject: ((reason: Error) => void) | undefined;

  fail(reason: Error): void {
    this.reason = reason;
    this.reject?.(reason);
  }

  async wait<T>(promise: T | PromiseLike<T>): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      this.reject = reject;
      if (this.reason !== undefined) {
        reject(this.reason);
      }
      Promise.resolve(promise).then(resolve, reject);
    });
  }

  /** The same values, until it fails. */
  async *until<T>(values: AsyncIterable<T> | Iterable<T>): AsyncGenerator<T, void, undefined> {
    const iterator = Symbol.asyncIterator in values ? values[Symbol.asyncIterator]() : values[Symbol.iterator]();
    let done = false;
    try {
      for (;;) {
        const next = await this.wait(iterator.next());
        if (next.done === true) {
          done = true;
          return;
        }
        yield next.value;
      }
    } finally {
      if (!done) {
        // Not awaited: it may wait for what never comes.
        void Promise.resolve(iterator.return?.()).catch(() => undefined);
      }
    }
  }
}

/** So low that no body of the default limit that is taken builds more than 64 MiB of values, or takes longer than 0.3 s to read. */
const serverBudget = 250_000;

/** Tells an error that the caller is not told. What is told must not fail for it. */
export function report(options: ServerOptions, call: string, problem: unknown, context?: Context): void {
  try {
    (options.onError ?? logError)(call, problem, context);
  } catch (failed) {
    logError(call, problem);
    logError("onError", failed);
  }
}

/** Says of a declared error that this call does not declare it. */
function undeclared(call: string, problem: unknown): unknown {
  if (!(problem instanceof wire.DeclaredError)) {
    return problem;
  }
  return new Error(`${call} failed with ${problem.name}, which it does not declare; add it to fails`, { cause: problem });
}

/** Whether a handler failed for its signal: its caller has left, which is not an error of the handler. */
function gaveUp(problem: unknown, context: Context | undefined): boolean {
  const signal = context?.signal;
  return signal?.aborted === true && problem instanceof Error && (problem === signal.reason || problem.name === "AbortError");
}

/** What errors are told to without onError. */
function logError(call: string, problem: unknown): void {
  console.error(`${call} failed:`, problem);
}

const none: ReadonlyMap<string, string> = new Map();

/** Counts what goes through one call, for who watches it. */
class Watching {
  private readonly start = performance.now();
  private received = 0;
  private sent = 0;
  private failed: unknown;
  /** The one that the handler is in, where the watcher says one. */
  readonly trace: Trace | undefined;
  private readonly done: Told;

  private readonly options: ServerOptions;
  private readonly call: string;

  constructor(options: ServerOptions, call: string, incoming: Incoming) {
    this.options = options;
    this.call = call;
    let told: ReturnType<Watcher> | undefined;
    try {
      told = options.watcher?.(call, (name) => incoming.header(name));
    } catch (problem) {
      report(options, call, problem);
    }
    this.done = (typeof told === "object" ? told.done : told) ?? (() => undefined);
    this.trace = typeof told === "object" ? told.trace : undefined;
  }

  /** Keeps what the call failed with; what the server refuses by itself is not a failure of it. */
  fail(problem: unknown): void {
    if (!(problem instanceof Refused)) {
      this.failed ??= problem;
    }
  }

  /** The same request, its body counted. */
  counted(incoming: Incoming): Incoming {
    const { body } = incoming;
    if (body === undefined) {
      return incoming;
    }
    return {
      method: incoming.method,
      path: incoming.path,
      query: incoming.query,
      peer: incoming.peer,
      header: (name) => incoming.header(name),
      headers: (name) => incoming.headers?.(name) ?? [incoming.header(name) ?? ""],
      body: web.counted(body, (bytes) => {
        this.received += bytes;
      }),
      get signal() {
        return incoming.signal;
      },
    };
  }

  /** The same answer; the call is over when its body is. */
  answered(outgoing: Outgoing): Outgoing {
    const { status, headers, body } = outgoing;
    if (body === undefined || body instanceof Uint8Array) {
      this.sent += body?.length ?? 0;
      this.end(status);
      return outgoing;
    }
    return { status, headers, body: this.leaving(body, status) };
  }

  /** A conversation that never began. */
  abandoned(): void {
    this.fail(new Lost());
    this.end(0);
  }

  /** The same conversation; the call is over when it is. */
  conversation(converse: (messages: AsyncIterable<Uint8Array>) => AsyncGenerator<Uint8Array<ArrayBuffer>>, messages: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    const counted = web.counted(messages, (bytes) => {
      this.received += bytes;
    });
    return this.leaving(converse(counted), 101);
  }

  private async *leaving(chunks: AsyncIterable<Uint8Array<ArrayBuffer>>, status: number): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    try {
      for await (const chunk of chunks) {
        this.sent += chunk.length;
        yield chunk;
      }
    } catch (problem) {
      this.fail(problem);
      throw problem;
    } finally {
      this.end(status);
    }
  }

  private end(status: number): void {
    try {
      this.done({ duration: performance.now() - this.start, status, tries: 0, received: this.received, sent: this.sent, failed: this.failed });
    } catch (problem) {
      report(this.options, this.call, problem);
    }
  }
}

/** One call while it is answered. */
class Exchange {
  private controller: AbortController | undefined;
  private over: { readonly reason: unknown } | undefined;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private readonly context: Context;
  private late = false;
  private messages: { readonly request: unknown; readonly answer: unknown } = { request: undefined, answer: undefined };
  private headed = false;
  /** What came before a stream of requests. */
  private head: unknown;
  /** Of what is read, and of what is written. */
  private readonly reading = new Interruption();
  private readonly writing = new Interruption();
  private readonly leave = (): void => {
    this.abort(this.incoming.signal.reason);
  };

  private readonly server: Server;
  private readonly options: ServerOptions;
  readonly definitions: Definitions;
  readonly base: string;
  private readonly incoming: Incoming;
  private readonly found: Found;
  private readonly watching: Watching | undefined;
  private readonly given: Record<string, string>;

  constructor(
    server: Server,
    options: ServerOptions,
    definitions: Definitions,
    base: string,
    incoming: Incoming,
    found: Found,
    credentials: ReadonlyMap<string, string>,
    identity: unknown,
    watching: Watching | undefined,
    given: Record<string, string>,
  ) {
    this.server = server;
    this.options = options;
    this.definitions = definitions;
    this.base = base;
    this.incoming = incoming;
    this.found = found;
    this.watching = watching;
    this.given = given;
    const traceparent = incoming.header("traceparent");
    const tracestate = incoming.header("tracestate");
    const came = traceparent === undefined ? undefined : tracestate === undefined ? { traceparent } : { traceparent, tracestate };
    const signal = (): AbortSignal => this.signal;
    const messages = (): Exchange["messages"] => this.messages;
    this.context = {
      get signal() {
        return signal();
      },
      call: this.call.name,
      credentials,
      identity,
      trace: watching?.trace ?? came,
      header: (name) => incoming.header(name),
      peer: incoming.peer,
      setHeader: (name, value) => {
        given[name.toLowerCase()] = value;
      },
      get request() {
        return messages().request;
      },
      get answer() {
        return messages().answer;
      },
    };
  }

  /** Made when somebody asks for it, since few handlers do. */
  private get signal(): AbortSignal {
    if (this.controller === undefined) {
      this.controller = new AbortController();
      if (this.over !== undefined) {
        this.controller.abort(this.over.reason);
      } else if (this.incoming.signal.aborted) {
        this.leave();
      } else {
        this.incoming.signal.addEventListener("abort", this.leave, { once: true });
      }
    }
    return this.controller.signal;
  }

  private abort(reason: unknown): void {
    this.over ??= { reason };
    this.controller?.abort(reason);
  }

  private get call(): Call<unknown, unknown> {
    return this.found.route.call;
  }

  get elementLimit(): number {
    return this.options.elementLimit ?? 1 << 20;
  }

  get items(): number {
    return this.options.itemLimit ?? serverBudget;
  }

  get idle(): number {
    return this.options.idleTimeout ?? 60_000;
  }

  /** Ends a stream, since the mount shuts down: what a handler gives is not waited for any more. */
  interrupt(): void {
    if (this.call.answerStream) {
      this.writing.fail(unavailable());
      this.abort(new DOMException("the server is shutting down", "AbortError"));
    } else if (this.call.requestStream) {
      this.reading.fail(unavailable());
    }
  }

  /** Lets go of what the exchange uses. */
  done(): void {
    this.server.leave(this);
    clearTimeout(this.timer);
    if (this.controller !== undefined) {
      this.incoming.signal.removeEventListener("abort", this.leave);
    }
  }

  /** Answers a call of one request and one answer. */
  async unary(requestType: string, type: string): Promise<Outgoing> {
    let reading = true as boolean;
    const late = new Promise<never>((_, reject) => {
      this.timer = setTimeout(
        () => {
          this.late = !reading;
          reject(new Refused("too-slow", reading ? "the body took too long" : "the call took too long", [], { "retry-after": "1" }));
          this.abort(new DOMException("the call took too long", "TimeoutError"));
        },
        patience(this.incoming, this.options.handlerTimeout ?? 60_000),
      );
    });
    const serve = async (): Promise<unknown> => {
      const request = await this.request(requestType, undefined);
      reading = false;
      this.messages = { request, answer: undefined };
      return this.run(async (handler) => {
        const answer = await handler(request, this.context);
        this.messages = { request, answer };
        return answer;
      });
    };
    try {
      return await this.answer(type, await Promise.race([serve(), late]));
    } catch (problem) {
      return this.failed(problem);
    } finally {
      this.done();
    }
  }

  /** Answers a call that takes or answers a body as it is: it is idleness that has a limit. */
  async raw(requestType: string, type: string): Promise<Outgoing> {
    let streams = false;
    try {
      const request = await this.request(requestType, this.options.handlerTimeout ?? 60_000);
      this.messages = { request, answer: undefined };
      let answer: unknown;
      try {
        answer = await this.run(async (handler) => {
          const given = await handler(request, this.context);
          this.messages = { request, answer: given };
          return given;
        });
      } catch (problem) {
        throw this.arriving.failed ?? problem; // whatever the handler made of it
      }
      if (this.arriving.failed !== undefined) {
        throw this.arriving.failed;
      }
      const outgoing = this.call.answerTravel?.raw === undefined ? await this.answer(type, answer) : await this.rawAnswer(this.call.answerTravel, this.call.answerTravel.raw, answer);
      streams = outgoing.body !== undefined && !(outgoing.body instanceof Uint8Array);
      return outgoing;
    } catch (problem) {
      return this.failed(problem);
    } finally {
      if (!streams) {
        this.done();
      }
    }
  }

  /** The body of a request, as its handler reads it. */
  private readonly arriving: { failed: Error | undefined } = { failed: undefined };

  private rawRequest(raw: web.Raw<unknown>): wire.Body {
    const { incoming, idle } = this;
    const { bounds, field } = raw;
    const type = incoming.header("content-type") ?? "";
    if (type === "") {
      throw new Refused("unsupported-form", `Content-Type is missing; the body is ${bounds.mediaType}`);
    }
    if (!wire.allowsType(bounds, type)) {
      throw new Refused("unsupported-form", `Content-Type is ${bounds.mediaType}, not ${JSON.stringify(web.mediaType(type))}`);
    }
    this.plainBody();
    const refused = (detail: string): Refused => violated([{ pointer: wire.pointer(field), detail, in: "body" }]);
    const length = incoming.header("content-length");
    const size = incoming.body === undefined ? 0 : length === undefined ? undefined : Number(length);
    const wrong = size === undefined ? undefined : wire.wrongSize(bounds, size);
    if (wrong !== undefined) {
      throw refused(wrong);
    }
    const limit = bounds.high ?? rawLimit;
    const tooLarge = (): Refused => (bounds.high === undefined ? new Refused("too-large", `the body is larger than ${String(limit)} bytes`) : refused(`must have at most ${String(limit)} bytes`));
    if (size !== undefined && size > limit) {
      throw tooLarge();
    }
    const { arriving } = this;
    const chunks = async function* (): AsyncGenerator<Uint8Array> {
      let total = 0;
      try {
        for await (const chunk of impatient(incoming.body ?? empty(), idle)) {
          total += chunk.length;
          if (total > limit) {
            throw tooLarge();
          }
          yield chunk;
        }
        const problem = wire.wrongSize(bounds, total);
        if (problem !== undefined) {
          throw refused(problem);
        }
      } catch (problem) {
        arriving.failed = problem instanceof Refused ? problem : new Refused("invalid-request", "the body ended too early");
        throw arriving.failed;
      }
    };
    return new wire.Body(chunks(), { mediaType: type, size });
  }

  private async rawAnswer(travel: web.Travel<unknown>, raw: web.Raw<unknown>, answer: unknown): Promise<Outgoing> {
    if (answer === undefined || answer === null) {
      throw new Error("the handler returned no answer");
    }
    const whole = this.found.route.finish(answer as never);
    const body = raw.of(whole);
    const { method } = this.incoming;
    const status = this.call.status ?? 200;
    const { size } = body;
    const type = wire.sentType(raw.bounds, body.mediaType);
    const wrong = size === undefined ? undefined : wire.wrongSize(raw.bounds, size);
    if (!wire.allowsType(raw.bounds, type) || wrong !== undefined) {
      await body.cancel();
      throw new Error(`${raw.field} ${wrong ?? `is ${raw.bounds.mediaType}, and its media type is "${type}"`}`);
    }
    const headers = this.outside(travel, whole, undefined, false);
    const unmodified = this.unmodified(status, headers);
    if (unmodified !== undefined) {
      await body.cancel();
      return unmodified;
    }
    const plain = { ...headers };
    Object.assign(headers, { "content-type": type, "x-content-type-options": "nosniff", "content-security-policy": "sandbox" });
    let [first, last, code] = [0, undefined as number | undefined, status];
    if (size !== undefined) {
      let length = size;
      if (method === "GET" && status === 200) {
        headers["accept-ranges"] = "bytes";
        const version = (name: string): string | undefined => (typeof plain[name] === "string" ? plain[name] : undefined);
        const range = ranged((name) => this.incoming.header(name), size, { etag: version("etag"), modified: version("last-modified") });
        if (range === "none") {
          await body.cancel();
          throw new Refused("range-not-satisfiable", `there are ${String(size)} bytes`, [], { "content-range": `bytes */${String(size)}` });
        }
        if (range !== undefined) {
          ({ first, last } = range);
          length = last - first + 1;
          code = 206;
          headers["content-range"] = `bytes ${String(first)}-${String(last)}/${String(size)}`;
        }
      }
      headers["content-length"] = String(length);
    }
    if (method === "HEAD") {
      await body.cancel();
      return { status, headers, body: undefined };
    }
    // What fails before anything has gone is an ordinary problem.
    const chunks = poured(body, first, last);
    const head = await chunks.next();
    const done = (): void => {
      this.done();
    };
    const fail = (problem: unknown): void => {
      this.watching?.fail(problem);
      report(this.options, this.call.name, problem, this.context);
    };
    const { signal } = this;
    const rest = async function* (): AsyncGenerator<Uint8Array<ArrayBuffer>> {
      try {
        if (head.done !== true) {
          yield head.value;
          for await (const chunk of chunks) {
            yield chunk;
          }
        }
      } catch (problem) {
        if (!signal.aborted) {
          fail(problem);
        }
        throw problem; // breaks the connection
      } finally {
        await chunks.return(undefined);
        done();
      }
    };
    return { status: code, headers, body: rest() };
  }

  /** What is answered where the client has the answer already; undefined where it has not. */
  private unmodified(status: number, headers: Record<string, string | string[]>): Outgoing | undefined {
    const { etag } = headers;
    const asks = this.incoming.method === "GET" || this.incoming.method === "HEAD";
    if (!asks || status >= 300 || typeof etag !== "string" || !matches(this.incoming.header("if-none-match"), etag)) {
      return undefined;
    }
    const control = headers["cache-control"];
    return { status: 304, headers: control === undefined ? { etag } : { etag, "cache-control": control }, body: undefined };
  }

  private failed(problem: unknown): Outgoing {
    this.watching?.fail(problem);
    const told = this.late && !(problem instanceof wire.DeclaredError) ? new Refused("too-slow", "the call took too long", [], { "retry-after": "1" }) : problem;
    return this.server.refuse(this.call.name, told, this.call.fails, this.context);
  }

  /** Writes an answer that is not a stream. */
  private async answer(type: string, answer: unknown): Promise<Outgoing> {
    const { call, finish } = this.found.route;
    if (call.answer === undefined) {
      return { status: call.status ?? 204, headers: {}, body: undefined };
    }
    if (answer === undefined || answer === null) {
      throw new Error("the handler returned no answer");
    }
    const status = call.status ?? 200;
    const whole = finish(answer as never);
    const travel = call.answerTravel;
    if (travel === undefined) {
      return this.compress({ status, headers: { "content-type": type }, body: web.encode(type, whole, call.answer as wire.Codec<unknown>) });
    }
    let body = travel.body === undefined ? undefined : web.encode(type, travel.bodyOf(whole), travel.body);
    if (body !== undefined && travel.body !== undefined && (status === 204 || status === 205)) {
      const blank = web.encode(type, wire.fromJson(travel.body, "{}"), travel.body);
      if (blank.length !== body.length || blank.some((octet, i) => octet !== body?.[i])) {
        throw new Error(`the status ${String(status)} has no body, and the answer sets a field that would be in it`);
      }
      body = undefined;
    }
    const gzip = body !== undefined && this.compresses(body);
    const headers = this.outside(travel, whole, body === undefined ? undefined : type, gzip);
    const unmodified = this.unmodified(status, headers);
    if (unmodified !== undefined) {
      return unmodified;
    }
    if (body !== undefined) {
      headers["content-type"] = type;
    }
    return this.compress({ status, headers, body });
  }

  /** Whether the body of an answer goes out compressed. */
  private compresses(body: Uint8Array): boolean {
    return this.call.compressible === true && this.options.compression !== false && this.given["set-cookie"] === undefined && body.length > compressedFrom && takesGzip(this.incoming.header("accept-encoding"));
  }

  private async compress(outgoing: Outgoing): Promise<Outgoing> {
    const { status, headers, body } = outgoing;
    if (!(body instanceof Uint8Array) || !this.compresses(body)) {
      return outgoing;
    }
    return { status, headers: { ...headers, "content-encoding": "gzip" }, body: await compressed(body) };
  }

  /** What of an answer travels in headers and cookies, with the tag of its encoding. */
  private outside(travel: web.Travel<unknown>, whole: unknown, type: string | undefined, gzip: boolean): Record<string, string | string[]> {
    const parameters = new web.Parameters();
    travel.place(whole, parameters);
    const [wrong] = parameters.violations;
    if (wrong !== undefined) {
      throw new Error(`an answer that can't be sent: ${wrong.pointer} ${wrong.detail}`);
    }
    const headers: Record<string, string | string[]> = { ...parameters.headers };
    const { etag } = parameters.headers;
    if (etag !== undefined) {
      if (!isTag(etag)) {
        throw new Error(`the header "ETag" is an entity-tag with its quotes (RFC 9110, section 8.8.3), not ${etag}`);
      }
      headers["etag"] = type === undefined ? etag : tagged(etag, type, gzip);
    }
    if (parameters.cookies.length > 0) {
      headers["set-cookie"] = parameters.cookies.map(([name, value]) => setCookie(name, value, this.options.cookies?.[name]));
    }
    return headers;
  }

  /** Runs a handler inside of the middleware. */
  private async run(handler: (serve: Handler) => unknown): Promise<unknown> {
    const serve = this.found.route.serve;
    if (serve === undefined) {
      throw new Refused("not-implemented", `${this.call.name} is not implemented here`);
    }
    let result: unknown;
    let next = async (): Promise<void> => {
      result = await handler(serve);
    };
    for (const middleware of [...(this.options.middleware ?? [])].reverse()) {
      const inner = next;
      next = () => middleware(this.context, inner);
    }
    try {
      await next();
    } catch (problem) {
      throw problem instanceof Unauthenticated ? new Refused("unauthenticated", problem.message, [], { "www-authenticate": challenges(this.call) }) : problem;
    }
    return result;
  }

  /**
   * Runs a handler that streams. The middleware goes on until the stream is over, which ended says, with what it failed
   * with; ended rejects with what the middleware makes of that.
   */
  private async runStream(handler: (serve: Handler) => unknown): Promise<[given: AsyncIterable<never> | Iterable<never>, ended: (...failed: unknown[]) => Promise<unknown>]> {
    let end: (problems: unknown[]) => void = () => undefined;
    const over = new Promise<unknown[]>((resolve) => {
      end = resolve;
    });
    let begin: (given: unknown) => void = () => undefined;
    const begun = new Promise((resolve) => {
      begin = resolve;
    });
    const running = this.run(async (serve) => {
      begin(await handler(serve));
      for (const problem of await over) {
        throw problem;
      }
    });
    // Middleware that fails or ends before the handler has begun has no stream.
    const given = await Promise.race([
      begun,
      running.then(() => {
        throw new Error("middleware ended a stream before its handler did");
      }),
    ]);
    return [
      given as AsyncIterable<never> | Iterable<never>,
      (...failed) => {
        end(failed);
        return running;
      },
    ];
  }

  /** Answers a call with a stream. */
  async send(requestType: string, type: string): Promise<Outgoing> {
    const request = await this.request(requestType, this.options.handlerTimeout ?? 60_000);
    if (this.incoming.method === "HEAD") {
      this.done();
      return { status: this.call.status ?? 200, headers: { "content-type": type }, body: undefined };
    }
    const encoding = type === web.jsonSequence ? "json" : "cbor";
    const chunks = this.answers(encoding, true, (serve) => serve(request, this.context));
    // What fails before the first element is an ordinary problem.
    const first = chunks.next();
    let came: IteratorResult<Uint8Array<ArrayBuffer>> | undefined;
    try {
      came = await within(first, this.options.heartbeat ?? 15_000);
    } catch (problem) {
      this.done();
      return this.failed(problem);
    }
    this.headed = came === undefined;
    const writer = this.writer(encoding, true);
    const rest = (async function* (): AsyncGenerator<Uint8Array<ArrayBuffer>> {
      try {
        if (came === undefined) {
          yield writer.heartbeat();
        }
        const head = came ?? (await first);
        if (head.done !== true) {
          yield head.value;
          yield* chunks;
        }
      } finally {
        await chunks.return(undefined);
      }
    })();
    return { status: this.call.status ?? 200, headers: { "content-type": type, "x-accel-buffering": "no" }, body: withHeartbeats(rest, writer.heartbeat(), this.options.heartbeat ?? 15_000) };
  }

  private writer(encoding: Encoding, sequence: boolean): ElementWriter<unknown> {
    return new ElementWriter(encoding, this.call.answer as wire.Codec<unknown>, sequence, this.elementLimit);
  }

  /** The elements that a handler gives, and its end or problem. What it throws before any is thrown. */
  private async *answers(encoding: Encoding, sequence: boolean, handler: (serve: Handler) => unknown, reading?: Reading): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    const writer = this.writer(encoding, sequence);
    let begun = false as boolean;
    let ended: ((...failed: unknown[]) => Promise<unknown>) | undefined;
    try {
      const [given, over] = await this.runStream(handler);
      ended = over;
      try {
        for await (const element of this.writing.until<never>(given)) {
          begun = true;
          yield writer.value(this.found.route.finish(element));
          if (this.signal.aborted) {
            throw new Lost(); // nobody listens: a body that throws breaks the connection
          }
        }
        if (reading?.failed !== undefined) {
          throw reading.failed; // whatever the handler made of it
        }
      } catch (problem) {
        await over(problem);
        throw problem;
      }
      await over();
      yield writer.end();
    } catch (problem) {
      if (problem instanceof Lost || reading?.lost === true || (!begun && sequence && !this.headed)) {
        throw problem;
      }
      this.watching?.fail(reading?.failed ?? problem);
      yield writer.problem(this.server.details(this.call.name, reading?.failed ?? problem, this.call.fails, this.context)[0]);
    } finally {
      ended?.(new Lost()).catch(() => undefined); // for middleware, where the reader has gone
      this.done();
      this.abort(undefined); // for a handler that still works when its reader has gone
    }
  }

  /** Answers a call whose request is a stream. */
  async receive(requestType: string, type: string): Promise<Outgoing> {
    this.plainBody();
    if (requestType !== web.cborSequence && requestType !== web.jsonSequence) {
      throw new Refused("unsupported-form", `Content-Type is application/cbor-seq or application/json-seq, not ${JSON.stringify(requestType)}`);
    }
    const encoding = requestType === web.jsonSequence ? "json" : "cbor";
    const chunks = impatient(this.reading.until(this.incoming.body ?? empty()), this.idle);
    const reading = new Reading();
    try {
      if (this.found.route.serve !== undefined) {
        this.begin();
      }
      const answer = await this.run((serve) => serve(this.argument(this.checked(elements(chunks, encoding, this.call.request as wire.Codec<unknown>, this.elementLimit, this.items), reading)), this.context));
      if (reading.failed !== undefined) {
        throw reading.failed;
      }
      return await this.answer(type, answer);
    } catch (problem) {
      // Whatever the handler made of it, half a stream was not a request.
      this.watching?.fail(reading.failed ?? problem);
      return this.server.refuse(this.call.name, reading.failed ?? problem, this.call.fails);
    } finally {
      this.done();
    }
  }

  /** The values of a stream, each checked as a request is. */
  private async *checked(all: AsyncIterable<Element<unknown>>, reading: Reading): AsyncGenerator {
    const codec = this.call.request as wire.Codec<unknown>;
    let number = 1;
    try {
      for await (const element of all) {
        if (typeof element !== "object") {
          continue;
        }
        if ("problem" in element) {
          throw web.failure(this.call, 0, element.problem);
        }
        this.allow(codec, element.value, []);
        yield element.value;
        number++;
      }
    } catch (problem) {
      reading.lost = problem instanceof Lost && !(problem.cause instanceof Refused);
      const failed = unreadable(problem);
      const found = failed instanceof Refused ? failed.violations : [];
      reading.failed = found.length === 0 ? failed : new Refused("invalid-request", `element ${String(number)} of the stream ${problem === failed ? "is refused" : "can't be read"}`, found);
      throw reading.failed;
    }
  }

  /** Serves a call that streams both ways. */
  async *converse(messages: AsyncIterable<Uint8Array>, encoding: Encoding): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    const codec = this.call.request as wire.Codec<unknown>;
    const iterator = impatient(messages, this.idle);
    const { items } = this;
    let ended = false;
    const all = async function* (): AsyncGenerator<Element<unknown>> {
      try {
        for (;;) {
          const next = await iterator.next();
          if (next.done === true) {
            throw new Lost();
          }
          const element = readElement(next.value, encoding, codec, items);
          yield element;
          if (element === "end") {
            ended = true;
            return;
          }
        }
      } catch (problem) {
        throw problem instanceof wire.WireError || problem instanceof Refused || problem instanceof Lost ? problem : new Lost({ cause: problem });
      }
    };
    const reading = new Reading();
    const given = this.checked(all(), reading);
    const writer = this.writer(encoding, false);
    const answers = this.answers(encoding, false, (serve) => serve(this.argument(given), this.context), reading);
    yield* withHeartbeats(answers, writer.heartbeat(), this.options.heartbeat ?? 15_000);
    // When the handler has had enough, the other side's end still has to come:
    // only then both know that nothing was lost.
    while (!ended && reading.failed === undefined) {
      const next = await iterator.next();
      if (next.done === true) {
        throw new Lost();
      }
      ended = readElement(next.value, encoding, codec, items) === "end";
    }
  }

  /** Reads what comes before a stream of requests, and refuses it before the first element is read. */
  begin(): void {
    const { head } = this.call;
    if (head !== undefined) {
      this.head = this.taken(head.codec, head.travel, undefined, undefined);
      this.messages = { request: this.head, answer: undefined };
    }
  }

  /** The elements of a stream as a handler is given them: with what came before them. */
  private argument(elements: AsyncGenerator): AsyncGenerator | Headed {
    return this.call.head === undefined ? elements : { head: this.head, elements };
  }

  private plainBody(): void {
    const coding = this.incoming.header("content-encoding") ?? "identity";
    if (coding.toLowerCase() !== "identity") {
      throw new Refused("unsupported-form", `such a body is not encoded: ${coding}`);
    }
  }

  /** Reads the request, from wherever its fields travel. */
  private async request(requestType: string, timeout: number | undefined): Promise<unknown> {
    const { request: codec, travel } = this.call;
    if (codec === undefined) {
      // Any body is dropped, but for a stream: who sends one means another call.
      if (requestType === web.cborSequence || requestType === web.jsonSequence) {
        throw new Refused("unsupported-form", `the call takes no request, and no stream: Content-Type is not ${JSON.stringify(requestType)}`);
      }
      return undefined;
    }
    const bodyCodec = travel === undefined ? (codec as wire.Codec<unknown>) : travel.body;
    const raw = travel?.raw === undefined ? undefined : this.rawRequest(travel.raw);
    const body = bodyCodec === undefined ? undefined : await this.body(requestType, bodyCodec, timeout);
    if (travel === undefined) {
      this.allow(codec, body, []);
      return body;
    }
    return this.taken(codec, travel, body, raw);
  }

  /** Puts a message together from a body and from what travels outside of it. */
  private taken<T>(codec: wire.Checks<T>, travel: web.Travel<T>, body: unknown, raw: wire.Body | undefined): T {
    const { values } = this.found;
    let query: Query | undefined;
    let odd = false as boolean;
    const args = new web.Arguments(travel.placed, (p) => {
      switch (p.in) {
        case "path":
          return [values.get(p.parameter) ?? ""];
        case "query":
          query ??= parseQuery(this.incoming.query);
          ({ odd } = query);
          return query.pairs.filter(([name]) => name === p.parameter).map(([, value]) => value);
        case "header":
          return headerValues(this.incoming, p.parameter);
        case "cookie":
          return cookies(this.incoming, p.parameter).slice(0, 1); // of several the first counts
      }
    });
    const request = travel.take(args, body, raw);
    if (odd) {
      args.violations.push({ pointer: "", detail: "must be pairs that are percent-encoded as they should be", in: "query" });
    }
    if (args.violations.length > 0) {
      throw violated(args.violations);
    }
    this.allow(codec, request, travel.placed);
    return request;
  }

  private allow(codec: wire.Checks<unknown>, message: unknown, placed: readonly web.Placed[]): void {
    let violations = wire.validate(codec, message);
    if (violations.length > 0 && this.options.unlisted === true) {
      violations = wire.withoutUnlisted(violations);
    }
    if (violations.length > 0) {
      throw violated(web.locate(violations, placed));
    }
  }

  private async body(type: string, codec: wire.Codec<unknown>, timeout: number | undefined): Promise<unknown> {
    const coding = this.incoming.header("content-encoding");
    const gzip = isGzip(coding);
    if (!gzip && coding !== undefined && coding.toLowerCase() !== "identity") {
      throw new Refused("unsupported-form", `the content coding ${JSON.stringify(coding)} is not read`, [], { "accept-encoding": "gzip" }); // RFC 9110, section 12.5.3
    }
    if (type !== web.cborType && type !== web.jsonType && (type !== "" || this.incoming.body !== undefined)) {
      throw new Refused("unsupported-form", `Content-Type is application/cbor or application/json, not ${JSON.stringify(type)}`);
    }
    const limit = this.options.bodyLimit ?? 4 << 20;
    const tooLarge = (): Refused => new Refused("too-large", `the body is larger than ${String(limit)} bytes`);
    if (Number(this.incoming.header("content-length") ?? 0) > limit) {
      throw tooLarge();
    }
    let body: Uint8Array | undefined = new Uint8Array();
    if (this.incoming.body !== undefined) {
      let read: { readonly body: Uint8Array | undefined } | undefined;
      try {
        const all = web.readAll(this.incoming.body, limit).then((whole) => ({ body: whole }));
        read = await (timeout === undefined ? all : within(all, timeout));
      } catch {
        throw new Refused("invalid-request", "the body ended too early");
      }
      if (read === undefined) {
        throw new Refused("too-slow", "the body took too long", [], { "retry-after": "1" });
      }
      ({ body } = read);
    }
    if (gzip && body !== undefined) {
      try {
        body = await expanded(body, limit);
      } catch {
        throw new Refused("invalid-request", "the body can't be read: it is not whole gzip");
      }
    }
    if (body === undefined) {
      throw tooLarge();
    }
    try {
      return type === "" ? wire.fromJson(codec, "{}") : web.decode(type, body, codec, this.items);
    } catch (problem) {
      throw unreadable(problem);
    }
  }
}

/** How far a stream that is read has failed. */
class Reading {
  failed: Error | undefined;
  lost = false;
}

async function* empty(): AsyncGenerator<Uint8Array> {
  // Nothing comes.
}

/** Refuses chunks that let wait for too long. */
async function* impatient(chunks: AsyncIterable<Uint8Array>, idle: number): AsyncGenerator<Uint8Array> {
  const iterator = chunks[Symbol.asyncIterator]();
  let done = false;
  try {
    for (;;) {
      const next = await within(iterator.next(), idle);
      if (next === undefined) {
        throw new Refused("too-slow", "the stream was silent for too long");
      }
      if (next.done === true) {
        done = true;
        return;
      }
      yield next.value;
    }
  } finally {
    if (!done) {
      void iterator.return?.(); // not awaited: it may wait for what never comes
    }
  }
}

function violated(violations: readonly wire.Violation[]): Refused {
  return new Refused("invalid-request", violations.length === 1 ? "1 violation" : `${String(violations.length)} violations`, violations);
}

/** What is answered for a payload or stream that can't be read. */
function unreadable(problem: unknown): Error {
  if (problem instanceof wire.WireError) {
    return problem.tooLarge ? new Refused("too-large", problem.detail) : new Refused("invalid-request", "the request can't be read", [{ pointer: problem.path, detail: problem.detail }]);
  }
  if (problem instanceof BadElement) {
    return problem.tooLarge ? new Refused("too-large", problem.message) : new Refused("invalid-request", problem.message);
  }
  if (problem instanceof Lost) {
    if (problem.cause instanceof Refused) {
      return problem.cause;
    }
    return new Refused("invalid-request", problem.message);
  }
  return problem instanceof Error ? problem : new Error("the request could not be read", { cause: problem });
}

/** How long the handler may take: as long as the client waits (RFC 7240, section 4.3), and no longer than the server allows. */
function patience(incoming: Incoming, ceiling: number): number {
  const wait = /(?:^|,)\s*wait=(\d{1,9})\s*(?:,|$)/.exec(incoming.header("prefer") ?? "")?.[1];
  return wait === undefined || wait === "0" ? ceiling : Math.min(ceiling, Number(wait) * 1000);
}

/** The pairs of a query; odd tells that one of them can't be decoded. */
interface Query {
  readonly pairs: [name: string, value: string][];
  odd: boolean;
}

function parseQuery(text: string): Query {
  const query: Query = { pairs: [], odd: false };
  for (const pair of text.split("&")) {
    const i = pair.indexOf("=");
    try {
      const [name, value] = (i < 0 ? [pair, ""] : [pair.slice(0, i), pair.slice(i + 1)]).map((part) => decodeURIComponent(part.replaceAll("+", " ")));
      if (pair !== "") {
        query.pairs.push([name ?? "", value ?? ""]);
      }
    } catch {
      query.odd = true;
    }
  }
  return query;
}

function decoded(segment: string): string {
  try {
    return decodeURIComponent(segment);
  } catch {
    throw new Refused("invalid-request", `the path contains ${segment}, which is not well formed`);
  }
}

function match(pattern: readonly string[], segments: readonly string[]): Map<string, string> | undefined {
  if (pattern.length !== segments.length) {
    return undefined;
  }
  const values = new Map<string, string>();
  for (const [i, wanted] of pattern.entries()) {
    const segment = segments[i] ?? "";
    if (wanted.startsWith("{")) {
      values.set(wanted.slice(1, -1), segment);
    } else if (wanted !== segment) {
      return undefined;
    }
  }
  return values;
}

/** The lines of a header; those that HTTP has a meaning for are one (RFC 9110, section 5.3). */
function headerValues(incoming: Incoming, name: string): readonly string[] {
  const lower = name.toLowerCase();
  const value = incoming.header(name);
  if (value === undefined) {
    return [];
  }
  if (lower === "if-match" || lower === "if-none-match") {
    return [withoutEncodings(value)];
  }
  return lower === "accept-language" ? [value] : (incoming.headers?.(name) ?? [value]);
}

/** What Set-Cookie says; an empty cookie is taken away. */
function setCookie(name: string, value: string, { path = "/", domain, maxAge, httpOnly = true, secure = true, sameSite = "Lax" }: CookieAttributes = {}): string {
  const age = value === "" ? 0 : maxAge;
  const parts = [`${name}=${value}`, `Path=${path}`];
  if (domain !== undefined) {
    parts.push(`Domain=${domain}`);
  }
  if (age !== undefined) {
    parts.push(`Max-Age=${String(age)}`);
  }
  return [...parts, ...(httpOnly ? ["HttpOnly"] : []), ...(secure ? ["Secure"] : []), `SameSite=${sameSite}`].join("; ");
}

function cookies(incoming: Incoming, name: string): string[] {
  const list: string[] = [];
  for (const pair of (incoming.header("cookie") ?? "").split(";")) {
    const i = pair.indexOf("=");
    if (i >= 0 && pair.slice(0, i).trim() === name) {
      list.push(pair.slice(i + 1).trim().replace(/^"(.*)"$/, "$1"));
    }
  }
  return list;
}

/** The value of a credential that a request shows. */
function shown(credential: web.Credential, incoming: Incoming): string | undefined {
  const given = (value: string | null | undefined): string | undefined => (value === null || value === "" ? undefined : value);
  const [scheme = "", token = ""] = (incoming.header("authorization") ?? "").split(/\s+/, 2);
  switch (credential.kind) {
    case "header":
      return given(incoming.header(credential.key));
    case "query":
      return given(parseQuery(incoming.query).pairs.find(([name]) => name === credential.key)?.[1]);
    case "cookie":
      return given(cookies(incoming, credential.key)[0]);
    case "bearer":
      return scheme.toLowerCase() === "bearer" ? given(token) : undefined;
    case "basic": {
      const bytes = scheme.toLowerCase() === "basic" ? wire.fromBase64(token) : undefined;
      const text = bytes === undefined ? "" : new TextDecoder().decode(bytes);
      return text.includes(":") ? text : undefined;
    }
  }
}

/** What WWW-Authenticate says (RFC 9110, section 11.6.1). */
function challenges(call: Pick<Call<unknown, unknown>, "needs" | "name">): string {
  const list = call.needs.flat().map(({ kind, key }) => (kind === "bearer" ? "Bearer" : kind === "basic" ? `Basic realm="${call.name}", charset="UTF-8"` : `Key in="${kind}", name="${key}"`));
  return [...new Set(list)].join(", ");
}

function json(value: unknown, status = 200): Outgoing {
  return { status, headers: { "content-type": web.jsonType }, body: encoder.encode(JSON.stringify(value)) };
}

/** Chooses the type of an answer by Accept (RFC 9110, section 12.5.1): of two alike the encoding of the request, or JSON. */
function preferred(accept: string | undefined, requestType: string, cborType: string, jsonType: string): string | undefined {
  const fallback = requestType === web.cborType || requestType === web.cborSequence ? cborType : jsonType;
  if (accept === undefined || accept === fallback) {
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
