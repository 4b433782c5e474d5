// Tests of what the stubs share, with Node's own test runner.
import assert from "node:assert/strict";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { test } from "node:test";

import { fetchTransport } from "./gen/faithful/client.js";
import { nodeTransport } from "./gen/faithful/node.js";
import { InvalidValue, fromPlain, parse, toPlain } from "./gen/faithful/plain.js";
import { mount, serve, Unauthenticated } from "./gen/faithful/server.js";
import { BadAnswer, Problem } from "./gen/faithful/web.js";
import * as wire from "./gen/faithful/wire.js";
import { type Keys, keysTools, moreOptionalsTools, namedDefaultsTools } from "./gen/skerry/language/types.js";
import { PierClient } from "./gen/skerry/matrix/client.js";
import { servePier } from "./gen/skerry/matrix/server.js";
import { PierFull, echoRequestTools, lookRequestTools } from "./gen/skerry/matrix/types.js";
import { type Deck, type Leaf, deckTools, leafTools } from "./gen/skerry/shared/types.js";
import { Broken, type Lists, defaultsTools, listsTools, optionalsTools, scalarsTools } from "./gen/skerry/vectors/types.js";
import { VectorsClient } from "./gen/skerry/vectors/client.js";
import { serveVectors } from "./gen/skerry/vectors/server.js";

void test("messages are made of plain values", () => {
  const look = lookRequestTools.make({ code: "EID", hull: "6F0C1D7E-4F0A-4C59-9D43-0D9A3B1C2E5F", amount: "-0.10" });
  assert.equal(look.amount?.toString(), "-0.10");
  assert.equal(lookRequestTools.fromJson(lookRequestTools.toJson(look)).hull, "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f");
  assert.equal(lookRequestTools.fromCbor(lookRequestTools.toCbor(look)).hull, "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f");
  for (const [path, make] of [
    ["/amount", () => lookRequestTools.make({ code: "EID", amount: "a lot" })],
    ["/sets/1/b~1c", () => moreOptionalsTools.make({ sets: [{ a: "1" }, { "b/c": "one" }] })],
  ] as const) {
    assert.throws(
      () => make(),
      (problem: unknown) => problem instanceof wire.WireError && problem.path === path,
    );
  }
  const mine = lookRequestTools.make({ code: "EID", hull: "mine" });
  for (const write of [() => lookRequestTools.toJson(mine), () => lookRequestTools.toCbor(mine)]) {
    assert.throws(
      () => write(),
      (problem: unknown) => problem instanceof wire.WireError && problem.path === "/hull",
    );
  }
  assert.deepEqual(lookRequestTools.make({ code: "EID" }), { code: "EID", side: undefined, ratio: undefined, open: true, amount: undefined, hull: undefined, photo: undefined, name: undefined });
  const { fare, toll, code, hull } = namedDefaultsTools.make({ fare: "2.5", toll: "3.5", code: "EID-0800" });
  assert.deepEqual([fare.toString(), toll.toString(), code, hull], ["2.5", "3.5", "EID-0800", "0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"]);
  assert.deepEqual([namedDefaultsTools.make({}).fare.toString(), namedDefaultsTools.make({}).toll.toString()], ["1.50", "2.50"]);
  assert.deepEqual(echoRequestTools.make({ names: { a: 1n } }).names, new Map([["a", 1n]]));
  const [set] = moreOptionalsTools.make({ sets: [{ small: "0.5" }] }).sets ?? [];
  assert.equal(set?.get("small")?.toString(), "0.5");
});

