/** Sends calls to one server, over whatever carries HTTP. */

import { chunksOf } from "./body.js";
import { compressed, compressedFrom, expanded, isGzip } from "./compression.js";
import { after } from "./stream.js";
import * as web from "./web.js";
import type { Call, Credential, Encoding, Trace } from "./web.js";
import * as wire from "./wire.js";

/** A request as a transport sends it. Redirects are not to be followed. */
export interface OutgoingRequest {
  readonly method: string;
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: Uint8Array<ArrayBuffer> | AsyncIterable<Uint8Array<ArrayBuffer>> | undefined;
  /** Of a body that travels as it is: all of it, where it is not a stream, and how many bytes it has, where that is known. */
  readonly whole?: Blob | Uint8Array<ArrayBuffer>;
  readonly size?: number;
  /** Whether the call needs, reads or answers cookies, which a browser keeps itself. */
  readonly cookies?: boolean;
  readonly signal: AbortSignal;
  /** Calls act when signal is aborted. A transport that needs no signal uses this: making signals is slow. */
  whenAborted?(act: (reason: unknown) => void): void;
  /** Of a call that streams both ways: how large an element may be, in bytes, and how long writing one may take, in milliseconds. */
  readonly elementLimit?: number;
  readonly idleTimeout?: number;
}

/** An answer as a transport returns it. The body must be read, or its iterator returned. */
export interface IncomingAnswer {
  readonly status: number;
  header(name: string): string | null;
  /** What each Set-Cookie says; browsers keep that to themselves. */
  cookies?(): readonly string[];
  /** Whether the body has no content coding any more, whatever its header says. */
  readonly decoded?: boolean;
  readonly body: web.Chunks;
}

/** Carries requests. It throws when there is no answer. */
export type Transport = (request: OutgoingRequest) => Promise<IncomingAnswer>;

/** Runs around every request of a client; next sends it. */
export type ClientMiddleware = (request: OutgoingRequest, call: { readonly name: string }, next: Transport) => Promise<IncomingAnswer>;

/**
 * Told that a call begins, by its full name; what it returns is told how it went. headers go with the call's requests:
 * whoever traces calls adds to them. A stream or a raw body ends when it was read or given up.
 */
export type ClientWatcher = (call: string, headers: Record<string, string>) => (watched: web.Watched) => void;

/** The value of a credential, or what is asked for it on every call; that of basic credentials is "user:password". */
export type CredentialSource = string | (() => string | Promise<string>);

/** One WebSocket, as far as calls that stream both ways need it. */
export interface Socket {
  /** What the server agreed to. */
  readonly protocol: string;
  /** Waits while the other side is slow. */
  send(message: Uint8Array<ArrayBuffer> | string): Promise<void>;
  /** The messages that come, until the other side closes; a close that is not 1000 throws. */
  readonly messages: AsyncIterable<Uint8Array>;
  close(code: number): void;
}

/** Opens a WebSocket; a refusal throws what failed makes of the answer. */
export type SocketTransport = (request: OutgoingRequest, protocol: string, failed: (status: number, body: string) => Error) => Promise<Socket>;

/** Values of credentials by the name of each, with or without its module. */
export type Credentials<Name extends string> = { readonly [name in Name]?: CredentialSource | undefined };

/** How a client calls. Name is what credentials can be called. */
export interface ClientOptions<Name extends string = string> {
  /** What requests are sent as; CBOR where it is not given, and these stubs have it. */
  readonly encoding?: Encoding;
  /** fetchTransport() where it is not given; nodeTransport() is faster in Node. */
  readonly transport?: Transport;
  /** Whether to ask for answers in gzip, and send bodies of more than 1 KiB so. Browsers ask by themselves. */
  readonly compression?: boolean;
  /** What carries calls that stream both ways; nodeSocket in Node. */
  readonly socket?: SocketTransport;
  /** In milliseconds, for each call with all its tries; 60,000 where it is not given. Of a stream, until it begins. */
  readonly timeout?: number;
  /** In milliseconds, how long a stream may be silent; 60,000 where it is not given. */
  readonly idleTimeout?: number;
  /** How often a call that is safe or idempotent is sent at most; 4 where it is not given. */
  readonly tries?: number;
  readonly headers?: Readonly<Record<string, string>>;
  readonly credentials?: Credentials<Name>;
  readonly middleware?: readonly ClientMiddleware[];
  /** Told of each call, for metrics, logs and traces. */
  readonly watcher?: ClientWatcher;
  /** In bytes; 4 MiB where it is not given. */
  readonly answerLimit?: number;
  /** How many list items and entries an answer may contain; 1,000,000 unless it is given. */
  readonly answerItemLimit?: number;
  /** In bytes; 1 MiB where it is not given. */
  readonly elementLimit?: number;
  /** Told when a server's definitions are not the ones of this client. */
  readonly onDigest?: (theirs: string) => void;
  /**
   * Whether requests say how long the client waits (Prefer, RFC 7240). They do where it is not given, but for those of
   * browsers, which would have to ask a server of another origin before each GET.
   */
  readonly prefer?: boolean;
}

