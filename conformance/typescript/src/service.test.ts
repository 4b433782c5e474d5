// What real services do besides answering: refusing for reasons of their own, shutting down, methods, other origins.
import assert from "node:assert/strict";
import { createServer, request } from "node:http";
import type { AddressInfo } from "node:net";
import { test } from "node:test";

import { fetchTransport } from "./gen/faithful/client.js";
import { nodeListener, nodeTransport } from "./gen/faithful/node.js";
import { Refusal } from "./gen/faithful/server.js";
import type { Served } from "./gen/faithful/server.js";
import { nodeSocket, serveSockets } from "./gen/faithful/socket.js";
import { BadAnswer, InvalidRequest, MissingCredential, Problem, Unreachable } from "./gen/faithful/web.js";
import { PierClient } from "./gen/skerry/matrix/client.js";
import { servePier } from "./gen/skerry/matrix/server.js";

const local = "http://pier.example";

/** A client straight to a mount. */
function clientOf(served: Served): PierClient {
  return new PierClient(local, { tries: 1, transport: async ({ method, url, headers, body }) => {
    const response = await served(new Request(url, { method, headers, ...(body instanceof Uint8Array ? { body } : {}) }));
    return { status: response.status, header: (name) => response.headers.get(name), body: response.body ?? empty() };
  } });
}

async function* empty(): AsyncGenerator<Uint8Array> {
  // Nothing comes.
}

async function* endless(): AsyncGenerator<{ n: number }> {
  for (;;) {
    yield { n: 1 };
    await new Promise((resolve) => setTimeout(resolve, 5));
  }
}

async function caught(act: () => Promise<unknown>): Promise<unknown> {
  try {
    await act();
  } catch (problem) {
    return problem;
  }
  throw new Error("nothing was thrown");
}

void test("a handler refuses for reasons of its own", async () => {
  let refusal = new Error();
  const told: unknown[] = [];
  const served = servePier({ refuse: () => Promise.reject(refusal) }, { onError: (_, problem) => told.push(problem) });
  const client = clientOf(served);
  const fail = async (problem: Error): Promise<Problem> => {
    refusal = problem;
    const got = await caught(() => client.refuse({ how: "so" }));
    assert.ok(got instanceof Problem, String(got));
    return got;
  };
  const violations = [{ pointer: "/how", detail: "must be said kindly" }, { pointer: "/code", detail: "must be open", in: "path" as const }];
  let p = await fail(new Refusal({ violations }));
  assert.deepEqual([p.problem, p.status, p.detail, p.violations], ["invalid-request", 400, "2 violations", violations]);
  p = await fail(new Refusal({ status: 429, detail: "once a minute", retryAfterSeconds: 1.5 }));
  assert.deepEqual([p.problem, p.status, p.title, p.detail], ["about:blank", 429, "Too Many Requests", "once a minute"]);
  p = await fail(new Refusal({ status: 423, type: "https://skerry.example/problems/frozen", title: "The pier is frozen", instance: "/piers/EID" }));
  assert.deepEqual([p.problem, p.status, p.title, p.instance], ["https://skerry.example/problems/frozen", 423, "The pier is frozen", "/piers/EID"]);
  assert.equal(told.length, 0);
  for (const wrong of [{ status: 200 }, { status: 600 }, { status: NaN }, { status: 409, type: "/-/errors/skerry.matrix.PierFull" }, { violations: [] }]) {
    p = await fail(new Refusal(wrong));
    assert.deepEqual([p.problem, p.status, p.detail], ["internal", 500, ""], JSON.stringify(wrong));
    assert.equal(told.pop(), refusal);
  }
  // What another server refused is an error of this one, not of its caller.
  p = await fail(new Problem("about:blank", 423, "Locked", ""));
  assert.equal(p.problem, "internal");

  refusal = new Refusal({ status: 429, retryAfterSeconds: 1.5 });
  const answer = await served(new Request(`${local}/skerry/matrix/pier/refuse`, { method: "POST", headers: { "content-type": "application/json" }, body: '{"how":"so"}' }));
  assert.equal(answer.headers.get("retry-after"), "2");
  assert.deepEqual(await answer.json(), { type: "about:blank", title: "Too Many Requests", status: 429 });
});

