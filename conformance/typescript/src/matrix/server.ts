// The server of the matrix in TypeScript.
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { setTimeout as wait } from "node:timers/promises";

import { nodeLimits, nodeListener } from "../gen/faithful/node.js";
import { Forbidden, Overloaded, Unauthenticated } from "../gen/faithful/server.js";
import { serveSockets } from "../gen/faithful/socket.js";
import { Body } from "../gen/faithful/wire.js";
import { type PierCalls, PierFull, type Tick, echoRequestTools, servePier } from "../gen/skerry/matrix/index.js";

async function* zeros(size: number): AsyncGenerator<Uint8Array> {
  const block = new Uint8Array(65_536);
  for (let left = size; left > 0; left -= block.length) {
    yield left < block.length ? block.subarray(0, left) : block;
    await Promise.resolve();
  }
}

/** A photo that is made as it goes. */
async function* octets(size: number, fails: number | undefined): AsyncGenerator<Uint8Array> {
  for (let at = 0; at < size; ) {
    if (at === fails) {
      throw new Error("the password is wrong");
    }
    const end = Math.min(at + 65_536, size, fails ?? size);
    yield Uint8Array.from({ length: end - at }, (_, i) => (at + i) % 251);
    at = end;
    await Promise.resolve();
  }
}

let woken = 0n;
let running = 0;
const tries = new Map<number, number>();

/** Waits until the caller has had enough. */
async function slumber(signal: AbortSignal): Promise<void> {
  try {
    await wait(2 ** 30, undefined, { signal });
  } finally {
    woken++;
  }
}

let whole = 0n;
let lost = 0n;

/** Counts how a stream comes out. */
async function* counted<T>(elements: AsyncIterable<T>): AsyncGenerator<T> {
  try {
    yield* elements;
    whole++;
  } catch (problem) {
    lost++;
    throw problem;
  }
}

async function sum(ticks: AsyncIterable<Tick>): Promise<{ total: bigint }> {
  let total = 0n;
  for await (const { n, text } of counted(ticks)) {
    if (text === "stop") {
      break;
    }
    if (text === "full") {
      throw new PierFull({ berths: n });
    }
    if (text === "slow") {
      await wait(20);
    }
    total += BigInt(n);
  }
  return { total };
}

async function* mirror(ticks: AsyncIterable<Tick>): AsyncGenerator<Tick> {
  for await (const tick of counted(ticks)) {
    if (tick.text === "full") {
      throw new PierFull({ berths: tick.n });
    }
    yield tick;
  }
}