/** How one call is made. Name is what credentials can be called. */
export interface CallOptions<Name extends string = string> {
  readonly signal?: AbortSignal | undefined;
  /** In milliseconds, instead of the client's. */
  readonly timeout?: number | undefined;
  /** The trace that the call belongs to, such as that of a server's context. */
  readonly trace?: Trace | undefined;
  /** Of the request: added to the client's, and replacing those of the same name. */
  readonly headers?: Readonly<Record<string, string>> | undefined;
  /** Added to the client's, and replacing those of the same name. */
  readonly credentials?: Credentials<Name> | undefined;
  /** Told the status and the headers of the answer once it begins; of a refusal, too. */
  readonly answered?: ((status: number, header: (name: string) => string | null) => void) | undefined;
}

/** How one call is made, and who watches it. */
export interface Calling extends CallOptions {
  readonly watch: Watch | undefined;
}

/** Counts what goes through one call, for who watches it. */
class Watch {
  readonly headers: Record<string, string> = {};
  private readonly start = performance.now();
  private readonly done: (watched: web.Watched) => void;
  private status = 0;
  private tries = 0;
  private received = 0;
  private sent = 0;
  private failed: unknown;
  private over = false;

  constructor(watcher: ClientWatcher, call: string) {
    this.done = watcher(call, this.headers);
  }

  /** The request of one try, its body counted. */
  leaving(request: OutgoingRequest): OutgoingRequest {
    this.tries++;
    this.status = 0;
    const { body, whole } = request;
    if (whole !== undefined) {
      this.sent += whole instanceof Blob ? whole.size : whole.length;
      return request;
    }
    if (body === undefined || body instanceof Uint8Array) {
      this.sent += body?.length ?? 0;
      return request;
    }
    const counted = web.counted(body, (bytes) => {
      this.sent += bytes;
    });
    return Object.defineProperties({}, { ...Object.getOwnPropertyDescriptors(request), body: { value: counted, enumerable: true } }) as OutgoingRequest;
  }

  /** The answer to it, its body counted. */
  arriving(answer: IncomingAnswer): IncomingAnswer {
    this.status = answer.status;
    const body = web.counted(answer.body, (bytes) => {
      this.received += bytes;
    });
    return Object.assign(Object.create(answer) as IncomingAnswer, { body });
  }

  /** A WebSocket was asked for; what it is answered with. */
  upgraded(status: number): void {
    this.tries = 1;
    this.status = status;
  }

  /** An element came over a WebSocket, or went. */
  element(received: number, sent: number): void {
    this.received += received;
    this.sent += sent;
  }

  fail(problem: unknown): void {
    if (!(problem instanceof web.NotModified)) {
      this.failed ??= problem;
    }
  }

  /** Tells, once, how the call went. */
  end(): void {
    if (!this.over) {
      this.over = true;
      this.done({ duration: performance.now() - this.start, status: this.status, tries: this.tries, received: this.received, sent: this.sent, failed: this.failed });
    }
  }
}

/** The transport of the global fetch, or of another function like it: a mount, say. */
export function fetchTransport(send: (request: Request) => Promise<Response> = fetch): Transport {
  return async ({ method, url, headers, body, signal, cookies, whole }) => {
    const init: RequestInit & { duplex?: "half" } = { method, headers, signal, redirect: "manual" };
    if (cookies === true) {
      init.credentials = "include"; // what a browser keeps for the server, whatever its origin
    }
    if (whole !== undefined) {
      init.body = whole;
    } else if (body instanceof Uint8Array) {
      init.body = body;
    } else if (body !== undefined) {
      init.body = streamOf(body);
      init.duplex = "half";
    }
    const response = await send(new Request(url, init));
    return { status: response.status, header: (name) => response.headers.get(name), cookies: () => response.headers.getSetCookie(), decoded: true, body: chunksOf(response.body) };
  };
}

