// Reads hostile payloads with a low budget, and prints what each cost: the
// bytes that were allocated beyond eight times its length, and milliseconds.
// Nothing is collected in between when node runs with --expose-gc and a
// --max-semi-space-size that holds it all.
import { readFileSync } from "node:fs";

import { attempt, codecs } from "./codecs.js";

interface Hostile {
  readonly message: string;
  readonly encoding: "cbor" | "json";
  readonly payload: string;
}

const [file = "hostile.json", budget = "1000"] = process.argv.slice(2);
const collect = (globalThis as { gc?: () => void }).gc;
if (collect === undefined) {
  throw new Error("run with --expose-gc");
}

function used(): number {
  const { heapUsed, arrayBuffers } = process.memoryUsage();
  return heapUsed + arrayBuffers;
}

const list = JSON.parse(readFileSync(file, "utf8")) as Hostile[];
for (const { message, encoding, payload: text } of [...list.slice(0, 50), ...list]) {
  const tools = codecs[message];
  if (tools === undefined) {
    throw new Error(`no such message: ${message}`);
  }
  const payload = new Uint8Array(Buffer.from(text, "base64"));
  if (payload.length > 100_000) {
    collect();
  }
  const before = used();
  const start = performance.now();
  attempt(() => (encoding === "cbor" ? tools.fromCbor(payload, Number(budget)) : tools.fromJson(payload, Number(budget))));
  const took = performance.now() - start;
  console.log(String(used() - before - 8 * payload.length), took.toFixed(1));
}