void test("values of which nothing is known are parsed, with all that is wrong", () => {
  const good = { code: "EID", hull: "6F0C1D7E-4F0A-4C59-9D43-0D9A3B1C2E5F", amount: "-0.10", "made-up": [1, { a: null }] };
  const look = parse(lookRequestTools, good);
  assert.equal(look.amount?.toString(), "-0.10");
  assert.deepEqual(toPlain(lookRequestTools, look), { ...good, hull: good.hull.toLowerCase(), open: true }, "what is not listed is preserved");
  assert.ok(lookRequestTools.equal(fromPlain(lookRequestTools, structuredClone(toPlain(lookRequestTools, look))), look));

  const wrong = (run: () => unknown): [string, string][] => {
    try {
      run();
    } catch (problem) {
      assert.ok(problem instanceof InvalidValue, String(problem));
      return problem.violations.map(({ pointer, detail }) => [pointer, detail]);
    }
    return [];
  };
  assert.deepEqual(wrong(() => parse(scalarsTools, { flag: "yes", small: 3e9, large: "x", count: -1, ratio: true, name: 5, data: "%", key: [], at: "today", deck: {}, i8: 200, i16: 1n, u8: NaN })), [
    ["/u8", "is NaN, which JSON does not have"],
    ["/flag", "expected bool, found a string"],
    ["/small", "expected int32, found 3000000000"],
    ["/large", "expected int64, found \"x\""],
    ["/count", "expected uint32, found -1"],
    ["/ratio", "expected float64, found true"],
    ["/name", "expected text, found a number"],
    ["/data", "expected bytes as base64url"],
    ["/key", "expected uuid, found an array"],
    ["/at", "expected an instant such as 2026-07-15T09:30:00Z"],
    ["/deck", "expected Deck, found an object"],
    ["/i8", "expected int8, found 200"],
    ["/u16", "is required"],
    ["/u64", "is required"],
    ["/f32", "is required"],
  ]);
  const maps = { texts: 1, i8: { a: true, b: 1, 5: true }, lanes: { 1: { none: 1 }, 2: { left: 1, right: 2 }, 3: {}, 4: "x" }, nested: { 1: [], 2: { 3: { unassigned: 4 } } } };
  const apart = ([, detail]: [string, string]): boolean => detail !== "is required";
  assert.deepEqual(wrong(() => parse(keysTools, maps)).filter(apart), [
    ["/texts", "expected a map, found a number"],
    ["/i8/a", "expected an integer of the key's type, found a"],
    ["/i8/b", "expected an integer of the key's type, found b"],
    ["/lanes/2/right", "is a second alternative, and one is expected"],
    ["/lanes/3", "expected one alternative of Passage, found none"],
    ["/lanes/4", "expected Passage, found a string"],
    ["/nested/1", "expected a map, found an array"],
    ["/nested/2/3/unassigned", "expected text, found a number"],
  ]);
  const lists = { flags: [true, 1, null], leaves: [{ number: 1 }, {}, 5, { number: "a", third: 4 }], grid: [[1], 2, ["x"]], maps: [{ "a/b": { number: null } }], names: new Map() };
  assert.deepEqual(wrong(() => parse(listsTools, lists)).filter(([place]) => /[0-9]|names/.test(place)), [
    ["/flags/1", "expected bool, found a number"],
    ["/flags/2", "expected bool, found null"],
    ["/leaves/1/number", "is required"],
    ["/leaves/2", "expected Leaf, found a number"],
    ["/leaves/3/number", 'expected int32, found "a"'],
    ["/leaves/3/third", "expected text, found a number"],
    ["/grid/1", "expected a list, found a number"],
    ["/grid/2/0", 'expected int32, found "x"'],
    ["/maps/0/a~1b/number", "expected int32, found null"],
    ["/names", "expected a list, found an object"],
  ]);
  // Bounds are told of what is there, and not asked of plain data that a cache has.
  assert.deepEqual(wrong(() => parse(lookRequestTools, { code: "", open: 1, name: "" })), [
    ["/open", "expected bool, found a number"],
    ["/code", "must have 1 to 40 characters, not 0"],
    ["/name", "must have 1 to 40 characters, not 0"],
  ]);
  assert.equal(fromPlain(lookRequestTools, { code: "" }).code, "");
  for (const value of [undefined, null, 5, "text", [], () => 1, NaN]) {
    assert.equal(wrong(() => parse(lookRequestTools, value)).length, 1, String(value));
  }
});

void test("what has a client's calls can take its place, and credentials have the names that are defined", async () => {
  // Code that takes a client is tested with an object that has the calls in question.
  const titled = async (pier: Pick<PierClient, "look">): Promise<string> => (await pier.look({ code: "EID" })).code;
  assert.equal(await titled({ look: (request) => Promise.resolve({ ...lookRequestTools.make({ code: "" }), ...request, code: `fake ${request.code}` } as never) }), "fake EID");
  const none = (): never => {
    throw new Error("not this one");
  };
  const whole: VectorsClient = { drop: none, echo: none, fetch: none, mirror: none, ping: none };
  assert.throws(() => void whole.ping(), /not this one/);
  // @ts-expect-error No credential is called so: the compiler finds a slip.
  assert.ok(new PierClient("http://127.0.0.1:1", { credentials: { dekst: "k" } }));
  assert.ok(new PierClient("http://127.0.0.1:1", { credentials: { desk: "k", "skerry.matrix.crew": () => "t" } }));
});

