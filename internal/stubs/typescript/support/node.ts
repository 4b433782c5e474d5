/** Serves mounts with Node's own HTTP server, and calls with its client. */

import { Agent, request as httpRequest } from "node:http";
import type { ClientRequest, IncomingMessage, RequestListener, ServerResponse } from "node:http";
import { Agent as SecureAgent, request as httpsRequest } from "node:https";

import type { IncomingAnswer, OutgoingRequest, Transport } from "./client.js";
import { report } from "./server.js";
import type { Incoming, Served, Outgoing } from "./server.js";
import { type Chunks, joined } from "./web.js";

/** A listener for http.createServer. */
export function nodeListener(mount: Served): RequestListener {
  return (incoming, outgoing) => {
    answer(mount, incoming, outgoing).catch((problem: unknown) => {
      report(mount.options, "", problem);
      outgoing.destroy();
    });
  };
}

/** Limits for http.createServer that suit a server open to the world: 64 KiB of headers, 30 s for them, 60 s of idleness. */
export const nodeLimits = { maxHeaderSize: 65_536, headersTimeout: 30_000, keepAliveTimeout: 60_000, requestTimeout: 0 };

/** A request of Node's server as a mount takes it; signal makes what tells that the client has left. */
export function incomingOf(incoming: IncomingMessage, signal: () => AbortSignal): Incoming {
  const target = incoming.url ?? "/";
  const question = target.indexOf("?");
  const { headers } = incoming;
  const hasBody = headers["transfer-encoding"] !== undefined || (headers["content-length"] ?? "0") !== "0";
  // A parser of a framework may have read the body; what it left of it may still be bytes.
  const taken = hasBody && incoming.readableDidRead;
  const { body: left } = incoming as { readonly body?: unknown };
  return {
    method: incoming.method ?? "GET",
    path: question < 0 ? target : target.slice(0, question),
    query: question < 0 ? "" : target.slice(question + 1),
    header(name) {
      const value = headers[name.toLowerCase()];
      return Array.isArray(value) ? value.join(", ") : value;
    },
    peer: incoming.socket.remoteAddress,
    headers: (name) => incoming.headersDistinct[name.toLowerCase()] ?? [],
    // Leaving early keeps the connection, so that an answer can still be sent: what
    // comes after that is dropped, and not for ever.
    readBefore: taken && !(left instanceof Uint8Array),
    body: taken && left instanceof Uint8Array ? once(left) : hasBody ? chunks(incoming, () => incoming.iterator({ destroyOnReturn: false }), () => undefined) : undefined,
    get signal() {
      return signal();
    },
  };
}

async function* once(bytes: Uint8Array): AsyncGenerator<Uint8Array> {
  yield await Promise.resolve(bytes);
}

/** The chunks of a message; enough is called when all of it is more than somebody needs. */
function chunks(message: IncomingMessage, iterate: () => AsyncIterator<unknown>, enough: () => void): Chunks {
  return {
    [Symbol.asyncIterator]: () => iterate() as AsyncIterator<Uint8Array>,
    whole: (limit) =>
      new Promise((resolve, reject) => {
        const parts: Uint8Array[] = [];
        let total = 0;
        message.on("data", (chunk: Uint8Array) => {
          total += chunk.length;
          if (total > limit) {
            resolve(undefined);
            enough();
          } else {
            parts.push(chunk);
          }
        });
        message.on("end", () => {
          resolve(joined(parts, total));
        });
        message.on("error", reject);
        message.on("close", () => {
          reject(new Error("the connection was lost")); // unless all has come
        });
      }),
  };
}

async function answer(mount: Served, incoming: IncomingMessage, outgoing: ServerResponse): Promise<void> {
  let left: AbortController | undefined;
  let hasLeft = false;
  const signal = (): AbortSignal => {
    left ??= new AbortController(); // few ask for it
    if (hasLeft) {
      left.abort(new Error("the client has left"));
    }
    return left.signal;
  };
  outgoing.on("close", () => {
    if (!outgoing.writableFinished) {
      hasLeft = true;
      left?.abort(new Error("the client has left"));
    }
  });
  outgoing.on("error", () => {
    // A client that has left is not an error of ours; "close" tells.
  });
  const { status, headers, body } = await mount.answer(incomingOf(incoming, signal));
  // A reader that takes nothing for so long is gone.
  outgoing.setTimeout(Math.min(mount.options.idleTimeout ?? 60_000, 2 ** 31 - 1), () => {
    outgoing.destroy();
  });
  outgoing.once("finish", () => {
    outgoing.socket?.setTimeout(0); // the server watches over what comes next
  });
  if (body === undefined || body instanceof Uint8Array) {
    if (status !== 204 && status !== 304) {
      headers["content-length"] ??= String(body?.length ?? 0);
    }
    outgoing.writeHead(status, headers);
    outgoing.end(incoming.method === "HEAD" ? undefined : body);
    if (!incoming.complete && !incoming.destroyed) {
      drain(incoming);
    }
    return;
  }
  outgoing.writeHead(status, headers);
  outgoing.flushHeaders();
  try {
    for await (const chunk of body) {
      if (outgoing.destroyed) {
        return;
      }
      if (!outgoing.write(chunk)) {
        await drained(outgoing);
      }
    }
  } catch {
    outgoing.destroy(); // so that nobody takes this for the end
    return;
  }
  outgoing.end();
}

