/** Calls that stream both ways. */

import { checked, inBrowser, listened, noAnswer, Patience } from "./client.js";
import type { CallOptions, Calling, Client, OutgoingRequest, Socket, SocketTransport } from "./client.js";
import { values } from "./client_streams.js";
import { ElementWriter, Lost, Queue, readElement, withHeartbeats, within } from "./stream.js";
import type { Element } from "./stream.js";
import * as web from "./web.js";
import type { Call } from "./web.js";
import * as wire from "./wire.js";

/** Sends a call that streams both ways. */
export async function* converse<Q, A>(client: Client, call: Call<Q, A>, messages: AsyncIterable<Q> | Iterable<Q>, own: CallOptions | undefined, head?: unknown): AsyncGenerator<A, void, undefined> {
  const options = client.calling(call.name, own);
  try {
    yield* conversation(client, call, messages, options, head);
  } catch (problem) {
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    options?.watch?.end();
  }
}

async function* conversation<Q, A>(client: Client, call: Call<Q, A>, messages: AsyncIterable<Q> | Iterable<Q>, options: Calling | undefined, head: unknown): AsyncGenerator<A, void, undefined> {
  const unsendable = inBrowser() ? call.head?.travel.placed.find((p) => p.in === "header") : undefined;
  if (unsendable !== undefined) {
    throw new TypeError(`${call.name} takes ${JSON.stringify(unsendable.name)} in a header, which browsers can't send with a WebSocket: let it travel in the query`);
  }
  const open = client.options.socket;
  if (open === undefined) {
    throw new web.Unreachable(`${call.name} streams both ways: give the client a socket, such as nodeSocket or browserSocket`, "refused");
  }
  const timeout = options?.timeout ?? client.options.timeout ?? 60_000;
  const idle = client.options.idleTimeout ?? 60_000;
  const patience = new Patience(timeout, options?.signal);
  const limit = client.options.elementLimit ?? 1 << 20;
  const writer = new ElementWriter(client.encoding, call.request as wire.Codec<Q>, false, limit);
  let request: OutgoingRequest;
  try {
    request = await client.request(call, undefined as Q, web.jsonType, undefined, patience, options, head);
  } catch (problem) {
    patience.done();
    throw problem;
  }
  const protocol = client.encoding === "json" ? "faithful-json" : "faithful-cbor";
  let socket: Socket;
  const refused = (status: number, body: string): Error => {
    options?.watch?.upgraded(status);
    return web.failure(call, status, body);
  };
  try {
    options?.watch?.upgraded(0);
    socket = await patience.bound(open({ ...request, url: request.url.replace(/^http/, "ws"), elementLimit: limit, idleTimeout: idle }, protocol, refused));
    options?.watch?.upgraded(101);
  } catch (cause) {
    patience.done();
    if (cause instanceof web.Problem || cause instanceof wire.DeclaredError || cause instanceof web.BadAnswer) {
      throw cause;
    }
    throw noAnswer(call.name, patience, cause);
  }
  const text = new TextDecoder();
  /** Sends an element; where that fails, the receiving side says so. */
  const put = (element: Uint8Array<ArrayBuffer>): Promise<boolean> => {
    options?.watch?.element(0, element.length);
    return socket.send(client.encoding === "json" ? text.decode(element) : element).then(
      () => true,
      () => false,
    );
  };
  patience.rest();
  const { items } = client;
  let ours = false as boolean;
  let theirs = false as boolean;
  let closed = false as boolean;
  const abandon = (): void => {
    closed = true;
    socket.close(1001);
  };
  patience.signal.addEventListener("abort", abandon, { once: true });
  let failed: { readonly problem: unknown } | undefined;
  const iterator = withHeartbeats(
    (async function* (): AsyncGenerator<Uint8Array<ArrayBuffer>> {
      for await (const message of messages) {
        yield writer.value(checked(call, message));
      }
      yield writer.end();
    })(),
    writer.heartbeat(),
    15_000,
  );
  const sending = (async (): Promise<void> => {
    try {
      for await (const element of iterator) {
        if (closed || !(await put(element))) {
          return;
        }
      }
      ours = true;
    } catch (problem) {
      if (!closed && !theirs) {
        failed = { problem };
        abandon();
      }
    }
  })();
  const received = async function* (): AsyncGenerator<Element<A>> {
    try {
      for await (const message of listened(socket.messages, patience, idle)) {
        options?.watch?.element(message.length, 0);
        const element = readElement(message, protocol === "faithful-json" ? "json" : "cbor", call.answer as wire.Codec<A>, items);
        theirs = element === "end" || (typeof element === "object" && "problem" in element);
        yield element;
        if (theirs) {
          return;
        }
      }
    } catch (cause) {
      if (cause instanceof wire.WireError) {
        throw cause;
      }
      throw new Lost({ cause });
    }
    throw new Lost();
  };
  try {
    yield* values(call, 101, received());
    // Both have to know that nothing was lost.
    await within(sending, idle);
  } catch (cause) {
    const problem = failed === undefined ? cause : failed.problem;
    options?.watch?.fail(problem);
    throw problem;
  } finally {
    patience.done();
    patience.signal.removeEventListener("abort", abandon);
    const whole = ours && theirs;
    if (!whole) {
      options?.watch?.fail(new web.Unreachable(`${call.name}: it was given up`, "cancelled")); // unless it has failed before
    }
    closed = true;
    socket.close(whole ? 1000 : 1001);
  }
}

/** Opens the WebSocket of a browser. Only credentials in cookies and the query can travel with it. */
export const browserSocket: SocketTransport = async (request, protocol) => {
  const socket = new WebSocket(request.url, protocol);
  socket.binaryType = "arraybuffer";
  const abort = (): void => {
    socket.close();
  };
  if (request.signal.aborted) {
    abort();
  }
  request.signal.addEventListener("abort", abort, { once: true });
  const queue = new Queue<Uint8Array>();
  const encoder = new TextEncoder();
  socket.onmessage = (event: MessageEvent<unknown>) => {
    queue.push(typeof event.data === "string" ? encoder.encode(event.data) : new Uint8Array(event.data as ArrayBuffer));
  };
  await new Promise<void>((resolve, reject) => {
    socket.onopen = () => {
      resolve();
    };
    socket.onclose = (event) => {
      request.signal.removeEventListener("abort", abort);
      queue.end(event.code === 1000 ? undefined : new Error(`the connection was closed with ${String(event.code)}`));
      reject(new Error("the server did not agree to a WebSocket"));
    };
  });
  return {
    protocol: socket.protocol,
    async send(message) {
      while (socket.bufferedAmount > 1 << 20 && socket.readyState === WebSocket.OPEN) {
        await new Promise((resolve) => setTimeout(resolve, 10)); // browsers have no other way to wait
      }
      if (socket.readyState !== WebSocket.OPEN) {
        throw new Error("the connection is closed");
      }
      socket.send(message);
    },
    messages: queue,
    close(code) {
      socket.close(code === 1000 ? 1000 : undefined);
    },
  };
};