void test("instants are read, written and converted", () => {
  for (const [text, want] of [
    ["2026-07-15T09:30:00+02:00", "2026-07-15T07:30:00Z"],
    ["1969-12-31T23:59:58.500Z", "1969-12-31T23:59:58.5Z"],
    ["0001-01-01T00:00:00Z", "0001-01-01T00:00:00Z"],
    ["9999-12-31T23:59:59.999999999Z", "9999-12-31T23:59:59.999999999Z"],
  ] as const) {
    assert.equal(wire.Instant.parse(text).toString(), want);
  }
  for (const text of ["", "2026-02-29T00:00:00Z", "2026-01-01T24:00:00Z", "2026-01-01T00:00:60Z", "2026-01-01T00:00:00", "0001-01-01T00:00:00+00:01"]) {
    assert.throws(() => wire.Instant.parse(text), wire.WireError, text);
  }
  const date = new Date(-1500);
  assert.equal(wire.Instant.fromDate(date).nanos, 500_000_000);
  assert.deepEqual(wire.Instant.fromDate(date).toDate(), date);
  assert.equal(JSON.stringify({ at: wire.Instant.of(0) }), '{"at":"1970-01-01T00:00:00Z"}');
  assert.throws(() => wire.Instant.of(1.5), wire.WireError);
});

void test("uuids are checked and lower case", () => {
  assert.equal(wire.uuid("0B9F6A52-3D1C-4E6B-9A57-5F2F3F1D7C01"), "0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01");
  assert.throws(() => wire.uuid("0b9f6a52"), wire.WireError);
});

void test("base64 is strict in bits and lenient in alphabet", () => {
  for (let n = 0; n < 40; n++) {
    const bytes = Uint8Array.from({ length: n }, (_, i) => (i * 37) & 255);
    assert.equal(wire.toBase64(bytes), Buffer.from(bytes).toString("base64url"));
    assert.deepEqual(wire.fromBase64(Buffer.from(bytes).toString("base64")), bytes);
  }
  for (const text of ["A", "AB", "AA=", "A A", "AAA==="]) {
    assert.equal(wire.fromBase64(text), undefined, text);
  }
});

void test("make fills in defaults; what is absent is undefined", () => {
  const made = defaultsTools.make({});
  assert.equal(made.large, 9007199254740993n);
  assert.equal(made.deck, "saloon");
  assert.equal(defaultsTools.toJson(made), defaultsTools.toJson(defaultsTools.fromJson("{}")));
  assert.deepEqual(Object.keys(optionalsTools.make({ small: 3 })), Object.keys(optionalsTools.fromJson("{}")), "all of one shape");
});

void test("unlisted fields survive a spread", () => {
  const read = leafTools.fromJson('{"number":1,"#9":"AQ","later":[1.0]}');
  const changed = { ...read, number: 2 };
  assert.equal(leafTools.toJson(changed), '{"number":2,"#9":"AQ","later":[1.0]}');
  assert.equal(Buffer.from(leafTools.toCbor(changed)).toString("hex"), "a207020901");
  assert.deepEqual({ ...leafTools.make({ number: 2 }) }, { third: undefined, number: 2 }, "nothing is kept where nothing was unknown");
});

void test("many unlisted fields cost no more than their length", () => {
  const payloadOf = (part: number): string => {
    const members = Array.from({ length: 200_000 / part }, (_, i) => `,"a${String(i)}":0`).join("");
    const numbers = Array.from({ length: 64_000 / part }, (_, i) => `,"#${String(65_535 - i)}":"AA"`).join("");
    return `{"number":1${members}${numbers}}`;
  };
  const cost = (payload: string): number => {
    const before = process.cpuUsage();
    const leaf = leafTools.fromJson(payload);
    assert.deepEqual(leafTools.fromJson(leafTools.toJson(leaf)), leaf);
    leafTools.fromCbor(leafTools.toCbor(leaf));
    const { user, system } = process.cpuUsage(before);
    return user + system;
  };
  const eighth = Math.min(...[1, 2, 3].map(() => cost(payloadOf(8))));
  const whole = cost(payloadOf(1));
  assert.ok(whole < 24 * eighth, `${String(whole)} µs for eight times what costs ${String(eighth)} µs`);
  assert.throws(() => leafTools.fromJson(payloadOf(1).replace('"a5"', '"a6"')), wire.WireError);
});