/** Whether this is a page or worker of a browser: that keeps cookies itself, and sends no stream as it comes. */
export function inBrowser(): boolean {
  return "document" in globalThis || "WorkerGlobalScope" in globalThis;
}

/** Chunks as a stream that is read only as fast as it is wanted. */
export function streamOf(chunks: AsyncIterable<Uint8Array<ArrayBuffer>>): ReadableStream<Uint8Array<ArrayBuffer>> {
  const iterator = chunks[Symbol.asyncIterator]();
  return new ReadableStream(
    {
      async pull(controller) {
        const next = await iterator.next();
        if (next.done === true) {
          controller.close();
        } else {
          controller.enqueue(next.value);
        }
      },
      async cancel() {
        await iterator.return?.();
      },
    },
    { highWaterMark: 0 },
  );
}

/** Aborts when asked to, when so many milliseconds have passed, or when another signal does. */
export class Patience {
  private controller: AbortController | undefined;
  private over: { readonly reason: unknown } | undefined;
  private readonly acts: ((reason: unknown) => void)[] = [];
  private timer: ReturnType<typeof setTimeout> | undefined;
  private readonly outer: AbortSignal | undefined;
  private readonly stop = (): void => {
    this.abort(this.outer?.reason);
  };

  constructor(milliseconds: number, outer: AbortSignal | undefined) {
    this.outer = outer;
    if (outer?.aborted === true) {
      this.stop();
    } else {
      outer?.addEventListener("abort", this.stop, { once: true });
    }
    this.wait(milliseconds);
  }

  /** Made when somebody asks for it. */
  get signal(): AbortSignal {
    if (this.controller === undefined) {
      this.controller = new AbortController();
      if (this.over !== undefined) {
        this.controller.abort(this.over.reason);
      }
    }
    return this.controller.signal;
  }

  get aborted(): boolean {
    return this.over !== undefined;
  }

  /** Whether it is over because the time is. */
  get timedOut(): boolean {
    return this.over?.reason instanceof DOMException && this.over.reason.name === "TimeoutError";
  }

  /** Calls act when it is over, or at once where it is. */
  whenAborted(act: (reason: unknown) => void): void {
    if (this.over === undefined) {
      this.acts.push(act);
    } else {
      act(this.over.reason);
    }
  }

  /** Begins to wait anew. */
  wait(milliseconds: number): void {
    clearTimeout(this.timer);
    this.timer = after(milliseconds, () => {
      this.abort(new DOMException("it took too long", "TimeoutError"));
    });
  }

  /** Stops to wait. */
  rest(): void {
    clearTimeout(this.timer);
  }

  /** What a promise becomes, unless it is over first: whatever somebody else's code waits for. */
  async bound<T>(result: T | PromiseLike<T>): Promise<T> {
    if (!(result instanceof Promise) && typeof (result as PromiseLike<T> | undefined)?.then !== "function") {
      return result;
    }
    let index = -1;
    try {
      return await Promise.race([
        result,
        new Promise<never>((_, reject) => {
          const act = (reason: unknown): void => {
            reject(reason instanceof Error ? reason : new Error("aborted", { cause: reason }));
          };
          if (this.over === undefined) {
            index = this.acts.push(act) - 1;
          } else {
            // What a transport says of it itself says more, if it does.
            setTimeout(act, 0, this.over.reason);
          }
        }),
      ]);
    } finally {
      if (index === this.acts.length - 1) {
        this.acts.pop();
      }
    }
  }

  /** Waits, unless it is over first. */
  pause(milliseconds: number): Promise<void> {
    return this.bound(
      new Promise<void>((resolve) => {
        setTimeout(resolve, milliseconds);
      }),
    );
  }

  abort(reason: unknown): void {
    if (this.over === undefined) {
      this.over = { reason };
      this.controller?.abort(reason);
      for (const act of this.acts) {
        act(reason);
      }
    }
  }

