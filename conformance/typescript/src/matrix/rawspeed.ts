// How fast bodies travel as they are, up and down, as a part of what Node alone does: it prints two ratios.
import assert from "node:assert/strict";
import { type IncomingMessage, type RequestListener, createServer, request } from "node:http";
import type { AddressInfo } from "node:net";

import { nodeListener, nodeTransport } from "../gen/faithful/node.js";
import { Body } from "../gen/faithful/wire.js";
import { PierClient, servePier } from "../gen/skerry/matrix/index.js";

const size = Number(process.argv[2] ?? "200") << 20;
const block = new Uint8Array(65_536);

async function* blocks(): AsyncGenerator<Uint8Array> {
  for (let at = 0; at < size; at += block.length) {
    yield block;
    await Promise.resolve();
  }
}

async function lengthOf(chunks: AsyncIterable<Uint8Array>): Promise<number> {
  let length = 0;
  for await (const chunk of chunks) {
    length += chunk.length;
  }
  return length;
}

async function listening(listener: RequestListener): Promise<number> {
  const server = createServer(listener).listen(0, "127.0.0.1");
  await new Promise((resolve) => server.once("listening", resolve));
  return (server.address() as AddressInfo).port;
}

/** Writes as fast as it is read. */
async function pour(into: NodeJS.WritableStream): Promise<void> {
  for await (const chunk of blocks()) {
    if (!into.write(chunk)) {
      await new Promise((resolve) => into.once("drain", resolve));
    }
  }
  into.end();
}

const bare = await listening((incoming, outgoing) => {
  if (incoming.method === "GET") {
    outgoing.writeHead(200, { "content-length": size });
    void pour(outgoing);
  } else {
    void lengthOf(incoming).then((length) => outgoing.end(String(length)));
  }
});

async function bareCall(method: string): Promise<number> {
  const asked = request({ host: "127.0.0.1", port: bare, method, headers: method === "GET" ? {} : { "content-length": size } });
  const answered = new Promise<IncomingMessage>((resolve, reject) => asked.once("response", resolve).once("error", reject));
  if (method === "GET") {
    asked.end();
    return lengthOf(await answered);
  }
  await pour(asked);
  let text = "";
  for await (const chunk of await answered) {
    text += String(chunk);
  }
  return Number(text);
}

const port = await listening(
  nodeListener(
    servePier({
      stow: async ({ load }) => ({ total: BigInt(await lengthOf(load)) }),
      unload: () => ({ load: new Body(blocks(), { size }) }),
    }),
  ),
);
const client = new PierClient(`http://127.0.0.1:${String(port)}`, { transport: nodeTransport() });

async function took(act: () => Promise<number>): Promise<number> {
  const start = performance.now();
  assert.equal(await act(), size);
  return performance.now() - start;
}

/** The median of a few ratios. */
async function ratio(theirs: () => Promise<number>, ours: () => Promise<number>): Promise<number> {
  const all: number[] = [];
  for (let i = 0; i < 5; i++) {
    all.push((await took(theirs)) / (await took(ours)));
  }
  return all.sort((a, b) => a - b)[2] ?? 0;
}

const up = await ratio(
  () => bareCall("POST"),
  async () => Number((await client.stow({ load: new Body(blocks(), { size }) })).total),
);
const down = await ratio(
  () => bareCall("GET"),
  async () => lengthOf((await client.unload({ size: BigInt(size) })).load),
);
console.log(up.toFixed(2), down.toFixed(2));
process.exit();
