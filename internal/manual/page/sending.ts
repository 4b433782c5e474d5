/** Sends what somebody filled in: from the server's own pages with the client of the stubs, else through faithful manual --serve. */

import { callOf, Declared, outgoing } from "./calling.js";
import type { Filled, Outgoing, Taken } from "./calling.js";
import { Checker } from "./checking.js";
import type { Wrong } from "./checking.js";
import type { Copy } from "./copies.js";
import type { CallModel, CredentialModel, Model } from "./model.js";
import { browserSocket } from "../../stubs/typescript/support/client_sockets.js";
import { Client, fetchTransport, Patience } from "../../stubs/typescript/support/client.js";
import { exchange } from "../../stubs/typescript/support/client_bodies.js";
import { converse } from "../../stubs/typescript/support/client_sockets.js";
import { receive } from "../../stubs/typescript/support/client_streams.js";
import { ElementWriter, Queue } from "../../stubs/typescript/support/stream.js";
import * as web from "../../stubs/typescript/support/web.js";
import * as wire from "../../stubs/typescript/support/wire.js";

/** What comes of a call, in the order in which it comes. */
export type Outcome =
  | { readonly kind: "head"; readonly status: number; readonly headers: readonly (readonly [string, string])[] }
  | { readonly kind: "value"; readonly text: string; readonly wrong: readonly Wrong[] }
  | { readonly kind: "raw"; readonly content: Blob }
  | { readonly kind: "declared"; readonly name: string; readonly status: number; readonly text: string }
  | {
      readonly kind: "problem";
      readonly problem: string;
      readonly status: number;
      readonly title: string;
      readonly detail: string;
      readonly violations: readonly (Wrong & { readonly in?: string })[];
    }
  | { readonly kind: "refused"; readonly violations: readonly Wrong[] }
  | { readonly kind: "failed"; readonly words: string }
  | { readonly kind: "end"; readonly milliseconds: number; readonly bytes: number };

/** A call that is under way. */
export interface Sent {
  /** Sends another element. */
  next(text: string): void;
  /** Says that no more elements follow. */
  finish(): void;
  stop(): void;
  readonly over: Promise<void>;
}

export interface Sender {
  /** Why a call can't be sent from here; undefined where it can. */
  refuses(call: CallModel): string | undefined;
  /** Whether a credential is not typed, but kept by the browser. */
  keeps(credential: CredentialModel): boolean;
  /** What is different when a call is sent from here. */
  notes(call: CallModel): string | undefined;
  send(model: Model, call: CallModel, filled: Filled, emit: (event: Outcome) => void): Sent;
  /** The call as a program of each language; undefined where nobody can tell. */
  code(call: CallModel, filled: Filled): Promise<readonly Copy[] | undefined>;
}

/** Sends to the server that the page is from. */
export class Own implements Sender {
  private readonly base: string;

  constructor(base: string) {
    this.base = base;
  }

  refuses(call: CallModel): string | undefined {
    if (web.isRedirect(call.status)) {
      return "It is answered with a redirect, which browsers hide from scripts.";
    }
    const typed = (kind: string): boolean =>
      call.needs.length > 0 && call.needs.every((all) => all.some((one) => one.kind === kind));
    if (call.sends === true && call.receives === true) {
      if (typed("bearer") || typed("basic") || typed("header")) {
        return "Its credential travels in a header, which browsers can't send with a WebSocket.";
      }
      if (call.places.some(({ place }) => place === "header")) {
        return "A field of it travels in a header, which browsers can't send with a WebSocket.";
      }
    }
    return undefined;
  }

  keeps({ kind }: CredentialModel): boolean {
    return kind === "cookie";
  }

  notes(call: CallModel): string | undefined {
    return call.places.some(({ place }) => place === "cookie") ||
      call.needs.some((all) => all.some(({ kind }) => kind === "cookie"))
      ? "What travels in a cookie is what this browser keeps for the server, not what is typed here."
      : undefined;
  }

  send(model: Model, call: CallModel, filled: Filled, emit: (event: Outcome) => void): Sent {
    const stopped = new AbortController();
    const elements = new Queue<string>();
    const over = this.run(model, call, filled, emit, elements, stopped.signal);
    return {
      next(text) {
        elements.push(text);
      },
      finish() {
        elements.end(undefined);
      },
      stop() {
        stopped.abort(new DOMException("stopped", "AbortError"));
        elements.end(undefined);
      },
      over,
    };
  }

  code(): Promise<undefined> {
    return Promise.resolve(undefined);
  }

