// Tests of mounts inside of frameworks, under a path of theirs.
import assert from "node:assert/strict";
import { type Server, createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { test } from "node:test";

import { serve as serveHono } from "@hono/node-server";
import express from "express";
import fastify from "fastify";
import { Hono } from "hono";

import { nodeListener } from "./gen/faithful/node.js";
import type { ServerOptions } from "./gen/faithful/server.js";
import { nodeSocket, serveSockets } from "./gen/faithful/socket.js";
import { Problem } from "./gen/faithful/web.js";
import { PierClient, servePier } from "./gen/skerry/matrix/index.js";

const mountOf = (options: ServerOptions = {}): ReturnType<typeof servePier> =>
  servePier(
    {
      echo: (request) => ({ request }),
      async *count({ count }) {
        for (let n = 0; n < count; n++) {
          yield await Promise.resolve({ n });
        }
      },
      async sum(ticks) {
        let total = 0n;
        for await (const { n } of ticks) {
          total += BigInt(n);
        }
        return { total };
      },
      mirror: (ticks) => ticks as AsyncIterable<never>,
    },
    options,
  );

const portOf = (server: { address(): unknown }): number => (server.address() as AddressInfo).port;

async function lengthOf(ticks: AsyncIterable<{ readonly n: number }>): Promise<number> {
  const all: number[] = [];
  for await (const { n } of ticks) {
    all.push(n);
  }
  return all.length;
}

/** Calls of every kind, in both encodings; those that a listener can't carry are left out. */
async function calls(port: number, sockets: boolean): Promise<void> {
  for (const encoding of ["cbor", "json"] as const) {
    const client = new PierClient(`http://127.0.0.1:${String(port)}/line/api`, { encoding, socket: nodeSocket });
    assert.equal((await client.echo({ text: "ü", names: new Map() })).request.text, "ü");
    assert.equal(await lengthOf(client.count({ count: 3 })), 3);
    assert.equal((await client.sum([{ n: 2 }, { n: 3 }])).total, 5n);
    if (sockets) {
      assert.equal(await lengthOf(client.mirror([{ n: 1 }])), 1);
    }
  }
}

async function listening(server: Server, use: (port: number) => Promise<void>): Promise<void> {
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  try {
    await use(portOf(server));
  } finally {
    server.close();
    server.closeAllConnections();
  }
}

void test("Express, under a path, and sockets beside it", async () => {
  const mount = mountOf({ base: "/line/api" });
  const app = express();
  app.get("/line/plain", (_, answer) => void answer.send("plain"));
  app.use((request, answer, next) => {
    if (request.path.startsWith("/line/api/")) {
      nodeListener(mount)(request, answer);
    } else {
      next();
    }
  });
  const server = createServer(app);
  serveSockets(server, mount);
  await listening(server, async (port) => {
    await calls(port, true);
    assert.equal(await (await fetch(`http://127.0.0.1:${String(port)}/line/plain`)).text(), "plain");
  });
});

void test("Express, where it takes the path away", async () => {
  const app = express();
  app.use("/line/api", nodeListener(mountOf()));
  await listening(createServer(app), (port) => calls(port, false));
});

void test("Express, behind parsers of bodies", async () => {
  const told: string[] = [];
  const served = nodeListener(mountOf({ onError: (_, problem) => told.push(String(problem)) }));
  for (const [parser, works] of [
    [express.json(), false],
    [express.raw({ type: "*/*" }), true],
  ] as const) {
    const app = express();
    app.use(parser);
    app.use("/line/api", served);
    await listening(createServer(app), async (port) => {
      const client = new PierClient(`http://127.0.0.1:${String(port)}/line/api`, { encoding: "json", timeout: 5000 });
      if (works) {
        assert.equal((await client.echo({ text: "ü", names: new Map() })).request.text, "ü");
        return;
      }
      await assert.rejects(client.echo({ text: "ü", names: new Map() }), (problem) => problem instanceof Problem && problem.status === 500);
      assert.match(told.join("\n"), /a body parser has read the body before: put the mount in front of it/);
    });
  }
});

void test("Fastify", async () => {
  const mount = mountOf({ base: "/line/api" });
  const app = fastify();
  app.removeAllContentTypeParsers();
  app.addContentTypeParser("*", (_, __, done) => {
    done(null); // the mount reads it
  });
  app.all("/line/api/*", (request, reply) => {
    reply.hijack();
    nodeListener(mount)(request.raw, reply.raw);
  });
  serveSockets(app.server, mount);
  await app.listen({ port: 0, host: "127.0.0.1" });
  try {
    await calls(portOf(app.server), true);
  } finally {
    app.server.closeAllConnections();
    await app.close();
  }
});

void test("Hono", async () => {
  const app = new Hono();
  app.mount("/line/api", mountOf());
  const server = serveHono({ fetch: app.fetch, port: 0, hostname: "127.0.0.1" }) as Server;
  await new Promise((resolve) => server.once("listening", resolve));
  try {
    await calls(portOf(server), false);
  } finally {
    server.close();
    server.closeAllConnections();
  }
});
