// The client of the matrix in TypeScript: it prints a line a case.
import assert from "node:assert/strict";
import { setTimeout as wait } from "node:timers/promises";

import type { ClientOptions, ClientWatcher } from "../gen/faithful/client.js";
import { nodeTransport } from "../gen/faithful/node.js";
import { nodeSocket } from "../gen/faithful/socket.js";
import { BadAnswer, type Encoding, InvalidRequest, MissingCredential, NotModified, Problem, Unreachable } from "../gen/faithful/web.js";
import { Body, CalendarDate, Decimal, Duration, Instant, uuid } from "../gen/faithful/wire.js";
import { type Boarded, PierClient, PierFull, type Tick, boardedTools, echoRequestTools, gangwayTools, lookRequestTools, stampTools } from "../gen/skerry/matrix/index.js";

const [base = "http://127.0.0.1:8080", encoding = "cbor", transport = "node"] = process.argv.slice(2);

function connect(options: ClientOptions = {}): PierClient {
  const carried = transport === "node" ? { transport: nodeTransport() } : {};
  return new PierClient(base, { encoding: encoding as Encoding, socket: nodeSocket, ...carried, ...options });
}

const client = connect();

/** What a server makes for a photo of some size. */
function made(size: number): Uint8Array<ArrayBuffer> {
  return Uint8Array.from({ length: size }, (_, i) => i % 251);
}

function same(a: Uint8Array, b: Uint8Array): boolean {
  return Buffer.compare(a, b) === 0;
}

/** What something fails with; what does not fail is the failure here. */
async function failureOf(act: () => Promise<unknown>): Promise<unknown> {
  try {
    await act();
  } catch (problem) {
    return problem;
  }
  throw new Error("it should have failed");
}

async function isFull(act: () => Promise<unknown>, berths: number): Promise<void> {
  const problem = await failureOf(act);
  assert.ok(problem instanceof PierFull, String(problem));
  assert.equal(problem.berths, berths);
}

async function isProblem(act: () => Promise<unknown>, name: string): Promise<void> {
  const problem = await failureOf(act);
  assert.ok(problem instanceof Problem, String(problem));
  assert.equal(problem.problem, name);
  assert.ok(!problem.message.includes("password"), problem.message);
}

/** Collects the numbers of a stream into list. */
async function numbers(ticks: AsyncIterable<Tick>, list: number[] = []): Promise<number[]> {
  for await (const { n } of ticks) {
    list.push(n);
  }
  return list;
}

/**
 * Leaves a call after some milliseconds and waits until the server has seen one more caller leave. On a busy machine
 * a call that is left early may not have reached its handler: then it is left later.
 */
async function wakes(leave: (milliseconds: number) => Promise<unknown>, leftAfter = [100, 1000, 4000]): Promise<void> {
  const before = await client.woken();
  for (const milliseconds of leftAfter) {
    await leave(milliseconds);
    for (let i = 0; i < 200; i++) {
      if ((await client.woken()).total > before.total) {
        return;
      }
      await wait(10);
    }
  }
  assert.fail("the handler did not notice");
}