const calls: PierCalls = {
  echo: (request, { trace }) => ({ request, trace: trace?.traceparent }),
  berth: (request) => request,
  look: (request) => request,
  stamp: ({ code, visit, how }) => ({ tag: `"${code}"`, count: code.length, visit, name: code, how, cache: code === "kept" ? "max-age=60" : undefined }),
  move: ({ to }) => ({ at: to, note: "moved, to: ü" }),
  forget: ({ code }) => ({ visit: "", left: /^\d+$/.test(code) ? Number(code) : undefined }),
  async hang({ name, photo, label, tags }) {
    let size = 0n;
    let sum = 0n;
    for await (const chunk of photo) {
      size += BigInt(chunk.length);
      sum += BigInt(chunk.reduce((total, octet) => total + octet, 0));
    }
    return { name, size, kind: photo.mediaType, sum, label, tags };
  },
  photo: ({ name, size, fails, known }) => ({
    photo: new Body(octets(Number(size), fails === undefined ? undefined : Number(fails)), { mediaType: "image/x-made", size: known ? Number(size) : undefined }),
    name,
    tag: `"${name}"`,
  }),
  hush: ({ text = "" }) => ({ text }),
  tale: ({ code }) => ({ tag: `"${code}"`, text: code.repeat(1000) }),
  async stow({ load }) {
    let total = 0;
    for await (const chunk of load) {
      total += chunk.length;
    }
    return { total: BigInt(total) };
  },
  unload: ({ size }) => ({ load: new Body(zeros(Number(size)), { size: Number(size) }) }),
  back: ({ roll }) => ({ roll: new Body(roll, { mediaType: roll.mediaType }) }),
  ping: (nothing) => nothing,
  leave: () => undefined,
  async *count({ count, failsAfter, badly, size }) {
    const text = size === 0 ? undefined : "x".repeat(size);
    for (let n = 0; n < count; n++) {
      if (n === failsAfter) {
        throw badly ? new Error("the password is wrong") : new PierFull({ berths: n });
      }
      yield { n, text };
      await Promise.resolve();
    }
  },
  sum: (ticks) => sum(ticks),
  mirror: (ticks) => mirror(ticks),
  async board({ since: total, ...at }, ticks) {
    if (at.code === "full") {
      throw new PierFull({ berths: 0 });
    }
    for await (const { n } of ticks) {
      total += BigInt(n);
    }
    return { ...at, total };
  },
  async *file({ since: total, ...at }, ticks) {
    for await (const { n } of ticks) {
      total += BigInt(n);
      yield { ...at, total };
    }
  },
  guardedSum: (ticks) => sum(ticks),
  guardedMirror: (ticks) => mirror(ticks),
  ended: () => ({ whole, lost }),
  async refuse({ how }) {
    if (how === "hang") {
      await new Promise(() => undefined);
    }
    throw how === "declared" ? new PierFull({ berths: 7 }) : how === "another" ? new TypeError("the password is wrong") : new Error("the password is wrong");
  },
  sleep: (_, { signal }) => slumber(signal),
  async *drift(_, { signal }) {
    try {
      for (let n = 0; ; n++) {
        await wait(5, undefined, { signal });
        yield { n };
      }
    } finally {
      woken++;
    }
  },
  weigh: ({ wide, counts, texts }) => ({ total: BigInt(wide.length + counts.size + texts.length) }),
  repeat: (load) => load,
  async *tail(_, { signal }) {
    await slumber(signal);
    yield* [];
  },
  async *hold(_, { signal }) {
    await slumber(signal);
    yield* [];
  },
  works: () => ({ handlers: running, tasks: process.getActiveResourcesInfo().length }),
  woken: () => ({ total: woken }),
  guarded: ({ identity }) => ({ request: echoRequestTools.make({ names: new Map() }), crew: identity as string | undefined }),
  flaky({ id }) {
    const n = (tries.get(id) ?? 0) + 1;
    tries.set(id, n);
    if (n < 3) {
      throw new Overloaded(0);
    }
    return { total: BigInt(n) };
  },
};

const mount = servePier(calls, {
  middleware: [
    async (_, next) => {
      running++;
      try {
        await next();
      } finally {
        running--;
      }
    },
  ],
  elementLimit: 200_000,
  bodyLimit: Number(process.argv[6] ?? "300000"),
  idleTimeout: Number(process.argv[4] ?? "60000"),
  base: process.argv[5] ?? "",
  origins: (process.env["MATRIX_ORIGINS"] ?? "").split(" ").filter((origin) => origin !== ""),
  heartbeat: Number(process.argv[3] ?? "15000"),
  definitions: (process.env["MATRIX_DEFINITIONS"] ?? "open") as "open" | "guarded" | "hidden",
  cookies: { visit: { maxAge: 3600, sameSite: "Strict" } },
  authorizer(_, credentials) {
    if (credentials.get("skerry.matrix.desk") === "panic") {
      throw new Error("the authorizer fell");
    }
    if (credentials.get("skerry.matrix.desk") === "stolen") {
      throw new Forbidden("this key was stolen");
    }
    if (credentials.get("skerry.matrix.desk") === "expired") {
      throw new Unauthenticated("this key has expired");
    }
    return credentials.get("skerry.matrix.crew");
  },
});
const server = createServer(nodeLimits, nodeListener(mount));
serveSockets(server, mount);
server.listen(Number(process.argv[2] ?? "0"), "127.0.0.1", () => {
  console.log(`listening on http://127.0.0.1:${String((server.address() as AddressInfo).port)}`);
});