  done(): void {
    clearTimeout(this.timer);
    this.outer?.removeEventListener("abort", this.stop);
  }
}

/** Sends calls to one server. What is here besides do is for the calls of the files next to this one. */
export class Client {
  private readonly base: string;
  private readonly transport: Transport;

  private readonly digest: string;
  readonly options: ClientOptions;

  constructor(base: string, digest: string, options: ClientOptions) {
    this.digest = digest;
    this.options = options;
    // In a browser a path alone is at the server of the page.
    if (!/^https?:\/\/[^/]/i.test(base) && !("location" in globalThis && (base === "" || base.startsWith("/")))) {
      const example = base === "" || base.includes("//") ? "127.0.0.1:8080" : base;
      throw new TypeError(`"${base}" is not the URL of a server; write, for example: http://${example}`);
    }
    this.base = base.replace(/\/+$/, "");
    let transport = options.transport ?? fetchTransport();
    for (const middleware of [...(options.middleware ?? [])].reverse()) {
      const next = transport;
      transport = (request) => middleware(request, { name: calls.get(request) ?? "" }, next);
    }
    this.transport = transport;
  }

  get items(): number {
    return this.options.answerItemLimit ?? wire.defaultBudget;
  }

  get encoding(): Encoding {
    return this.options.encoding ?? wire.usualEncoding;
  }

  get sequence(): string {
    return this.encoding === "json" ? web.jsonSequence : web.cborSequence;
  }

  /** How a call is made, and who watches it. */
  calling(name: string, options: CallOptions | undefined): Calling | undefined {
    const { watcher } = this.options;
    return watcher === undefined ? (options as Calling | undefined) : { ...options, watch: new Watch(watcher, name) };
  }

  /** Sends a call of one request and one answer. */
  async do<Q, A>(call: Call<Q, A>, message: Q, own: CallOptions | undefined): Promise<A> {
    const options = this.calling(call.name, own);
    const timeout = options?.timeout ?? this.options.timeout ?? 60_000;
    const patience = new Patience(timeout, options?.signal);
    try {
      const type = this.encoding === "json" ? web.jsonType : web.cborType;
      const request = await this.request(call, message, type, timeout, patience, options);
      const answer = await this.open(call, request, timeout, patience, options);
      if (answer.status === 304 && request.headers["if-none-match"] !== undefined) {
        throw new web.NotModified(call.name, answer.header("etag") ?? "");
      }
      return await this.read(call, answer, patience);
    } catch (problem) {
      options?.watch?.fail(problem);
      throw problem;
    } finally {
      patience.done();
      options?.watch?.end();
    }
  }

  /** Sends a request until it is answered, as often as it may be repeated. */
  async open<Q, A>(call: Call<Q, A>, request: OutgoingRequest, timeout: number, patience: Patience, options: Calling | undefined): Promise<IncomingAnswer> {
    const once = call.travel?.raw !== undefined && request.whole === undefined; // a stream can't be read again
    const tries = (call.safe || call.idempotent) && !once ? (this.options.tries ?? 4) : 1;
    const deadline = Date.now() + timeout;
    for (let attempt = 1; ; attempt++) {
      let wait = Math.random() * 100 * 2 ** Math.min(attempt, 6);
      try {
        const answer = await this.carried(request, call, patience, options);
        if (attempt >= tries || ![429, 502, 503, 504].includes(answer.status)) {
          return answer;
        }
        wait = retryAfter(answer.header("retry-after")) ?? wait;
        if (Date.now() + wait >= deadline) {
          return answer;
        }
        await patience.bound(web.readAll(answer.body, 65_536)); // so that the connection can be used again
      } catch (problem) {
        if (attempt >= tries || !isRepeatable(problem) || patience.aborted || Date.now() + wait >= deadline) {
          throw problem;
        }
      }
      try {
        await patience.pause(wait);
      } catch (cause) {
        throw noAnswer(call.name, patience, cause);
      }
    }
  }

