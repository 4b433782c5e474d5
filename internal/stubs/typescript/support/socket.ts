/** Calls that stream both ways, over WebSocket (RFC 6455) in Node. */

import { ServerResponse } from "node:http";
import type { Server } from "node:http";
import type { Server as SecureServer } from "node:https";
import { Socket } from "node:net";

import { WebSocket, WebSocketServer } from "ws";

import type { SocketTransport } from "./client.js";
import { incomingOf, rawAnswer } from "./node.js";
import { report } from "./server.js";
import type { Served, Upgrade } from "./server.js";
import { after, Queue } from "./stream.js";

/** Bytes that wait to be read before reading of the connection stops: a message may be as large as an element. */
const waiting = 256 << 10;

/** How much of the body of a refused upgrade is read. */
const mostRefused = 1 << 20;

/** What comes over a socket; a close that is not 1000 throws. */
function messagesOf(socket: WebSocket): Queue<Uint8Array> {
  let bytes = 0;
  const queue = new Queue<Uint8Array>(
    (message) => {
      bytes += message.length;
      if (bytes > waiting) {
        socket.pause();
      }
    },
    (message) => {
      bytes -= message.length;
      if (bytes <= waiting && socket.isPaused) {
        socket.resume();
      }
    },
  );
  socket.on("message", (data) => {
    queue.push(data instanceof ArrayBuffer ? new Uint8Array(data) : Array.isArray(data) ? Buffer.concat(data) : data);
  });
  socket.on("error", (problem) => {
    queue.end(problem);
  });
  socket.on("close", (code) => {
    queue.end(code === 1000 ? undefined : new Error(`the connection was closed with ${String(code)}`));
  });
  return queue;
}

/** Sends a message; a peer that takes nothing for so long is gone. */
function send(socket: WebSocket, message: Uint8Array | string, idle: number): Promise<void> {
  return new Promise((resolve, reject) => {
    const late = after(idle, () => {
      socket.terminate();
    });
    socket.send(message, (problem) => {
      clearTimeout(late);
      if (problem) {
        reject(problem);
      } else {
        resolve();
      }
    });
  });
}

/** Opens a WebSocket with the library ws. */
export const nodeSocket: SocketTransport = (request, protocol, failed) =>
  new Promise((resolve, reject) => {
    const headers = { ...request.headers };
    delete headers["accept"]; // a WebSocket has no media type
    const { elementLimit = 1 << 20, idleTimeout = 60_000 } = request;
    const socket = new WebSocket(request.url, protocol, { headers, followRedirects: false, maxPayload: elementLimit + 16, perMessageDeflate: false });
    const messages = messagesOf(socket);
    const abort = (): void => {
      socket.terminate();
    };
    request.signal.addEventListener("abort", abort, { once: true });
    socket.on("unexpected-response", (_, response) => {
      const parts: Uint8Array[] = [];
      let size = 0;
      const refuse = (): void => {
        reject(failed(response.statusCode ?? 0, Buffer.concat(parts).toString()));
        socket.terminate();
      };
      response.on("data", (chunk: Uint8Array) => {
        size += chunk.length;
        parts.push(chunk);
        if (size > mostRefused) {
          refuse();
        }
      });
      response.on("end", refuse);
      response.on("error", reject);
    });
    socket.on("error", reject);
    socket.on("open", () => {
      resolve({
        protocol: socket.protocol,
        send: (message) => send(socket, message, idleTimeout),
        messages,
        close(code) {
          request.signal.removeEventListener("abort", abort);
          socket.close(code);
          setTimeout(abort, 2000).unref();
        },
      });
    });
  });

/** Lets a server of Node serve the calls of a mount that stream both ways. */
export function serveSockets(server: Server | SecureServer, mount: Served): void {
  const sockets = new Map<string, WebSocketServer>();
  server.on("upgrade", (incoming, connection, head) => {
    if (incoming.headers.upgrade?.toLowerCase() !== "websocket") {
      // Any other upgrade is ignored (RFC 9110, section 7.8): the request is as good without.
      if (!(connection instanceof Socket)) {
        connection.destroy();
        return;
      }
      const outgoing = new ServerResponse(incoming);
      outgoing.shouldKeepAlive = false;
      outgoing.assignSocket(connection);
      outgoing.once("finish", () => {
        connection.end();
      });
      server.emit("request", incoming, outgoing);
      return;
    }
    const left = new AbortController();
    connection.on("error", () => {
      left.abort();
    });
    connection.once("close", () => {
      left.abort(new Error("the client has left"));
    });
    void mount.upgrade(incomingOf(incoming, () => left.signal)).then((agreed) => {
      if (!("converse" in agreed)) {
        connection.end(rawAnswer(agreed));
        return;
      }
      const key = `${agreed.encoding} ${String(agreed.elementLimit)}`;
      const upgrader = sockets.get(key) ?? new WebSocketServer({ noServer: true, maxPayload: agreed.elementLimit + 16, perMessageDeflate: false, handleProtocols: () => `faithful-${agreed.encoding}` });
      sockets.set(key, upgrader);
      upgrader.handleUpgrade(incoming, connection, head, (socket) => {
        converse(socket, agreed).catch((problem: unknown) => {
          report(mount.options, "", problem);
          socket.terminate();
        });
      });
    });
  });
}

async function converse(socket: WebSocket, agreed: Upgrade): Promise<void> {
  const text = new TextDecoder();
  try {
    for await (const element of agreed.converse(messagesOf(socket))) {
      if (socket.readyState !== WebSocket.OPEN) {
        socket.terminate();
        return;
      }
      await send(socket, agreed.encoding === "json" ? text.decode(element) : element, agreed.idleTimeout);
    }
  } catch {
    socket.terminate(); // the other side must not take this for the end
    return;
  }
  socket.close(1000);
}