void test("what can't be written is refused with its reason", () => {
  const scalars = scalarsTools.fromJson('{"flag":true,"small":1,"large":1,"count":1,"ratio":1,"name":"","data":"","key":"0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01","at":"1970-01-01T00:00:00Z","deck":"open","i8":0,"i16":0,"u8":0,"u16":0,"u64":0,"f32":0}');
  for (const [field, value] of Object.entries({ small: 1.5, large: 1n << 63n, count: -1, i8: 128, u8: 256, u16: -1, u64: -1n, f32: 1e39, name: "\ud800", key: "x", deck: "?sun" })) {
    assert.throws(() => scalarsTools.toCbor({ ...scalars, [field]: value }), wire.WireError, field);
  }
  assert.equal(scalarsTools.toJson({ ...scalars, deck: "?sun" }).includes('"deck":"sun"'), true);
  assert.deepEqual(scalarsTools.validate({ ...scalars, deck: "#7" }), [{ pointer: "/deck", detail: "must be one of unassigned, open, car, saloon, last" }]);
});

void test("errors of reading name the place", () => {
  for (const [payload, path] of [
    ['{"leaves":[{"number":1},{"number":"x"}]}', "/leaves/1/number"],
    ['{"maps":[{"a/b":{}}]}', "/maps/0/a~1b/number"],
    ['{"grid":[[1],[2,null]]}', "/grid/1/1"],
  ] as const) {
    assert.throws(
      () => listsTools.fromJson(payload),
      (problem: unknown) => problem instanceof wire.WireError && problem.path === path && problem.message.startsWith(path),
      path,
    );
  }
});

void test("a payload over the budget is too large", () => {
  const head = Uint8Array.from([0xaa, 0x01, 0x9a, 0x00, 0x1e, 0x84, 0x80]);
  const payload = new Uint8Array(head.length + 2_000_000).fill(0xf4);
  payload.set(head);
  assert.throws(
    () => listsTools.fromCbor(payload),
    (problem: unknown) => problem instanceof wire.WireError && problem.tooLarge,
  );
});

const scalars = scalarsTools.make({
  flag: true,
  small: -1,
  large: 1n << 60n,
  count: 7,
  ratio: 0.5,
  name: "héllo",
  data: new Uint8Array([1]),
  key: wire.uuid("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"),
  at: wire.Instant.of(5),
  deck: "open",
  i8: -128,
  i16: -32768,
  u8: 255,
  u16: 65535,
  u64: 18446744073709551615n,
  f32: Math.fround(0.1),
});

void test("client and server meet without a network", async () => {
  const told: unknown[] = [];
  const server = serve(
    serveVectors(
      {
        echo: (request) => {
          if (request.name === "broken") {
            throw new Broken({ name_: "x", stack_: [], status: 7 });
          }
          if (request.name === "secret") {
            throw new Error("the password is wrong");
          }
          return request;
        },
        drop: () => undefined,
        ping: () => undefined,
      },
      { onError: (_, error) => told.push(error), base: "/v1" },
    ),
  );
  for (const encoding of ["cbor", "json"] as const) {
    const client = new VectorsClient("http://anywhere/v1/", { encoding, transport: fetchTransport((request) => server(request)) });
    assert.deepEqual(await client.echo(scalars), scalars);
    await client.ping();
    await client.drop({ name: "a", children: [], byName: new Map() });
    await assert.rejects(client.echo({ ...scalars, name: "broken" }), (problem: unknown) => problem instanceof Broken && problem.status === 7 && problem.name_ === "x");
    await assert.rejects(client.echo({ ...scalars, name: "secret" }), (problem: unknown) => problem instanceof Problem && problem.problem === "internal" && !problem.message.includes("password"));
    await assert.rejects(client.fetch(), (problem: unknown) => problem instanceof Problem && problem.problem === "not-implemented");
  }
  assert.equal(told.length, 2, "the hook is told all of it");
});