const cases: Record<string, () => Promise<void>> = {
  async unary() {
    const request = {
      text: 'Håkon "the" Skua 🐦\n',
      at: Instant.parse("2026-07-15T06:58:12.25Z"),
      names: new Map([
        ["a", -1n],
        ["bb", 1n << 60n],
      ]),
    };
    const traceparent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    const answer = await client.echo(request, { trace: { traceparent } });
    assert.deepEqual(answer, { request: echoRequestTools.make({ ...request, amount: Decimal.parse("1.50") }), crew: undefined, trace: traceparent });
  },

  async bound() {
    const request = {
      code: "a/b ?%ø..",
      number: -9007199254740993n,
      side: "south",
      decks: [3, 1],
      since: CalendarDate.parse("1968-05-01"),
      ticket: '50% ; "é"',
      name: "Guillemot",
      wait: Duration.ofSeconds(90),
    } as const;
    assert.deepEqual(await client.berth(request), request);
    const look = lookRequestTools.make({
      code: "EID",
      side: "north",
      ratio: -0.5e-9,
      open: false,
      amount: Decimal.parse("-0.10"),
      hull: uuid("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"),
      photo: Uint8Array.of(0, 255),
      name: "12 & = + #",
    });
    assert.deepEqual(await client.look(look), look);
    assert.deepEqual(await client.look({ code: "EID" }), lookRequestTools.make({ code: "EID", open: true }));
    assert.ok((await failureOf(() => client.look({ code: ".." }))) instanceof InvalidRequest);
    await client.leave({ code: "EID" });
  },

  async "answer headers"() {
    const request = { code: "kept", visit: 'a "b"; ü', how: ' é, 100% "x" ' };
    const stamp = await client.stamp(request);
    assert.deepEqual(stamp, stampTools.make({ tag: `"kept.${encoding}"`, cache: "max-age=60", count: 4, visit: request.visit, name: "kept", how: request.how }));
    for (const known of [stamp.tag, `"other", W/${stamp.tag}`, "*"]) {
      const unchanged = await failureOf(() => client.stamp({ code: "kept", known }));
      assert.ok(unchanged instanceof NotModified, String(unchanged));
      assert.equal(unchanged.etag, stamp.tag);
    }
    assert.deepEqual(await client.stamp({ code: "new", known: stamp.tag }), stampTools.make({ tag: `"new.${encoding}"`, cache: "private, no-cache", count: 3, name: "new" }));
    assert.deepEqual({ ...(await client.move({ to: "/stamps/new?y=1" })) }, { at: "/stamps/new?y=1", note: "moved, to: ü" });
    assert.deepEqual({ ...(await client.forget({ code: "3" })) }, { visit: "", left: 3 });
    assert.deepEqual({ ...(await client.forget({ code: "x" })) }, { visit: "", left: undefined });
    await client.ping({});
  },

  async "raw bodies"() {
    const photo = made(3_000_000);
    const sum = BigInt(photo.reduce((total, octet) => total + octet, 0));
    const stream = async function* (): AsyncGenerator<Uint8Array> {
      yield photo.subarray(0, 1_000_000);
      await wait(1);
      yield photo.subarray(1_000_000);
    };
    const mediaType = "image/x-made";
    for (const source of [new Body(stream(), { mediaType }), new Body(stream(), { mediaType, size: photo.length }), new Body(photo, { mediaType }), new Blob([photo], { type: mediaType })]) {
      const request = { name: "a/b", photo: source, label: "ü", tags: ["x", "y"] };
      assert.deepEqual({ ...(await client.hang(request)) }, { name: "a/b", size: 3_000_000n, kind: mediaType, sum, label: "ü", tags: ["x", "y"] });
    }
    for (const known of [true, false]) {
      const answer = await client.photo({ name: "n", size: 3_000_000n, known });
      assert.ok(same(await answer.photo.bytes(), photo));
      assert.deepEqual([answer.photo.size, answer.photo.mediaType, answer.name, answer.tag], [known ? 3_000_000 : undefined, mediaType, "n", '"n"']);
      // One that fails in the middle is not whole.
      const failing = await client.photo({ name: "n", size: 3_000_000n, known, fails: 2_000_000n });
      assert.ok((await failureOf(() => failing.photo.bytes())) instanceof Unreachable);
      // One that fails at once is a problem.
      await isProblem(() => client.photo({ name: "n", size: 3n, known, fails: 0n }), "internal");
    }
    let range: string | null = "";
    const part = await client.photo({ name: "n", size: 1000n }, { headers: { range: "bytes=990-" }, answered: (_, header) => (range = header("content-range")) });
    assert.ok(same(await part.photo.bytes(), made(1000).subarray(990)));
    assert.equal(range, "bytes 990-999/1000");
    assert.ok(same(await (await client.back({ roll: made(1000) })).roll.bytes(), made(1000)));
    for (const roll of [made(9), new Body(made(10), { mediaType: "text/plain" }), new Uint8Array()]) {
      assert.ok((await failureOf(() => client.back({ roll }))) instanceof InvalidRequest);
    }
    // What the client can't know before: the answer has begun, or has not.
    for (const size of [9, 1001]) {
      const unknown = async function* (): AsyncGenerator<Uint8Array> {
        yield await Promise.resolve(made(size));
      };
      const problem = await failureOf(async () => (await client.back({ roll: unknown() })).roll.bytes());
      assert.ok(problem instanceof Unreachable || (problem instanceof Problem && problem.problem === "invalid-request"), String(problem));
    }
    const left = await client.photo({ name: "n", size: 900_000_000n });
    await left.photo.cancel();
  },

  async compression() {
    const text = "Håkon ".repeat(5000);
    for (const compression of [true, false]) {
      const told: (string | null)[] = [];
      const own = connect({ compression });
      const options = { answered: (_: number, header: (name: string) => string | null) => void told.push(header("content-encoding")) };
      assert.equal((await own.echo({ text, names: new Map() }, options)).request.text, text);
      // What is small, or secret, is not compressed.
      await own.echo({ names: new Map() }, options);
      await own.hush({ text, names: new Map() }, options);
      if (transport === "node") {
        assert.deepEqual(told, [compression ? "gzip" : null, null, null]);
      }
    }
    // Limits hold for what comes out.
    assert.ok((await failureOf(() => connect({ compression: true, answerLimit: 10_000 }).echo({ text, names: new Map() }))) instanceof BadAnswer);
  },

  /** Is told of calls of every kind, as they end, and puts them in a trace. */
  async watching() {
    const traceparent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    const told: string[] = [];
    const some = (size: number): string => ([0, 1000, 3000].includes(size) ? String(size) : "+");
    const watcher: ClientWatcher = (call, headers) => {
      headers["Traceparent"] = traceparent;
      return (w) => told.push(`${call.replace("skerry.matrix.Pier.", "")} ${String(w.status)} ${String(w.tries)} ${some(w.sent)} ${some(w.received)} ${w.failed === undefined ? "-" : "failed"}`);
    };
    const own = connect({ watcher });
    assert.equal((await own.echo({ text: "ü", names: new Map() })).trace, traceparent);
    assert.ok((await failureOf(() => own.stamp({ code: "kept", known: "*" }))) instanceof NotModified);
    await own.hang({ name: "n", photo: new Body(made(1000), { mediaType: "image/x-made" }), tags: [] });
    assert.equal((await (await own.photo({ name: "n", size: 3000n })).photo.bytes()).length, 3000);
    const failing = await own.photo({ name: "n", size: 3_000_000n, fails: 2_000_000n });
    assert.ok((await failureOf(() => failing.photo.bytes())) instanceof Unreachable);
    await isFull(() => own.refuse({ how: "declared" }), 7);
    await own.flaky({ id: Math.floor(Math.random() * 2 ** 31) });
    assert.ok((await failureOf(() => own.look({ code: ".." }))) instanceof InvalidRequest);
    for (const most of [9, 2]) {
      let left = most;
      for await (const { n } of own.count({ count: 5 })) {
        if (--left === 0 || n > 4) {
          break;
        }
      }
    }
    await own.sum([{ n: 1 }]);
    for (const most of [9, 1]) {
      let left = most;
      for await (const { n } of own.mirror([{ n: 1 }, { n: 2 }])) {
        if (--left === 0 || n > 2) {
          break;
        }
      }
    }
    assert.deepEqual(told, [
      "echo 200 1 + + -",
      "stamp 304 1 0 0 -",
      "hang 200 1 1000 + -",
      "photo 200 1 0 3000 -",
      "photo 200 1 0 + failed",
      "refuse 409 1 + + failed",
      "flaky 200 3 + + -",
      "look 0 0 0 0 failed",
      "count 200 1 + + -",
      "count 200 1 + + -",
      "sum 200 1 + + -",
      "mirror 101 1 + + -",
      "mirror 101 1 + + failed",
    ]);
  },

  async "answer stream"() {
    assert.deepEqual(await numbers(client.count({ count: 5 })), [0, 1, 2, 3, 4]);
    assert.deepEqual(await numbers(client.count({ count: 0 })), []);
    assert.equal((await numbers(client.count({ count: 20, size: 99_000 }))).length, 20);
  },

  async "request stream"() {
    for (const n of [0, 1, 1000]) {
      const ticks = Array.from({ length: n }, (_, i) => ({ n: i }));
      assert.equal((await client.sum(ticks)).total, BigInt((n * (n - 1)) / 2));
    }
  },

  async "both ways"() {
    const sent = Array.from({ length: 50 }, (_, n) => ({ n, text: "é".repeat(n) }));
    const got: unknown[] = [];
    for await (const tick of client.mirror(sent)) {
      got.push({ ...tick });
    }
    assert.deepEqual(got, sent);
  },

  async heads() {
    for (const head of [{ code: "a/b ?%ø..", since: 7n, decks: [3, 1], device: 'é, 100% "x"', visit: '50% ; "é"' }, { code: "EID", decks: [] }]) {
      const { since, ...at } = gangwayTools.make(head);
      const ticks = [1, 2, 3].map((n) => ({ n }));
      assert.deepEqual(await client.board(head, ticks), boardedTools.make({ ...at, total: since + 6n }));
      const filed: Boarded[] = [];
      for await (const boarded of client.file(head, ticks)) {
        filed.push(boarded);
      }
      assert.deepEqual(filed, [1n, 3n, 6n].map((n) => boardedTools.make({ ...at, total: since + n })));
    }
    await isFull(() => client.board({ code: "full", decks: [] }, []), 0);
    for (const wrong of [{ code: "..", decks: [] }, { code: "EID", since: 1001n, decks: [] }]) {
      assert.ok((await failureOf(() => client.board(wrong, []))) instanceof InvalidRequest);
      assert.ok((await failureOf(() => client.file(wrong, []).next())) instanceof InvalidRequest);
    }
  },

  async "declared error"() {
    await isFull(() => client.refuse({ how: "declared" }), 7);
    for (const how of ["panic", "another", "else"]) {
      await isProblem(() => client.refuse({ how }), "internal");
    }
    await isFull(() => numbers(client.count({ count: 1, failsAfter: 0 })), 0);
  },

  async "invalid request"() {
    const names = new Map<string, bigint>();
    assert.ok((await failureOf(() => client.echo({ text: "", names }))) instanceof InvalidRequest);
    // What the client can't know: a body that is too large for this server.
    await isProblem(() => client.echo({ text: "é".repeat(199_999), names }), "too-large");
  },

  async "late failure"() {
    const list: number[] = [];
    await isFull(() => numbers(client.count({ count: 9, failsAfter: 3 }), list), 3);
    await isProblem(() => numbers(client.count({ count: 9, failsAfter: 3, badly: true }), list), "internal");
    await isFull(() => numbers(client.mirror([{ n: 5, text: "a" }, { n: 5, text: "full" }]), list), 5);
    assert.deepEqual(list, [0, 1, 2, 0, 1, 2, 5]);
  },

  async "early answer"() {
    for (const text of ["full", "stop"]) {
      const ticks = Array.from({ length: 2000 }, (_, i) => (i === 3 ? { n: 9, text } : { n: 1, text: "x".repeat(1000) }));
      if (text === "full") {
        await isFull(() => client.sum(ticks), 9);
      } else {
        assert.equal((await client.sum(ticks)).total, 3n);
      }
    }
  },

  async "early refusal"() {
    const ticks = Array.from({ length: 4200 }, () => ({ n: 1, text: "x".repeat(1000) })); // over 4 MiB
    await isProblem(() => connect({ credentials: { desk: "expired" } }).guardedSum(ticks), "unauthenticated");
  },

  async cancellation() {
    const leftAfter = process.env["MATRIX_UNSEEN"] === undefined ? [100, 1000, 4000] : [100]; // where it sees nothing of it
    await wakes(async (milliseconds) => {
      const signal = AbortSignal.timeout(milliseconds);
      assert.ok((await failureOf(() => client.sleep({ id: 1 }, { signal }))) instanceof Unreachable);
    }, leftAfter);
  },

  async "left streams"() {
    await wakes(async () => {
      for await (const { n } of client.drift({ id: 1 })) {
        if (n === 2) {
          break;
        }
      }
    });
    const refused = await failureOf(() =>
      client.sum(
        (function* () {
          yield { n: 1 };
          throw new Error("enough");
        })(),
      ),
    );
    assert.equal((refused as Error).message, "enough");
  },

  async timeout() {
    await wakes(async (timeout) => {
      assert.ok((await failureOf(() => connect({ timeout, tries: 1 }).sleep({ id: 1 }))) instanceof Unreachable);
    });
  },

  async "missing credential"() {
    const missing = await failureOf(() => client.guarded());
    assert.ok(missing instanceof MissingCredential && missing.message.includes("crew + desk | machine"), String(missing));
    const both = await connect({ credentials: { desk: "k", "skerry.matrix.crew": () => Promise.resolve("ada") } }).guarded();
    assert.equal(both.crew, "ada");
    await connect({ credentials: { machine: "m&m" } }).guarded();
    await isProblem(() => connect({ credentials: { desk: "stolen", crew: "c" } }).guarded(), "forbidden");
    // A client that forgets them all the same is told so by the server.
    await isProblem(() => connect({ credentials: { machine: "" } }).guarded(), "unauthenticated");
  },

  async retry() {
    const id = Math.floor(Math.random() * 2 ** 31);
    assert.equal((await client.flaky({ id })).total, 3n);
    await isProblem(() => connect({ tries: 1 }).flaky({ id: id + 1 }), "overloaded");
  },

  async "not implemented"() {
    await isProblem(() => client.unwritten(), "not-implemented");
  },
};

for (const [name, run] of Object.entries(cases)) {
  try {
    await run();
    console.log(`${name}: ok`);
  } catch (problem) {
    console.log(`${name}: ${problem instanceof Error ? problem.message.replaceAll("\n", " ") : String(problem)}`);
  }
}
process.exit(); // kept-alive connections would hold it
