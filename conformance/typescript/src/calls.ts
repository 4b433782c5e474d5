// Measures a call through stub client and stub server against a bare server and
// client of node:http that move the same bytes, headers included, in
// interleaved rounds: the median of the ratios.
import { Agent, type IncomingHttpHeaders, type RequestListener, createServer, request as httpRequest } from "node:http";
import type { AddressInfo } from "node:net";

import { nodeListener, nodeTransport } from "./gen/faithful/node.js";
import { PierClient, echoAnswerTools, echoRequestTools, servePier } from "./gen/skerry/matrix/index.js";

const message = echoRequestTools.make({
  text: "Skerry ".repeat(30),
  names: new Map([
    ["seats", 3n],
    ["lanes", 7n],
  ]),
});
const asked = echoRequestTools.toCbor(message);
const answered = echoAnswerTools.toCbor(echoAnswerTools.make({ request: message }));

function listen(listener: RequestListener): Promise<number> {
  return new Promise((resolve) => {
    const server = createServer(listener);
    server.listen(0, "127.0.0.1", () => {
      resolve((server.address() as AddressInfo).port);
    });
  });
}

let seen: IncomingHttpHeaders = {};
const stubs = nodeListener(servePier({ echo: (request) => ({ request }) }));
const stubPort = await listen((incoming, outgoing) => {
  seen = incoming.headers;
  stubs(incoming, outgoing);
});
const client = new PierClient(`http://127.0.0.1:${String(stubPort)}`, { transport: nodeTransport() });
await client.echo(message);
const headers = Object.fromEntries(Object.entries(seen).filter(([name]) => name !== "host" && name !== "connection")) as Record<string, string>;
const probe = await fetch(`http://127.0.0.1:${String(stubPort)}/skerry/matrix/pier/echo`, { method: "POST", headers: { "content-type": "application/cbor", accept: "application/cbor" }, body: asked });
await probe.arrayBuffer();
const answerHeaders = Object.fromEntries([...probe.headers].filter(([name]) => !["connection", "date", "keep-alive"].includes(name)));

const barePort = await listen((incoming, outgoing) => {
  const chunks: Buffer[] = [];
  incoming.on("data", (chunk: Buffer) => chunks.push(chunk));
  incoming.on("end", () => {
    outgoing.writeHead(Buffer.concat(chunks).length === asked.length ? 200 : 400, answerHeaders);
    outgoing.end(answered);
  });
});
const agent = new Agent({ keepAlive: true });

function bare(): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = httpRequest({ host: "127.0.0.1", port: barePort, path: "/skerry/matrix/pier/echo", method: "POST", agent, headers }, (response) => {
      const chunks: Buffer[] = [];
      response.on("data", (chunk: Buffer) => chunks.push(chunk));
      response.on("end", () => {
        if (Buffer.concat(chunks).length === answered.length) {
          resolve();
        } else {
          reject(new Error(`status ${String(response.statusCode)}`));
        }
      });
    });
    request.on("error", reject);
    request.end(asked);
  });
}

async function run(call: () => Promise<unknown>): Promise<number> {
  const start = process.hrtime.bigint();
  for (let i = 0; i < 500; i++) {
    await call();
  }
  return Number(process.hrtime.bigint() - start);
}

const ours = (): Promise<unknown> => client.echo(message);
for (let i = 0; i < 10; i++) {
  await run(ours);
  await run(bare);
}
const ratios: number[] = [];
for (let i = 0; i < 15; i++) {
  const mine = await run(ours);
  ratios.push((await run(bare)) / mine);
}
ratios.sort((a, b) => a - b);
console.log(`typescript: ${(ratios[7] ?? NaN).toFixed(2)} of the calls a second of bare node:http`);
process.exit();