  async carried(request: OutgoingRequest, call: Pick<Call<never, unknown>, "name">, patience: Patience, options: Calling | undefined): Promise<IncomingAnswer> {
    const sent = options?.watch?.leaving(request) ?? request;
    if ((this.options.middleware?.length ?? 0) > 0) {
      calls.set(sent, call.name);
    }
    let answer: IncomingAnswer;
    try {
      answer = await patience.bound(this.transport(sent));
    } catch (cause) {
      throw noAnswer(call.name, patience, cause);
    }
    answer = options?.watch?.arriving(answer) ?? answer;
    options?.answered?.(answer.status, (name) => answer.header(name.toLowerCase()));
    const theirs = answer.header("faithful-definitions");
    if (theirs !== null && theirs !== this.digest) {
      this.options.onDigest?.(theirs);
    }
    return answer;
  }

  /** Reads an answer that is not a stream. */
  async read<Q, A>(call: Call<Q, A>, answer: IncomingAnswer, patience: Patience): Promise<A> {
    let body: Uint8Array | undefined;
    try {
      body = await patience.bound(web.readAll(answer.body, this.options.answerLimit ?? 4 << 20));
    } catch (cause) {
      throw noAnswer(call.name, patience, cause);
    }
    const coding = answer.decoded === true ? null : answer.header("content-encoding");
    if (isGzip(coding) && body !== undefined) {
      try {
        body = await patience.bound(expanded(body, this.options.answerLimit ?? 4 << 20));
      } catch (cause) {
        throw patience.aborted ? noAnswer(call.name, patience, cause) : new web.BadAnswer(answer.status, "it is not whole gzip", { cause });
      }
    } else if (coding !== null && coding.toLowerCase() !== "identity") {
      throw new web.BadAnswer(answer.status, `its content coding is ${JSON.stringify(coding)}`);
    }
    if (body === undefined) {
      throw new web.BadAnswer(answer.status, "it is too large");
    }
    const type = web.mediaType(answer.header("content-type"));
    if (!web.succeeds(call, answer.status)) {
      if (type === web.problemType) {
        throw web.failure(call, answer.status, new TextDecoder().decode(body));
      }
      throw answer.status >= 400 ? web.bareProblem(answer.status, body) : new web.BadAnswer(answer.status, "it is not problem details");
    }
    if (call.answer === undefined || call.answerStream) {
      return undefined as A;
    }
    const travel = call.answerTravel;
    const inBody = travel === undefined ? (call.answer as wire.Codec<unknown>) : travel.body;
    let read: unknown;
    if (inBody !== undefined && travel !== undefined && body.length === 0) {
      read = this.decoded(answer.status, web.jsonType, new TextEncoder().encode("{}"), inBody); // as if all of it were absent
    } else if (inBody !== undefined) {
      read = this.decoded(answer.status, type, body, inBody);
    }
    if (travel === undefined) {
      return read as A;
    }
    return this.taken(travel, answer, read, undefined);
  }

  /** An answer of what came of it in the body, and of what came elsewhere. */
  taken<A>(travel: web.Travel<A>, answer: IncomingAnswer, read: unknown, raw: wire.Body | undefined): A {
    const args = new web.Arguments(travel.placed, (p) => received(answer, p));
    const whole = travel.take(args, read, raw);
    const [wrong] = args.violations;
    if (wrong !== undefined) {
      throw new web.BadAnswer(answer.status, `${wrong.pointer} in its ${wrong.in ?? "body"} ${wrong.detail}`);
    }
    return whole;
  }

  /** Reads a body of an answer. */
  private decoded<T>(status: number, type: string, body: Uint8Array, codec: wire.Codec<T>): T {
    if (type !== web.cborType && type !== web.jsonType) {
      throw new web.BadAnswer(status, type === "" && body.length === 0 ? "it has no body" : `its type is ${JSON.stringify(type)}`);
    }
    try {
      return web.decode(type, body, codec, this.options.answerItemLimit);
    } catch (cause) {
      throw new web.BadAnswer(status, String(cause), { cause });
    }
  }