void test("methods of a path, and answers without their bodies", async () => {
  let ran = 0;
  const served = servePier({
    look: (request) => request,
    tail: () => {
      ran++;
      return endless();
    },
  });
  const ask = (method: string, path: string): Promise<Response> => served(new Request(local + path, { method }));
  for (const [path, allow] of [["/piers/EID", "DELETE, GET, HEAD, OPTIONS"], ["/tail", "GET, HEAD, OPTIONS"], ["/skerry/matrix/pier/echo", "OPTIONS, POST"]] as const) {
    const answer = await ask("OPTIONS", path);
    assert.deepEqual([answer.status, answer.headers.get("allow"), await answer.text()], [204, allow, ""]);
    const refused = await ask("PATCH", path);
    assert.deepEqual([refused.status, refused.headers.get("allow")], [405, allow]);
  }
  assert.equal((await ask("OPTIONS", "/nothing")).status, 404);
  const server = createServer(nodeListener(served)).listen(0, "127.0.0.1");
  await new Promise((resolve) => server.once("listening", resolve));
  try {
    const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
    const whole = await fetch(`${base}/piers/EID`);
    const head = await fetch(`${base}/piers/EID`, { method: "HEAD" });
    assert.deepEqual([head.status, await head.text()], [200, ""]);
    assert.equal(head.headers.get("content-length"), String((await whole.arrayBuffer()).byteLength));
    assert.equal(head.headers.get("content-type"), whole.headers.get("content-type"));
    const stream = await fetch(`${base}/tail?id=1`, { method: "HEAD" });
    assert.deepEqual([stream.status, stream.headers.get("content-type"), ran], [200, "application/json-seq", 0]);
    assert.equal((await fetch(`${base}/tail?id=x`, { method: "HEAD" })).status, 400);
  } finally {
    server.close();
    server.closeAllConnections();
  }
});

void test("what pages of other origins are told", async () => {
  const served = servePier({ look: (request) => request }, { origins: ["https://skerry.example"] });
  const ask = (headers: Record<string, string>, method = "GET"): Promise<Response> => served(new Request(`${local}/piers/EID`, { method, headers }));
  const listed = await ask({ origin: "https://skerry.example" });
  assert.equal(listed.headers.get("access-control-allow-origin"), "https://skerry.example");
  assert.equal(listed.headers.get("access-control-allow-credentials"), "true");
  for (const headers of [{ origin: "https://elsewhere.example" }, {}] as Record<string, string>[]) {
    const answer = await ask(headers);
    assert.equal(answer.headers.get("access-control-allow-origin"), null);
    assert.match(answer.headers.get("vary") ?? "", /Origin/);
  }
  const preflight = await ask({ origin: "https://skerry.example", "access-control-request-method": "DELETE" }, "OPTIONS");
  assert.deepEqual([preflight.status, preflight.headers.get("access-control-allow-methods")], [204, "DELETE"]);
});

void test("answers of proxies, and reasons of no answer", async () => {
  let [status, body] = [502, "<html>\n<h1>Bad gateway</h1>\n"];
  const proxy = new PierClient(local, { tries: 1, transport: () => Promise.resolve({ status, header: () => null, body: new Blob([body]).stream() }) });
  const p = await caught(() => proxy.echo({ names: new Map() }));
  assert.ok(p instanceof Problem);
  assert.deepEqual([p.problem, p.status, p.title, p.detail], ["about:blank", 502, "Bad Gateway", "<html> <h1>Bad gateway</h1>"]);
  [status, body] = [302, ""];
  assert.ok((await caught(() => proxy.echo({ names: new Map() }))) instanceof BadAnswer);

  let lose = true;
  const server = createServer((incoming) => {
    if (lose) {
      incoming.socket.destroy();
    }
  }).listen(0, "127.0.0.1");
  await new Promise((resolve) => server.once("listening", resolve));
  const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
  for (const transport of [nodeTransport(), undefined]) {
    const client = new PierClient(base, { tries: 1, ...(transport === undefined ? {} : { transport }) });
    const reason = async (options?: { signal?: AbortSignal; timeout?: number }): Promise<string> => {
      const problem = await caught(() => client.echo({ names: new Map() }, options));
      assert.ok(problem instanceof Unreachable, String(problem));
      assert.ok(problem.message.includes(`no answer, ${problem.reason}: `), problem.message);
      return problem.reason;
    };
    lose = true;
    assert.equal(await reason(), "lost");
    lose = false;
    assert.equal(await reason({ timeout: 50 }), "timed out");
    const giving = new AbortController();
    setTimeout(() => {
      giving.abort();
    }, 50);
    assert.equal(await reason({ signal: giving.signal }), "cancelled");
    const nobody = new PierClient("http://127.0.0.1:1", { tries: 1, ...(transport === undefined ? {} : { transport }) });
    const problem = await caught(() => nobody.echo({ names: new Map() }));
    assert.ok(problem instanceof Unreachable);
    assert.equal(problem.reason, "refused", problem.message);
  }
  server.close();
  server.closeAllConnections();
});

