/** Calls that send a body as it is, or are answered with one. */

import { inBrowser, listened, noAnswer, Patience } from "./client.js";
import type { CallOptions, Calling, Client, OutgoingRequest } from "./client.js";
import * as web from "./web.js";
import type { Call } from "./web.js";
import * as wire from "./wire.js";

/** Sends a call that sends or answers a body as it is: it is idleness that has a limit. */
export async function exchange<Q, A>(client: Client, call: Call<Q, A>, message: Q, own: CallOptions | undefined): Promise<A> {
  const options = client.calling(call.name, own);
  const timeout = options?.timeout ?? client.options.timeout ?? 60_000;
  const patience = new Patience(timeout, options?.signal);
  const idle = client.options.idleTimeout ?? 60_000;
  const down = call.answerTravel;
  let reading = false;
  try {
    const type = client.encoding === "json" ? web.jsonType : web.cborType;
    const request = withRaw(call, message, await client.request(call, message, type, undefined, patience, options), patience, idle, timeout);
    const answer = await client.open(call, request, timeout, patience, options);
    patience.wait(timeout);
    if (answer.status === 304 && request.headers["if-none-match"] !== undefined) {
      throw new web.NotModified(call.name, answer.header("etag") ?? "");
    }
    if (down?.raw === undefined || !web.succeeds(call, answer.status)) {
      return await client.read(call, answer, patience);
    }
    const length = answer.header("content-length");
    const chunks = coming(call, listened(answer.body, patience, idle), patience, options);
    const onCancel = (): void => {
      patience.done();
      patience.abort(new Error("nobody reads it any more"));
      options?.watch?.end();
    };
    const body = new wire.Body(chunks, { mediaType: answer.header("content-type") ?? "", size: length === null ? undefined : Number(length), onCancel });
    const whole = client.taken(down, answer, undefined, body);
    patience.rest();
    reading = true;
    return whole;
  } catch (problem) {
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    if (!reading) {
      patience.done();
      options?.watch?.end();
    }
  }
}

/** The same request with a body as it is. */
function withRaw<Q>(call: Call<Q, unknown>, message: Q, request: OutgoingRequest, patience: Patience, idle: number, timeout: number): OutgoingRequest {
  const raw = call.travel?.raw;
  if (raw === undefined) {
    return request;
  }
  const body = raw.of(message);
  const { source } = body;
  const whole = source instanceof Blob || source instanceof Uint8Array ? source : undefined;
  if (inBrowser() && whole === undefined) {
    throw new TypeError(`${call.name} takes a body, and browsers can't send a stream: give a Blob or bytes`);
  }
  // Only waiting for the server counts as its silence, not waiting for what is sent.
  const chunks: AsyncIterable<Uint8Array<ArrayBuffer>> = {
    async *[Symbol.asyncIterator]() {
      patience.rest();
      for await (const chunk of body) {
        patience.wait(idle);
        yield chunk as Uint8Array<ArrayBuffer>;
        patience.rest();
      }
      patience.wait(timeout);
    },
  };
  const headers = { ...request.headers, "content-type": wire.sentType(raw.bounds, body.mediaType) };
  return {
    method: request.method,
    url: request.url,
    headers,
    body: chunks,
    ...(request.cookies === undefined ? {} : { cookies: request.cookies }),
    ...(whole === undefined ? {} : { whole }),
    ...(body.size === undefined ? {} : { size: body.size }),
    get signal() {
      return patience.signal;
    },
    whenAborted: (act) => {
      patience.whenAborted(act);
    },
  };
}

/** The body of an answer, as its caller reads it. */
async function* coming(call: Pick<Call<never, unknown>, "name">, chunks: AsyncIterable<Uint8Array>, patience: Patience, options: Calling | undefined): AsyncGenerator<Uint8Array> {
  try {
    yield* chunks;
  } catch (cause) {
    const problem = noAnswer(call.name, patience, cause);
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    patience.done();
    patience.abort(undefined); // a reader that stops early lets go of the connection
    options?.watch?.end();
  }
}