  private async run(
    model: Model,
    call: CallModel,
    filled: Filled,
    emit: (event: Outcome) => void,
    elements: Queue<string>,
    signal: AbortSignal,
  ): Promise<void> {
    const checker = new Checker(model);
    const known = callOf(call, checker, filled.unchecked);
    const pace = new Pace();
    let bytes = 0;
    const begin = performance.now();
    const client = new Client(this.base, model.digest, {
      encoding: "json",
      tries: 1,
      answerLimit: 64 << 20,
      elementLimit: 8 << 20,
      credentials: Object.fromEntries(filled.credentials),
      socket: browserSocket,
      transport: fetchTransport(async (request) => {
        const response = await fetch(request);
        emit({ kind: "head", status: response.status, headers: [...response.headers] });
        return response;
      }),
      watcher: () => (watched) => {
        bytes = watched.received;
      },
    });
    try {
      const sent = async function* (): AsyncGenerator<Outgoing> {
        for await (const text of elements) {
          yield outgoing(text, undefined);
        }
      };
      const head = call.head === undefined ? undefined : outgoing(filled.head, undefined);
      const request =
        call.request === undefined || call.sends === true
          ? (undefined as unknown as Outgoing)
          : outgoing(filled.request, filled.raw);
      if (call.sends === true && call.receives === true) {
        for await (const element of converse(client, known, sent(), { signal }, head)) {
          emit({ kind: "value", text: element.text, wrong: element.wrong });
          await pace.rest();
        }
      } else if (call.sends === true) {
        await this.collected(client, known, sent(), head, signal, emit);
      } else if (call.receives === true) {
        for await (const element of receive(client, known, request, { signal })) {
          emit({ kind: "value", text: element.text, wrong: element.wrong });
          await pace.rest();
        }
      } else if (call.raw !== undefined || call.answerRaw !== undefined) {
        await taken(await exchange(client, known, request, { signal }), emit);
      } else {
        await taken(await client.do(known, request, { signal }), emit);
      }
    } catch (problem) {
      emit(outcomeOf(problem, signal.aborted));
    }
    emit({ kind: "end", milliseconds: performance.now() - begin, bytes });
  }

  /** Browsers send no stream as it comes: all elements are sent at once. */
  private async collected(
    client: Client,
    call: web.Call<Outgoing, Taken>,
    elements: AsyncIterable<Outgoing>,
    head: Outgoing | undefined,
    signal: AbortSignal,
    emit: (event: Outcome) => void,
  ): Promise<void> {
    const writer = new ElementWriter<Outgoing>("json", call.request as wire.Codec<Outgoing>, true, 8 << 20);
    const parts: Uint8Array[] = [];
    for await (const element of elements) {
      const violations = wire.validate(call.request as wire.Codec<Outgoing>, element);
      if (violations.length > 0) {
        throw new web.InvalidRequest(call.name, violations);
      }
      parts.push(writer.value(element).slice());
    }
    if (signal.aborted) {
      throw signal.reason;
    }
    parts.push(writer.end().slice());
    const body = web.joined(
      parts,
      parts.reduce((total, part) => total + part.length, 0),
    ) as Uint8Array<ArrayBuffer>;
    const patience = new Patience(60_000, signal);
    try {
      const request = await client.request(
        call,
        undefined as unknown as Outgoing,
        web.jsonType,
        undefined,
        patience,
        undefined,
        head,
      );
      const answer = await client.carried(
        { ...request, headers: { ...request.headers, "content-type": web.jsonSequence }, body },
        call,
        patience,
        undefined,
      );
      await taken(await client.read(call, answer, patience), emit);
    } finally {
      patience.done();
    }
  }
}

async function taken(answer: Taken | undefined, emit: (event: Outcome) => void): Promise<void> {
  if (answer === undefined) {
    return;
  }
  if (answer.text !== "{}" || answer.raw === undefined) {
    emit({ kind: "value", text: answer.text, wrong: answer.wrong });
  }
  if (answer.raw !== undefined) {
    emit({ kind: "raw", content: await answer.raw.blob() });
  }
}

function outcomeOf(problem: unknown, stopped: boolean): Outcome {
  if (problem instanceof Declared) {
    return { kind: "declared", name: problem.full, status: problem.code, text: problem.text };
  }
  if (problem instanceof web.Problem) {
    return {
      kind: "problem",
      problem: problem.problem,
      status: problem.status,
      title: problem.title,
      detail: problem.detail,
      violations: problem.violations,
    };
  }
  if (problem instanceof web.InvalidRequest) {
    return { kind: "refused", violations: problem.violations };
  }
  return { kind: "failed", words: stopped ? "Stopped." : problem instanceof Error ? problem.message : String(problem) };
}

/** Hands requests to the program that serves the pages. */
export class Relay implements Sender {
  private readonly to: string;
  private readonly secret: string;

  constructor(to: string, secret: string) {
    this.to = to;
    this.secret = secret;
  }

  refuses(): undefined {
    return undefined;
  }

  keeps(): boolean {
    return false;
  }

  notes(): undefined {
    return undefined;
  }

  async code(call: CallModel, filled: Filled): Promise<readonly Copy[] | undefined> {
    const first = { call: call.full, head: filled.head, request: filled.request };
    const response = await fetch(`${this.to}?code`, {
      method: "POST",
      headers: { "Content-Type": "application/octet-stream", "Faithful-Manual": this.secret },
      body: `${JSON.stringify(first)}\n`,
    });
    return response.ok ? ((await response.json()) as Copy[]) : undefined;
  }

