// The client in TypeScript of long streams: it prints how much memory it came
// to need, in KiB. The reader of a stream is slow at first.
import assert from "node:assert/strict";
import { setTimeout as wait } from "node:timers/promises";

import { nodeTransport } from "../gen/faithful/node.js";
import { Body } from "../gen/faithful/wire.js";
import { PierClient, type TickInit } from "../gen/skerry/matrix/index.js";

const [base = "http://127.0.0.1:8080", call = "count", many = "1000", size = "100"] = process.argv.slice(2);
const count = Number(many);
const client = new PierClient(base, { transport: nodeTransport() });

function* ticks(): Generator<TickInit> {
  const text = "x".repeat(Number(size));
  for (let i = 0; i < count; i++) {
    yield { n: 1, text: i < 50 ? "slow" : text };
  }
}

if (call === "count") {
  let seen = 0;
  for await (const { n } of client.count({ count, size: Number(size) })) {
    if (n === 0) {
      await wait(1000);
    }
    seen++;
  }
  assert.equal(seen, count);
} else if (call === "stow") {
  const blocks = async function* (): AsyncGenerator<Uint8Array> {
    const block = new Uint8Array(Number(size));
    for (let i = 0; i < count; i++) {
      yield block;
      await Promise.resolve();
    }
  };
  const all = count * Number(size);
  assert.equal((await client.stow({ load: new Body(blocks(), { size: all }) })).total, BigInt(all));
} else if (call === "unload") {
  let seen = 0;
  const all = count * Number(size);
  for await (const chunk of (await client.unload({ size: BigInt(all) })).load) {
    seen += chunk.length;
  }
  assert.equal(seen, all);
} else {
  assert.equal((await client.sum(ticks())).total, BigInt(count));
}
console.log(process.resourceUsage().maxRSS);
process.exit();