void test("an error that a call does not declare is told with its context", async () => {
  const told: string[] = [];
  const server = servePier(
    {
      sleep: () => {
        throw new PierFull({ berths: 3 });
      },
    },
    { onError: (call, problem, context) => told.push(`${String(problem)} ${String(context?.call === call)}`) },
  );
  const client = new PierClient("http://anywhere", { transport: fetchTransport((request) => server(request)) });
  await assert.rejects(client.sleep({ id: 1 }), (problem: unknown) => problem instanceof Problem && problem.problem === "internal");
  assert.deepEqual(told, ["Error: skerry.matrix.Pier.sleep failed with skerry.matrix.PierFull, which it does not declare; add it to fails true"]);
});

void test("middleware is around a stream", async () => {
  const happened: string[] = [];
  const server = servePier(
    {
      async *count({ badly }) {
        for (const n of [0, 1, 2]) {
          happened.push(`tick ${String(n)}`);
          yield await Promise.resolve({ n });
        }
        if (badly) {
          throw new TypeError();
        }
      },
      sleep: () => {
        throw new Unauthenticated("who are you?");
      },
    },
    {
      onError: () => undefined,
      middleware: [
        async (_, next) => {
          happened.push("before");
          try {
            await next();
          } catch (problem) {
            if (!(problem instanceof TypeError)) {
              throw problem;
            }
            happened.push("swallowed");
          }
          happened.push("after");
        },
      ],
    },
  );
  const client = new PierClient("http://anywhere", { transport: fetchTransport((request) => server(request)) });
  for await (const tick of client.count({ count: 3 })) {
    assert.ok(tick.n < 3);
  }
  await assert.rejects(async () => {
    for await (const tick of client.count({ count: 3, badly: true })) {
      assert.ok(tick.n < 3);
    }
  }, Problem);
  await assert.rejects(client.sleep({ id: 1 }), (problem: unknown) => problem instanceof Problem && problem.problem === "unauthenticated");
  const one = ["before", "tick 0", "tick 1", "tick 2"];
  assert.deepEqual(happened, [...one, "after", ...one, "swallowed", "after", "before"]);
});

void test("writers refuse values of another kind", () => {
  const more = { amount: wire.Decimal.parse("1.50"), day: wire.CalendarDate.of(2026, 7, 15), length: wire.Duration.ofSeconds(5) };
  const cases: [fields: Record<string, unknown>, found: RegExp][] = [
    [{ flag: 1 }, /expected boolean, found 1$/],
    [{ name: 5 }, /expected string, found 5$/],
    [{ ratio: "5" }, /expected number, found "5"$/],
    [{ small: 1.5 }, /1\.5 is not an int32$/],
    [{ data: "AA" }, /expected Uint8Array, found "AA"/],
    [{ at: structuredClone(wire.Instant.of(0)) }, /expected Instant, found an object; structuredClone and a spread lose the class$/],
  ];
  for (const [fields, found] of cases) {
    const broken = { ...optionalsTools.make({}), ...fields };
    assert.throws(() => optionalsTools.toJson(broken), found);
    assert.throws(() => optionalsTools.toCbor(broken), found);
  }
  for (const [name, value] of Object.entries(more)) {
    const broken = { ...moreOptionalsTools.make({}), [name]: structuredClone(value) };
    assert.throws(() => moreOptionalsTools.toJson(broken), /structuredClone and a spread lose the class/);
    assert.throws(() => moreOptionalsTools.toCbor(broken), /structuredClone and a spread lose the class/);
  }
});

void test("operators go by value, or not at all", () => {
  assert.ok(wire.Instant.parse("2026-07-15T07:15:00.5Z") > wire.Instant.parse("2026-07-15T07:15:00Z"));
  assert.ok(wire.CalendarDate.of(1, 1, 1) < wire.CalendarDate.of(1969, 1, 1));
  assert.ok(wire.Duration.ofSeconds(9) < wire.Duration.ofSeconds(10));
  assert.throws(() => wire.Decimal.parse("9") < wire.Decimal.parse("10"), TypeError);
  assert.equal(`${wire.Decimal.parse("9.50").toString()} metres`, "9.50 metres");
});

void test("errors say their fields, and clients a base that is none", () => {
  assert.equal(new PierFull({ berths: 3 }).message, 'The pier is full. {"berths":3}');
  for (const [base, example] of [["127.0.0.1:1", "127.0.0.1:1"], ["skerry.example", "skerry.example"], ["", "127.0.0.1:8080"], ["ftp://x", "127.0.0.1:8080"]] as const) {
    assert.throws(() => new PierClient(base), new TypeError(`"${base}" is not the URL of a server; write, for example: http://${example}`));
  }
});

