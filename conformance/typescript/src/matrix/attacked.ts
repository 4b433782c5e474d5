// The client in TypeScript of hostile servers: it makes one call, and prints what came of
// it, after how many milliseconds, and what the error says.
import { setTimeout as wait } from "node:timers/promises";

import type { ClientOptions } from "../gen/faithful/client.js";
import { nodeTransport } from "../gen/faithful/node.js";
import { nodeSocket } from "../gen/faithful/socket.js";
import { BadAnswer, Problem, Unreachable } from "../gen/faithful/web.js";
import { PierClient, type Tick, echoRequestTools } from "../gen/skerry/matrix/index.js";

const [server = "", scene = "", carrier = "node"] = process.argv.slice(2);
const carried: ClientOptions = carrier === "node" ? { transport: nodeTransport(), socket: nodeSocket } : { socket: nodeSocket };
const client = (options: ClientOptions): PierClient => new PierClient(server, { ...carried, ...options });
const hurried = client({ timeout: 1000, idleTimeout: 1000 });
const request = echoRequestTools.make({ names: new Map() });

async function count(pause: number): Promise<void> {
  for await (const { n } of hurried.count({ count: 3 })) {
    await wait(pause, n);
  }
}

async function* ticks(): AsyncGenerator<Tick> {
  for (let n = 0; n < 3; n++) {
    yield await Promise.resolve({ n });
  }
}

async function* waiting(): AsyncGenerator<Tick> {
  await wait(20_000, undefined, { ref: false });
  yield* [];
}

const scenes: Record<string, () => Promise<unknown>> = {
  echo: () => hurried.echo(request),
  count: () => count(0),
  slow: () => count(1500),
  sum: () => hurried.sum(ticks()),
  mirror: async () => {
    for await (const { n } of hurried.mirror(waiting())) {
      await wait(0, n);
    }
  },
  credential: () => client({ timeout: 1000, credentials: { machine: () => new Promise<string>(() => undefined) } }).guarded(),
  cancel: () => client({}).echo(request, { signal: AbortSignal.timeout(500) }),
  cancelstream: async () => {
    for await (const { n } of client({}).count({ count: 3 }, { signal: AbortSignal.timeout(500) })) {
      await wait(0, n);
    }
  },
  secret: () => client({ credentials: { crew: "s3cret\nEvil: 1", desk: "s3cret" } }).guarded(),
  query: () => client({ tries: 1, credentials: { machine: "s3cret" } }).guarded(),
  forever: () => client({ timeout: Infinity, idleTimeout: Infinity, answerLimit: Infinity }).echo(request),
};

function kind(problem: unknown): string {
  return problem instanceof Unreachable ? "unreachable" : problem instanceof BadAnswer ? "bad" : problem instanceof Problem ? "problem" : "other";
}

/** What an error says, with what it was caused by: loggers print that. */
function told(problem: unknown): string {
  return problem instanceof Error ? `${problem.name}: ${problem.message}${problem.cause === undefined ? "" : ` (${told(problem.cause)})`}` : String(problem);
}

const start = performance.now();
let [outcome, text] = ["ok", ""];
try {
  await scenes[scene]?.();
} catch (problem) {
  [outcome, text] = [kind(problem), told(problem)];
}
console.log(`${outcome} ${String(Math.round(performance.now() - start))} ${text.replaceAll("\n", " ")}`);
process.exit(0);