void test("a handler that gives up since its caller has left is no error", async () => {
  const told: string[] = [];
  const started: string[] = [];
  const giving = new AbortController();
  const served = servePier(
    {
      async sleep(_, { signal }) {
        started.push("sleep");
        await new Promise((_resolve, reject) => {
          signal.addEventListener("abort", () => {
            reject(new DOMException("it was left", "AbortError"));
          });
          giving.abort();
        });
      },
      refuse(_, { signal }) {
        started.push("refuse");
        throw signal.aborted ? new RangeError("a fault") : new Error("the caller is still there");
      },
    },
    { onError: (_, problem) => told.push(String(problem)) },
  );
  const ask = (path: string, body: string): Promise<unknown> => served(new Request(`http://127.0.0.1/skerry/matrix/pier/${path}`, { method: "POST", headers: { "content-type": "application/json" }, body, signal: giving.signal })).catch(() => undefined);
  await ask("sleep", '{"id":1}');
  assert.deepEqual(told, []);
  await ask("refuse", '{"how":"x"}');
  assert.deepEqual(told, ["RangeError: a fault"]);
  assert.deepEqual(started, ["sleep", "refuse"]);
});

void test("a mount shuts down with calls of every kind in the middle", async () => {
  const started: string[] = [];
  let finish = (): void => undefined;
  const finished = new Promise<void>((resolve) => {
    finish = resolve;
  });
  const served = servePier({
    async echo(request) {
      started.push("echo");
      await finished;
      return { request };
    },
    async *count() {
      yield { n: 1 };
      started.push("count");
      await new Promise(() => undefined); // and heeds nothing
    },
    async *drift(_, context) {
      yield { n: 1 };
      started.push("drift");
      await new Promise((resolve) => {
        context.signal.addEventListener("abort", resolve);
      }); // and ends as if all were sent
    },
    async sum(ticks) {
      started.push("sum");
      for await (const tick of ticks) {
        assert.ok(tick);
      }
      return { total: 0n };
    },
    async *mirror(ticks) {
      started.push("mirror");
      for await (const tick of ticks) {
        yield tick;
      }
    },
  }, { heartbeat: 20 });
  const server = createServer(nodeListener(served)).listen(0, "127.0.0.1");
  serveSockets(server, served);
  await new Promise((resolve) => server.once("listening", resolve));
  const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
  const client = new PierClient(base, { tries: 1, transport: nodeTransport(), socket: nodeSocket });
  const all = async (ticks: AsyncIterable<unknown>): Promise<string> => {
    for await (const tick of ticks) {
      assert.ok(tick);
    }
    return "ended";
  };
  const told = async (act: Promise<unknown>): Promise<unknown> => act.catch((problem: unknown) => (problem instanceof Problem ? problem.problem : problem));
  const streams = [told(all(client.count({ count: 3 }))), told(all(client.drift({ id: 1 }))), told(client.sum(endless())), told(all(client.mirror(endless())))];
  const unary = told(client.echo({ text: "still there", names: new Map() }).then(({ request }) => request.text));
  while (started.length < 5) {
    await new Promise((resolve) => setTimeout(resolve, 5));
  }

  let down = false as boolean;
  const shutting = served.shutdown().then(() => {
    down = true;
  });
  assert.deepEqual(await Promise.all(streams), ["unavailable", "unavailable", "unavailable", "unavailable"]);
  assert.equal(down, false, "a call is still at work");
  const state = await fetch(`${base}/-/state`);
  assert.deepEqual([state.status, await state.json()], [503, { serving: false }]);
  assert.equal(await told(client.ended()), "unavailable");
  finish();
  assert.equal(await unary, "still there", "it was finished");
  await shutting;
  server.close();
  server.closeAllConnections();
});