  send(_: Model, call: CallModel, filled: Filled, emit: (event: Outcome) => void): Sent {
    const stopped = new AbortController();
    let known: (id: string) => void = () => undefined;
    const opened = new Promise<string>((resolve) => {
      known = resolve;
    });
    const post = (query: string, body: BodyInit): Promise<Response> =>
      fetch(this.to + query, {
        method: "POST",
        headers: { "Content-Type": "application/octet-stream", "Faithful-Manual": this.secret },
        body,
        signal: stopped.signal,
      });
    let last: Promise<unknown> = opened;
    const after = (query: (id: string) => string, body: string): void => {
      const id = opened;
      last = last.then(async () => post(query(await id), body)).catch(() => undefined); // the stream of events says why
    };
    const run = async (): Promise<void> => {
      const first = {
        call: call.full,
        head: filled.head,
        request: call.sends === true || call.request === undefined ? "" : filled.request,
        mediaType: filled.mediaType,
        credentials: Object.fromEntries(filled.credentials),
        unchecked: filled.unchecked,
        raw: filled.raw !== undefined,
      };
      try {
        const response = await post("", new Blob([`${JSON.stringify(first)}\n`, filled.raw ?? ""]));
        if (!response.ok || response.body === null) {
          throw new Error(`faithful manual answers ${String(response.status)}: ${await response.text()}`);
        }
        const pace = new Pace();
        const raw: BlobPart[] = [];
        let rawType: string | undefined;
        for await (const line of lines(response.body)) {
          const event = JSON.parse(line) as
            Line | { kind: "open"; id: string } | { kind: "type"; type: string } | { kind: "chunk"; base64: string };
          if (event.kind === "open") {
            known(event.id);
          } else if (event.kind === "type") {
            rawType = event.type;
          } else if (event.kind === "chunk") {
            raw.push((wire.fromBase64(event.base64) ?? new Uint8Array()) as Uint8Array<ArrayBuffer>);
          } else {
            if (event.kind === "end" && rawType !== undefined) {
              emit({ kind: "raw", content: new Blob(raw, { type: rawType }) });
            }
            emit(completed(event));
          }
          await pace.rest();
        }
      } catch (problem) {
        emit({
          kind: "failed",
          words: stopped.signal.aborted
            ? "Stopped."
            : `There is no answer from faithful manual: ${problem instanceof Error ? problem.message : String(problem)}`,
        });
        emit({ kind: "end", milliseconds: NaN, bytes: 0 });
      }
      known("");
    };
    return {
      next(text) {
        after((id) => `?element=${id}`, text);
      },
      finish() {
        after((id) => `?end=${id}`, "");
      },
      stop() {
        stopped.abort();
      },
      over: run(),
    };
  }
}

/** Leaves the page time to be used while much comes: who sends it has to wait. */
class Pace {
  private since = performance.now();

  async rest(): Promise<void> {
    if (performance.now() - this.since > 20) {
      await new Promise((resolve) => setTimeout(resolve, 10));
      this.since = performance.now();
    }
  }
}

/** What comes of a call as a line, which leaves out what is empty. */
type Line = {
  readonly [kind in Outcome["kind"]]: { readonly kind: kind } & Partial<Extract<Outcome, { readonly kind: kind }>>;
}[Outcome["kind"]];

/** What came as a line, with what it leaves out. */
function completed(line: Line): Outcome {
  switch (line.kind) {
    case "head":
      return { kind: "head", status: line.status ?? 0, headers: line.headers ?? [] };
    case "value":
      return { kind: "value", text: line.text ?? "null", wrong: line.wrong ?? [] };
    case "raw":
      return { kind: "raw", content: line.content ?? new Blob([]) };
    case "declared":
      return { kind: "declared", name: line.name ?? "", status: line.status ?? 0, text: line.text ?? "{}" };
    case "problem":
      return {
        kind: "problem",
        problem: line.problem ?? "",
        status: line.status ?? 0,
        title: line.title ?? "",
        detail: line.detail ?? "",
        violations: line.violations ?? [],
      };
    case "refused":
      return { kind: "refused", violations: line.violations ?? [] };
    case "failed":
      return { kind: "failed", words: line.words ?? "" };
    case "end":
      return { kind: "end", milliseconds: line.milliseconds ?? 0, bytes: line.bytes ?? 0 };
  }
}

async function* lines(body: ReadableStream<Uint8Array>): AsyncGenerator<string> {
  const reader = body
    .pipeThrough(new TextDecoderStream() as unknown as ReadableWritablePair<string, Uint8Array>)
    .getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) {
      return;
    }
    const parts = (rest + value).split("\n");
    rest = parts.pop() ?? "";
    yield* parts;
  }
}
