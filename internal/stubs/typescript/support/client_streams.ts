/** Calls that send a stream, or are answered with one. */

import { checked, inBrowser, listened, Patience } from "./client.js";
import type { CallOptions, Calling, Client } from "./client.js";
import { BadElement, ElementWriter, elements, Lost, withHeartbeats } from "./stream.js";
import type { Element } from "./stream.js";
import * as web from "./web.js";
import type { Call } from "./web.js";
import * as wire from "./wire.js";

/** Sends a call that is answered by a stream, each time that it is iterated over. */
export async function* receive<Q, A>(client: Client, call: Call<Q, A>, message: Q, own: CallOptions | undefined): AsyncGenerator<A, void, undefined> {
  const options = client.calling(call.name, own);
  const timeout = options?.timeout ?? client.options.timeout ?? 60_000;
  const patience = new Patience(timeout, options?.signal);
  try {
    const request = await client.request(call, message, client.sequence, undefined, patience, options);
    const answer = await client.open(call, request, timeout, patience, options);
    const type = web.mediaType(answer.header("content-type"));
    if (!web.succeeds(call, answer.status)) {
      await client.read(call, answer, patience);
      return;
    }
    if (type !== web.cborSequence && type !== web.jsonSequence) {
      throw new web.BadAnswer(answer.status, `its type is ${JSON.stringify(type)}`);
    }
    const idle = client.options.idleTimeout ?? 60_000;
    patience.rest();
    const encoding = type === web.jsonSequence ? "json" : "cbor";
    const codec = call.answer as wire.Codec<A>;
    yield* values(call, answer.status, elements(listened(answer.body, patience, idle), encoding, codec, client.options.elementLimit ?? 1 << 20, client.items));
  } catch (problem) {
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    patience.done();
    patience.abort(undefined); // a reader that stops early lets go of the connection
    options?.watch?.end();
  }
}

export async function* values<A>(call: Pick<Call<never, A>, "name" | "fails">, status: number, all: AsyncIterable<Element<A>>): AsyncGenerator<A, void, undefined> {
  let problem: Error | undefined;
  try {
    for await (const element of all) {
      if (typeof element !== "object") {
        continue;
      }
      if ("problem" in element) {
        problem = web.failure(call, status, element.problem);
      } else {
        yield element.value;
      }
    }
  } catch (cause) {
    if (cause instanceof BadElement || cause instanceof wire.WireError) {
      throw new web.BadAnswer(status, cause.message, { cause });
    }
    if (cause instanceof Lost) {
      throw new web.Unreachable(`${call.name}: ${cause.message}`, "lost", { cause });
    }
    throw cause;
  }
  if (problem !== undefined) {
    throw problem;
  }
}

/** Sends a call whose request is a stream. */
export async function send<Q, A>(client: Client, call: Call<Q, A>, messages: AsyncIterable<Q> | Iterable<Q>, own: CallOptions | undefined, head?: unknown): Promise<A> {
  const options = client.calling(call.name, own);
  try {
    return await upload(client, call, messages, options, head);
  } catch (problem) {
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    options?.watch?.end();
  }
}

async function upload<Q, A>(client: Client, call: Call<Q, A>, messages: AsyncIterable<Q> | Iterable<Q>, options: Calling | undefined, head: unknown): Promise<A> {
  if (inBrowser()) {
    throw new TypeError(`${call.name} takes a stream, which browsers can't send: send it from a server, or declare a call that takes a list`);
  }
  const patience = new Patience(Infinity, options?.signal);
  const writer = new ElementWriter(client.encoding, call.request as wire.Codec<Q>, true, client.options.elementLimit ?? 1 << 20);
  let refused: unknown;
  const timeout = options?.timeout ?? client.options.timeout ?? 60_000;
  const body = async function* (): AsyncGenerator<Uint8Array<ArrayBuffer>> {
    try {
      for await (const message of messages) {
        yield writer.value(checked(call, message));
      }
    } catch (problem) {
      refused = problem;
      throw problem; // breaks the connection: half a stream must not look whole
    }
    patience.wait(timeout);
    yield writer.end();
  };
  try {
    const request = await client.request(call, undefined as Q, client.encoding === "json" ? web.jsonType : web.cborType, undefined, patience, options, head);
    const answer = await client.carried({ ...request, headers: { ...request.headers, "content-type": client.sequence }, body: withHeartbeats(body(), writer.heartbeat(), 15_000) }, call, patience, options);
    return await client.read(call, answer, patience);
  } catch (problem) {
    // What the caller's own messages failed with says more than what came of it.
    throw refused ?? problem;
  } finally {
    patience.done();
  }
}

/** Makes each item of a sequence into another. */
export async function* mapped<T, U>(items: AsyncIterable<T> | Iterable<T>, make: (item: T) => U): AsyncGenerator<U> {
  for await (const item of items) {
    yield make(item);
  }
}