void test("a slow handler is answered for, and cancelled", async () => {
  let aborted = false;
  // Signals that time out don't keep Node running; a real server's socket does.
  const awake = setTimeout(() => undefined, 5000);
  const server = serveVectors(
    {
      fetch: (context) =>
        new Promise((_, reject) => {
          context.signal.addEventListener("abort", () => {
            aborted = true;
            reject(new Error("aborted"));
          });
        }),
    },
    { handlerTimeout: 20 },
  );
  const client = new VectorsClient("http://anywhere", { transport: fetchTransport((request) => server(request)) });
  await assert.rejects(client.fetch(), (problem: unknown) => problem instanceof Problem && problem.problem === "too-slow");
  clearTimeout(awake);
  assert.equal(aborted, true);
});

void test("health tells, and nothing of the inside", async () => {
  const server = mount({ name: "n", version: "v", digest: "d", modules: [], errors: [] }, [], {
    serving: () => {
      throw new Error("the sea is rough");
    },
    definitions: "hidden",
  });
  const health = await server(new Request("http://anywhere/-/state"));
  assert.equal(health.status, 503);
  assert.equal((await health.text()).includes("sea"), false);
  assert.equal((await server(new Request("http://anywhere/-/definitions"))).status, 404);
});

void test("an answer that is too large is not read on", async () => {
  let closed: () => void = () => undefined;
  const left = new Promise<void>((resolve) => {
    closed = resolve;
  });
  const server = createServer((incoming, outgoing) => {
    incoming.resume();
    outgoing.writeHead(200, { "content-type": "application/cbor" });
    const more = setInterval(() => outgoing.write(new Uint8Array(1000)), 5);
    outgoing.on("close", () => {
      clearInterval(more);
      closed();
    });
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
  const client = new PierClient(base, { transport: nodeTransport(), answerLimit: 5000, tries: 1 });
  await assert.rejects(client.woken(), (problem) => problem instanceof BadAnswer && problem.message.includes("too large"));
  await left;
  server.close();
});

void test("texts of every length are written as they are read", () => {
  for (const letter of ["a", "é", "€", "🐦"]) {
    for (const length of [0, 1, 23, 24, 63, 64, 65, 127, 128, 255, 256, 300, 65_535, 65_536]) {
      const leaf = leafTools.make({ number: 7, third: letter.repeat(length) });
      const payload = leafTools.toCbor(leaf);
      assert.equal(leafTools.fromCbor(payload).third, leaf.third);
    }
  }
  assert.throws(() => leafTools.toCbor(leafTools.make({ number: 7, third: `${"a".repeat(70)}\ud800` })), wire.WireError);
});

void test("numbers that a float32 can't hold are refused", () => {
  const read = (digits: string): number => wire.readJsonFloat32(new wire.JsonReader(digits));
  for (const digits of ["1e308", "-1e308", "3.5e38", `34028235677973366163753939545814253568${"0".repeat(1000)}`, "1e39"]) {
    assert.throws(() => read(digits), digits.slice(0, 20));
  }
  for (const [digits, want] of [["3.4028234e38", 3.4028234663852886e38], ["1e-46", 0], ["16777217", 16777216], [`16777217.${"0".repeat(2000)}1`, 16777218]] as const) {
    assert.equal(read(digits), want, digits.slice(0, 20));
  }
});

void test("a hook that fails does not end the process", async () => {
  const told: unknown[] = [];
  const { error } = console;
  console.error = (...what) => told.push(what);
  try {
    const calls = { echo: () => Promise.reject(new Error("the handler")) };
    const pier = servePier(calls, {
      onError: () => {
        throw new Error("the hook");
      },
    });
    const client = new PierClient("http://pier.example", { transport: fetchTransport(pier) });
    await assert.rejects(client.echo({ names: new Map(), amount: wire.Decimal.parse("1.50") }), Problem);
    assert.equal(told.length, 2, "what failed, and what failed to be told");
  } finally {
    console.error = error;
  }
});

void test("fields of JSON that come twice, however many there are", () => {
  const r = new wire.JsonReader("{}");
  let seen: wire.Seen = 0;
  for (let n = 0; n < 80; n++) {
    seen = r.once(seen, n);
  }
  for (const n of [0, 30, 31, 79]) {
    assert.throws(() => r.once(seen, n), /twice/);
  }
  assert.throws(() => r.once(1 << 30, 30), /twice/);
  assert.throws(() => optionalsTools.fromJson('{"name":"a","small":1,"name":"b"}'), /\/name.*twice|twice.*name/);
});

void test("numbers of JSON", () => {
  const small = (text: string): number | undefined => optionalsTools.fromJson(`{"small":${text}}`).small;
  assert.deepEqual(["0", "-0", "7", "-2147483648", "2147483647", '"12"', " 3 "].map(small), [0, 0, 7, -2147483648, 2147483647, 12, 3]);
  for (const text of ["01", "-", "--1", "1.0", "1e2", "2147483648", "-2147483649", '"-0"', '"01"', "1x", ""]) {
    assert.throws(() => small(text), wire.WireError, text);
  }
});

void test("instants of every century", () => {
  for (const [text, seconds, nanos] of [
    ["0001-01-01T00:00:00Z", -62135596800, 0],
    ["0099-12-31T23:59:59.000000001Z", -59011459201, 1],
    ["1969-12-31T23:59:59.5Z", -1, 500_000_000],
    ["2000-02-29T12:00:00+01:00", 951822000, 0],
    ["9999-12-31T23:59:59.999999999Z", 253402300799, 999_999_999],
  ] as const) {
    const at = wire.Instant.parse(text);
    assert.deepEqual([at.seconds, at.nanos], [seconds, nanos]);
  }
  for (const text of ["1900-02-29T00:00:00Z", "2026-04-31T00:00:00Z", "2026-00-01T00:00:00Z", "0001-01-01T00:00:00+00:01", "9999-12-31T23:59:59-00:01", "2026-01-01T24:00:00Z", "2026-01-01 00:00:00Z"]) {
    assert.throws(() => wire.Instant.parse(text), /an instant is written as/, text);
  }
});

void test("listed tells the members from all else, to the compiler, too", () => {
  type Member = Exclude<Deck, wire.Unlisted>;
  const listed = (deck: Deck): Member | undefined => (deckTools.listed(deck) ? deck : undefined);
  for (const member of deckTools.members()) {
    assert.equal(listed(member), member);
  }
  assert.equal(listed("#7"), undefined);
  assert.equal(listed("?sun"), undefined);
});

void test("values of enums that are none", () => {
  const none = new Map<never, never>();
  const keys = (deck: string): Keys => keysTools.make({ texts: none, i8: none, i16: none, i32: none, i64: none, u8: none, u16: none, u32: none, u64: none, decks: new Map([[deck as Deck, 1]]), codes: none, lanes: none, gates: none, nested: none });
  for (const deck of ["banana", "", "#x", "#65536", "#"]) {
    for (const write of [(): unknown => keysTools.toJson(keys(deck)), (): unknown => keysTools.toCbor(keys(deck)), (): unknown => scalarsTools.toJson({ ...scalars, deck: deck as Deck }), (): unknown => scalarsTools.toCbor({ ...scalars, deck: deck as Deck })]) {
      assert.throws(write, /is not listed in/, deck);
    }
  }
  assert.ok(keysTools.toJson(keys("#7")).includes('"decks":{"7":1}'));
  assert.ok(keysTools.toJson(keys("?sun")).includes('"decks":{"sun":1}'));
  assert.throws(() => keysTools.toCbor(keys("?sun")), /binary payloads contain numbers/);
});

void test("errors of writing name the place", () => {
  const lists = listsTools.fromJson('{"flags":[],"numbers":[],"ratios":[],"names":[],"data":[],"keys":[],"times":[],"decks":[],"leaves":[],"grid":[],"maps":[]}');
  const leaf = leafTools.make({ number: 1 });
  for (const [broken, path] of [
    [{ ...lists, leaves: [leaf, { ...leaf, number: "x" as unknown as number }] }, "/leaves/1/number"],
    [{ ...lists, leaves: [leaf, undefined as unknown as Leaf] }, "/leaves/1"],
    [{ ...lists, maps: [new Map([["a/b", { ...leaf, number: 1.5 }]])] }, "/maps/0/a~1b/number"],
    [{ ...lists, grid: [[1], [2, 1e10]] }, "/grid/1/1"],
  ] as const) {
    for (const write of [(m: Lists): unknown => listsTools.toJson(m), (m: Lists): unknown => listsTools.toCbor(m)]) {
      assert.throws(
        () => write(broken),
        (problem: unknown) => problem instanceof wire.WireError && problem.path === path && problem.message.startsWith(path),
        path,
      );
    }
  }
});