  async request<Q, A>(call: Call<Q, A>, message: Q, accept: string, timeout: number | undefined, patience: Patience, options: Calling | undefined, head?: unknown): Promise<OutgoingRequest> {
    if (inBrowser() && web.isRedirect(call.status)) {
      throw new TypeError(`${call.name} is answered with a redirect, which browsers hide from scripts: let the page go there itself`);
    }
    const parameters = new web.Parameters();
    const headers: Record<string, string> = {};
    for (const [name, value] of [...Object.entries(this.options.headers ?? {}), ...Object.entries(options?.headers ?? {})]) {
      headers[name.toLowerCase()] = value;
    }
    headers["accept"] = accept;
    if (this.options.compression === true && !inBrowser()) {
      headers["accept-encoding"] = "gzip";
    }
    let body: Uint8Array<ArrayBuffer> | undefined;
    if (call.head !== undefined) {
      placed(call.name, call.head.codec, call.head.travel, head, parameters);
    } else if (call.request !== undefined && !call.requestStream) {
      const { travel } = call;
      const type = this.encoding === "json" ? web.jsonType : web.cborType;
      body = placed(call.name, call.request, travel, message, parameters, (codec) => {
        if (travel === undefined) {
          return web.encode(type, message, codec as wire.Codec<Q>);
        }
        return travel.body && web.encode(type, travel.bodyOf(message), travel.body);
      });
      if (body !== undefined) {
        headers["content-type"] = type;
        if (this.options.compression === true && body.length > compressedFrom) {
          body = await compressed(body);
          headers["content-encoding"] = "gzip";
        }
      }
    }
    if (call.needs.length > 0) {
      await this.present(call, headers, parameters, patience, options);
    }
    Object.assign(headers, parameters.headers);
    if (parameters.cookies.length > 0 && !inBrowser()) {
      headers["cookie"] = parameters.cookies.map(([name, value]) => `${name}=${value}`).join("; ");
    }
    if (timeout !== undefined && timeout <= 2 ** 31 - 1 && (this.options.prefer ?? !inBrowser())) {
      headers["prefer"] = `wait=${String(Math.max(1, Math.ceil(timeout / 1000)))}`; // RFC 7240, section 4.3
    }
    if (options?.trace !== undefined) {
      headers["traceparent"] = options.trace.traceparent;
      if (options.trace.tracestate !== undefined) {
        headers["tracestate"] = options.trace.tracestate;
      }
    }
    for (const [name, value] of Object.entries(options?.watch?.headers ?? {})) {
      headers[name.toLowerCase()] = value;
    }
    let path = call.path;
    for (const [name, value] of parameters.paths) {
      path = path.replace(`{${name}}`, () => value);
    }
    const query = parameters.queries.length > 0 ? `?${parameters.queries.join("&")}` : "";
    return {
      method: call.method,
      url: this.base + path + query,
      headers,
      body,
      cookies: call.needs.some((all) => all.some(({ kind }) => kind === "cookie")) || web.inCookies(call),
      get signal() {
        return patience.signal;
      },
      whenAborted: (act) => {
        patience.whenAborted(act);
      },
    };
  }

  /** Puts the first alternative that the client can fill into a request. */
  private async present(call: Pick<Call<never, unknown>, "name" | "needs">, headers: Record<string, string>, parameters: web.Parameters, patience: Patience, options: CallOptions | undefined): Promise<void> {
    const given = [...Object.entries(options?.credentials ?? {}), ...Object.entries(this.options.credentials ?? {})];
    const source = (credential: Credential): CredentialSource | undefined => given.find(([name]) => web.isNamed(credential.name, name))?.[1];
    const kept = (credential: Credential): boolean => credential.kind === "cookie" && inBrowser();
    const all = call.needs.find((alternative) => alternative.every((credential) => source(credential) !== undefined || kept(credential)));
    if (all === undefined) {
      const text = call.needs.map((alternative) => alternative.map(({ name }) => name.split(".").pop() ?? "").join(" + ") || "nothing").join(" | ");
      throw new web.MissingCredential(call.name, text, given.map(([name]) => name));
    }
    for (const credential of all.filter((one) => !kept(one))) {
      const from = source(credential) ?? "";
      let value: string;
      try {
        value = typeof from === "string" ? from : await patience.bound(from());
      } catch (cause) {
        throw patience.aborted ? new web.Unreachable(`${call.name}: the credential ${credential.name} was not there in time`, patience.timedOut ? "timed out" : "cancelled", { cause }) : cause;
      }
      if (credential.kind !== "query" && credential.kind !== "basic" && /[^\u0020-\u007e\u0080-\u00ff]/.test(value)) {
        throw new TypeError(`the credential ${credential.name} has characters in it that no header can contain`); // and is not shown
      }
      switch (credential.kind) {
        case "header":
          headers[credential.key.toLowerCase()] = value;
          break;
        case "query":
          parameters.query(credential.key, value);
          break;
        case "cookie":
          parameters.cookies.push([credential.key, value]);
          break;
        case "bearer":
          headers["authorization"] = `Bearer ${value}`;
          break;
        case "basic": {
          const bytes = new TextEncoder().encode(value);
          headers["authorization"] = `Basic ${btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""))}`;
        }
      }
    }
  }
}