void test("options of one call", async () => {
  const heard: unknown[] = [];
  const served = servePier({
    guarded: ({ header, credentials }) => {
      heard.push([header("pier-asked"), ...credentials.values()]);
      return { request: { names: new Map() } };
    },
    async *count() {
      await Promise.resolve();
      yield { n: 1 };
    },
  });
  const client = new PierClient(local, { tries: 1, transport: fetchTransport(served), headers: { "pier-asked": "always" }, credentials: { "skerry.matrix.machine": "ada:flood" } });
  const answers: unknown[] = [];
  const options = {
    headers: { "Pier-Asked": "once" },
    credentials: { machine: "per:tide" },
    answered: (status: number, header: (name: string) => string | null): void => {
      answers.push([status, header("Content-Type")]);
    },
  };
  await client.guarded(options);
  await client.guarded();
  for await (const tick of client.count({ count: 1 }, options)) {
    assert.ok(tick);
  }
  await caught(() => client.ended(options));
  assert.deepEqual(heard, [["once", "per:tide"], ["always", "ada:flood"]]);
  assert.deepEqual(answers, [[200, "application/cbor"], [200, "application/cbor-seq"], [501, "application/problem+json"]]);
});

void test("calls beyond those that a server answers at once", async () => {
  let finish = (): void => undefined;
  const served = servePier({ ended: () => new Promise((resolve) => { finish = (): void => { resolve({ whole: 0n, lost: 0n }); }; }) }, { callLimit: 1 });
  const client = clientOf(served);
  const first = client.ended();
  await new Promise((resolve) => setTimeout(resolve, 20));
  const problem = await caught(() => client.woken());
  assert.ok(problem instanceof Problem);
  assert.equal(problem.problem, "overloaded");
  finish();
  await first;
  const later = client.ended();
  await new Promise((resolve) => setTimeout(resolve, 20));
  finish();
  await later;
});

