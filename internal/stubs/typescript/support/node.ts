/** Serves a mount with Node's own HTTP server. */

import type { IncomingMessage, RequestListener, ServerResponse } from "node:http";

import type { Mount } from "./web.js";

/** A listener for http.createServer. */
export function nodeListener(mount: Mount): RequestListener {
  return (incoming, outgoing) => {
    answer(mount, incoming, outgoing).catch((problem: unknown) => {
      mount.options.onError?.("", problem);
      outgoing.destroy();
    });
  };
}

async function answer(mount: Mount, incoming: IncomingMessage, outgoing: ServerResponse): Promise<void> {
  const left = new AbortController();
  outgoing.on("close", () => {
    if (!outgoing.writableFinished) {
      left.abort();
    }
  });
  const path = (incoming.url ?? "/").split("?", 1)[0] ?? "/";
  const response = await mount(request(incoming, left.signal), path);
  const headers: Record<string, string> = Object.fromEntries(response.headers);
  const body = new Uint8Array(await response.arrayBuffer());
  if (response.status !== 204) {
    headers["content-length"] = String(body.length);
  }
  outgoing.writeHead(response.status, headers);
  outgoing.end(incoming.method === "HEAD" ? undefined : body);
  if (!incoming.complete) {
    drain(incoming);
  }
}

/**
 * Reads on after an early answer, for 64 MiB or until nothing comes for 2 s: a
 * client that is still sending would lose the answer if the connection were
 * closed on it.
 */
function drain(incoming: IncomingMessage): void {
  let left = 64 << 20;
  const stop = (): void => {
    incoming.destroy();
  };
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
  incoming.on("close", () => {
    clearTimeout(idle);
  });
  incoming.on("end", () => {
    clearTimeout(idle);
  });
  incoming.resume();
}

function request(incoming: IncomingMessage, signal: AbortSignal): Request {
  const headers = new Headers();
  for (let i = 0; i + 1 < incoming.rawHeaders.length; i += 2) {
    headers.append(incoming.rawHeaders[i] ?? "", incoming.rawHeaders[i + 1] ?? "");
  }
  const method = incoming.method ?? "GET";
  const hasBody = incoming.headers["content-length"] !== undefined ? incoming.headers["content-length"] !== "0" : incoming.headers["transfer-encoding"] !== undefined;
  const init: RequestInit & { duplex?: "half" } = { method, headers, signal };
  if (hasBody && method !== "GET" && method !== "HEAD") {
    init.body = bodyOf(incoming);
    init.duplex = "half";
  }
  return new Request(new URL(incoming.url ?? "/", "http://localhost"), init);
}

/** The body as a stream that is read only as fast as it is wanted. */
function bodyOf(incoming: IncomingMessage): ReadableStream<Uint8Array> {
  const chunks = incoming.iterator({ destroyOnReturn: false }) as AsyncIterator<Uint8Array>;
  return new ReadableStream({
    async cancel() {
      await chunks.return?.();
    },
    async pull(controller) {
      const { done, value } = await chunks.next();
      if (done === true) {
        controller.close();
      } else {
        controller.enqueue(value);
      }
    },
  });
}