/** Waits until more can be written, or nobody is there to read it. */
function drained(outgoing: ServerResponse): Promise<void> {
  return new Promise((resolve) => {
    const done = (): void => {
      outgoing.off("drain", done);
      outgoing.off("close", done);
      resolve();
    };
    outgoing.once("drain", done);
    outgoing.once("close", done);
    if (outgoing.destroyed) {
      done();
    }
  });
}

/** Sends an answer without a body to read, as for an upgrade that is refused. */
export function rawAnswer({ status, headers, body }: Outgoing): string {
  const text = body instanceof Uint8Array ? new TextDecoder().decode(body) : "";
  const lines = Object.entries(headers).flatMap(([name, value]) => [value].flat().map((one) => `${name}: ${one}\r\n`));
  return `HTTP/1.1 ${String(status)} Refused\r\n${lines.join("")}content-length: ${String(new TextEncoder().encode(text).length)}\r\nconnection: close\r\n\r\n${text}`;
}

/**
 * Reads on after an early answer, for 64 MiB, 10 s or until nothing comes for 2 s: a
 * client that is still sending would lose the answer if the connection were
 * closed on it.
 */
function drain(incoming: IncomingMessage): void {
  let left = 64 << 20;
  const stop = (): void => {
    incoming.destroy();
  };
  const all = setTimeout(stop, 10_000);
  let idle = setTimeout(stop, 2000);
  incoming.on("data", (chunk: Uint8Array) => {
    clearTimeout(idle);
    left -= chunk.length;
    if (left < 0) {
      stop();
    } else {
      idle = setTimeout(stop, 2000);
    }
  });
  for (const event of ["close", "end", "error"]) {
    incoming.on(event, () => {
      clearTimeout(idle);
      clearTimeout(all);
    });
  }
  incoming.resume();
}

/** The transport of Node's own client, with connections that are kept alive: several times as fast as fetch for small calls. */
export function nodeTransport(options: { readonly agent?: Agent; readonly secureAgent?: SecureAgent } = {}): Transport {
  const agent = options.agent ?? new Agent({ keepAlive: true });
  const secureAgent = options.secureAgent ?? new SecureAgent({ keepAlive: true });
  const servers = new Map<string, { readonly secure: boolean; readonly host: string; readonly port: string }>();
  return (outgoing) =>
    new Promise((resolve, reject) => {
      const { method, headers, body } = outgoing;
      // The path as it is: URL would resolve "..".
      const slash = outgoing.url.indexOf("/", outgoing.url.indexOf("://") + 3);
      const [origin, path] = [outgoing.url.slice(0, slash), outgoing.url.slice(slash)];
      let server = servers.get(origin);
      if (server === undefined) {
        const url = new URL(origin);
        server = { secure: url.protocol === "https:", host: url.hostname.replace(/^\[|\]$/g, ""), port: url.port };
        servers.set(origin, server);
      }
      const { secure, host, port } = server;
      const all: Record<string, string | number> = { ...headers };
      if (outgoing.size !== undefined) {
        all["content-length"] = outgoing.size;
      } else if (body instanceof Uint8Array) {
        all["content-length"] = body.length;
      }
      const common = { host, port, path, method, headers: all };
      const request = secure ? httpsRequest({ ...common, agent: secureAgent }) : httpRequest({ ...common, agent });
      const abort = (reason: unknown): void => {
        request.destroy(reason instanceof Error ? reason : new Error("aborted"));
      };
      if (outgoing.whenAborted !== undefined) {
        outgoing.whenAborted(abort);
      } else if (outgoing.signal.aborted) {
        abort(outgoing.signal.reason);
      } else {
        outgoing.signal.addEventListener("abort", () => {
          abort(outgoing.signal.reason);
        });
      }
      let answered = false;
      request.on("response", (response) => {
        answered = true;
        resolve({ status: response.statusCode ?? 0, header: (name) => headerOf(response, name), cookies: () => response.headers["set-cookie"] ?? [], body: chunks(response, () => response[Symbol.asyncIterator](), () => response.destroy()) } satisfies IncomingAnswer);
      });
      request.on("error", (problem) => {
        if (!answered) {
          reject(problem);
        }
      });
      if (body === undefined || body instanceof Uint8Array) {
        request.end(body);
      } else {
        upload(request, body).catch((problem: unknown) => {
          request.destroy(problem instanceof Error ? problem : new Error(String(problem)));
        });
      }
    });
}

function headerOf(response: IncomingMessage, name: string): string | null {
  const value = response.headers[name];
  return value === undefined ? null : Array.isArray(value) ? value.join(", ") : value;
}

/** Sends a body as it comes; an answer may come first, and then the rest is not wanted. */
async function upload(request: ClientRequest, body: Exclude<OutgoingRequest["body"], Uint8Array | undefined>): Promise<void> {
  let enough = false as boolean;
  let waiting: (() => void) | undefined;
  for (const event of ["close", "response"]) {
    request.once(event, () => {
      enough = true;
      waiting?.();
    });
  }
  request.flushHeaders();
  for await (const chunk of body) {
    if (enough) {
      break;
    }
    if (!request.write(chunk)) {
      await new Promise<void>((resolve) => {
        const done = (): void => {
          request.off("drain", done);
          waiting = undefined;
          resolve();
        };
        request.once("drain", done);
        waiting = done;
      });
    }
  }
  request.end();
}