void test("an upgrade that fails after it was agreed to is over", async () => {
  const watched: number[] = [];
  const served = servePier({ mirror: (ticks) => ticks as AsyncIterable<never> }, { callLimit: 1, watcher: () => ({ status }) => watched.push(status) });
  const server = createServer(nodeListener(served)).listen(0, "127.0.0.1");
  serveSockets(server, served);
  await new Promise((resolve) => server.once("listening", resolve));
  const { port } = server.address() as AddressInfo;
  const headers = { connection: "Upgrade", upgrade: "websocket", "sec-websocket-protocol": "faithful-json", "sec-websocket-version": "13", "sec-websocket-key": "too short" };
  for (let i = 0; i < 2; i++) {
    const status = await new Promise((resolve, reject) => {
      request({ port, path: "/skerry/matrix/pier/mirror", headers }, (answer) => {
        answer.resume().on("close", () => {
          resolve(answer.statusCode);
        });
      }).on("error", reject).end();
    });
    assert.equal(status, 400, "it takes no place of another call");
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  assert.deepEqual(watched, [0, 0]);
  await served.shutdown();
  server.close();
});

void test("what a browser sends", async () => {
  const seen: Request[] = [];
  const served = servePier({ look: (request) => request, guarded: () => ({ request: { names: new Map() } }), count: () => endless() });
  const transport = fetchTransport((request) => {
    seen.push(request);
    return served(request);
  });
  const client = new PierClient(local, { tries: 1, transport });
  const told = (): unknown => {
    const [request] = seen.splice(0);
    return [request?.headers.get("prefer"), request?.credentials];
  };
  await client.look({ code: "EID" });
  assert.deepEqual(told(), ["wait=60", "same-origin"]);
  assert.ok((await caught(() => client.guarded())) instanceof MissingCredential);
  Object.assign(globalThis, { document: {} });
  try {
    await client.look({ code: "EID" });
    assert.deepEqual(told(), [null, "same-origin"], "a GET of another origin needs no preflight");
    await new PierClient(local, { tries: 1, transport, prefer: true }).look({ code: "EID" });
    assert.deepEqual(told(), ["wait=60", "same-origin"]);
    const problem = await caught(() => client.sum([]));
    assert.ok(problem instanceof TypeError && problem.message.includes("browsers can't send"), String(problem));
    await caught(() => client.berth({ code: "EID", number: 1n, decks: [], name: "Ada", ticket: "in vain" }));
    assert.deepEqual(told(), [null, "include"], "with what the browser keeps");
  } finally {
    delete (globalThis as { document?: unknown }).document;
  }
});

void test("a watcher is told how calls of every kind went", async () => {
  const told: string[] = [];
  const next = async (): Promise<string> => {
    while (told.length === 0) {
      await new Promise((resolve) => setTimeout(resolve, 2));
    }
    return told.shift() ?? "";
  };
  const served = servePier(
    {
      ended: () => ({ whole: 0n, lost: 0n }),
      woken: () => Promise.reject(new Error("no glue")),
      async *count() {
        await Promise.resolve();
        yield { n: 1 };
        throw new Error("fog");
      },
      async *mirror(ticks) {
        yield* ticks;
      },
    },
    {
      onError: () => undefined,
      watcher: (call) => ({ duration, status, received, sent, failed }) => {
        assert.ok(duration >= 0);
        told.push(`${call.split(".")[3] ?? ""} ${String(status)} in ${String(received)} out ${String(sent)} ${failed instanceof Error ? failed.message : String(failed)}`);
      },
    },
  );
  const server = createServer(nodeListener(served)).listen(0, "127.0.0.1");
  serveSockets(server, served);
  await new Promise((resolve) => server.once("listening", resolve));
  const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
  const client = new PierClient(base, { tries: 1, transport: nodeTransport(), socket: nodeSocket, encoding: "json" });
  try {
    await client.ended();
    assert.equal(await next(), "ended 200 in 0 out 20 undefined");
    await caught(() => client.woken());
    assert.equal(await next(), "woken 500 in 0 out 61 no glue");
    await caught(() => client.refuse({ how: "so" }));
    assert.match(await next(), /^refuse 501 in 12 out [0-9]+ undefined$/);
    await caught(async () => {
      for await (const tick of client.count({ count: 3 })) {
        assert.ok(tick);
      }
    });
    assert.match(await next(), /^count 200 in [0-9]+ out [0-9]+ fog$/);
    for await (const tick of client.mirror([{ n: 1 }])) {
      assert.ok(tick);
    }
    assert.equal(await next(), "mirror 101 in 27 out 27 undefined");
    await caught(() => new PierClient(base, { tries: 1, credentials: { desk: "x", crew: "y" }, encoding: "json" }).guarded());
    assert.match(await next(), /^guarded 501 /);
  } finally {
    server.close();
    server.closeAllConnections();
  }
});

void test("middleware sees request and answer", async () => {
  const seen: unknown[] = [];
  const served = servePier(
    { look: (request) => ({ ...request, name: "Ada" }), leave: () => undefined, count: () => endless() },
    {
      middleware: [
        async (context, next) => {
          const before = [context.request, context.answer];
          await next();
          seen.push([...before, context.answer].map((message) => (message === undefined ? "none" : JSON.stringify(message))).join(" "));
        },
      ],
    },
  );
  const client = clientOf(served);
  await client.look({ code: "EID" });
  await client.leave({ code: "EID" });
  for await (const tick of client.count({ count: 1 })) {
    assert.ok(tick);
    break;
  }
  assert.deepEqual(seen.slice(0, 2), ['{"code":"EID","open":true} none {"code":"EID","open":true,"name":"Ada"}', '{"code":"EID","open":true} none none']);
});

void test("what can't be written is a violation, with its place", async () => {
  const served = servePier({});
  for (const encoding of ["cbor", "json"] as const) {
    const client = new PierClient(local, { tries: 1, transport: fetchTransport(served), encoding });
    for (const [names, pointer] of [[new Map([["a/b", 1n << 70n]]), "/names/a~1b"], [new Map([["a", 1n], ["b", 7 as unknown as bigint]]), "/names/b"]] as const) {
      const problem = await caught(() => client.echo({ names }));
      assert.ok(problem instanceof InvalidRequest, String(problem));
      assert.deepEqual(problem.violations.map((v) => v.pointer), [pointer]);
      assert.ok(problem.message.startsWith("skerry.matrix.Pier.echo: /names"), problem.message);
    }
  }
});