/** Puts what of a message travels outside of the body where it belongs, and returns what write makes of the rest. */
function placed<T>(call: string, codec: wire.Checks<T>, travel: web.Travel<T> | undefined, message: T, parameters: web.Parameters, write?: (codec: wire.Checks<T>) => Uint8Array<ArrayBuffer> | undefined): Uint8Array<ArrayBuffer> | undefined {
  try {
    travel?.place(message, parameters);
    const violations = [...web.locate(wire.validate(codec, message), travel?.placed ?? []), ...parameters.violations];
    if (violations.length > 0) {
      throw new web.InvalidRequest(call, violations);
    }
    return write?.(codec);
  } catch (problem) {
    // A value out of its type's range is a violation, too.
    throw problem instanceof wire.WireError ? new web.InvalidRequest(call, [{ pointer: problem.path, detail: problem.detail }], { cause: problem }) : problem;
  }
}

/** Which call each request is of, for middleware. */
const calls = new WeakMap<OutgoingRequest, string>();

/** Where a client finds what travels outside of an answer's body. */
function received(answer: IncomingAnswer, p: web.Placed): readonly string[] {
  if (p.in === "header") {
    const value = answer.header(p.parameter.toLowerCase());
    return value === null ? [] : [value];
  }
  const set = [...(answer.cookies?.() ?? [])].reverse().find((cookie) => cookie.startsWith(`${p.parameter}=`)); // the last one is the one that is kept
  return set === undefined ? [] : [set.slice(p.parameter.length + 1).split(";", 1)[0]?.trim() ?? ""];
}

/** A message that the definitions allow, or a refusal. */
export function checked<Q>(call: Call<Q, unknown>, message: Q): Q {
  const violations = call.request === undefined ? [] : wire.validate(call.request, message);
  if (violations.length > 0) {
    throw new web.InvalidRequest(call.name, violations);
  }
  return message;
}

/** Chunks that come in time. Only waiting for them counts as silence, not what is done with them. */
export async function* listened(chunks: AsyncIterable<Uint8Array>, patience: Patience, idle: number): AsyncGenerator<Uint8Array> {
  const iterator = chunks[Symbol.asyncIterator]();
  let done = false;
  try {
    for (;;) {
      patience.wait(idle);
      const next = await patience.bound(iterator.next());
      patience.rest();
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

/** What Retry-After says, in milliseconds. */
function retryAfter(header: string | null): number | undefined {
  if (header === null) {
    return undefined;
  }
  const at = /^\d+$/.test(header) ? Date.now() + Number(header) * 1000 : Date.parse(header);
  return Number.isNaN(at) ? undefined : Math.max(0, at - Date.now());
}

/** A refused connection, or a kept-alive one that was closed before it answered. */
function isRepeatable(problem: unknown): boolean {
  const code = codeOf(problem);
  return code === "ECONNREFUSED" || code === "ECONNRESET" || code === "EPIPE" || code === "UND_ERR_SOCKET";
}

/** What Node calls a failure of the network; undefined where nobody says, as in browsers. */
function codeOf(problem: unknown): unknown {
  for (let cause: unknown = problem; cause instanceof Error; cause = cause.cause) {
    const { code } = cause as { code?: unknown };
    if (typeof code === "string") {
      return code;
    }
  }
  return undefined;
}

/** The error of a call without an answer. */
export function noAnswer(call: string, patience: Patience, cause: unknown): web.Unreachable {
  const code = codeOf(cause);
  const unconnected = code === "ECONNREFUSED" || code === "ENOTFOUND" || code === "EAI_AGAIN" || code === "EHOSTUNREACH" || (code === undefined && cause instanceof TypeError);
  const reason = patience.aborted ? (patience.timedOut ? "timed out" : "cancelled") : unconnected ? "refused" : "lost";
  return new web.Unreachable(`${call}: no answer, ${reason}: ${cause instanceof Error ? cause.message : String(cause)}`, reason, { cause });
}

