// The client in TypeScript of hostile servers: it makes one call, and prints what came of
// it, after how many milliseconds, and what the error says.
import { setTimeout as wait } from "node:timers/promises";
import { nodeTransport } from "../gen/faithful/node.js";
import { nodeSocket } from "../gen/faithful/socket.js";
import { BadAnswer, Problem, Unreachable } from "../gen/faithful/web.js";
import { PierClient, echoRequestTools } from "../gen/skerry/matrix/index.js";
const [server = "", scene = "", carrier = "node"] = process.argv.slice(2);
const carried = carrier === "node" ? { transport: nodeTransport(), socket: nodeSocket } : { socket: nodeSocket };
const client = (options) => new PierClient(server, { ...carried, ...options });
const hurried = client({ timeout: 1000, idleTimeout: 1000 });
const request = echoRequestTools.make({ names: new Map() });
async function count(pause) {
    for await (const { n } of hurried.count({ count: 3 })) {
        await wait(pause, n);
    }
}
async function* ticks() {
    for (let n = 0; n < 3; n++) {
        yield await Promise.resolve({ n });
    }
}
async function* waiting() {
    await wait(20_000, undefined, { ref: false });
    yield* [];
}
const scenes = {
    echo: () => hurried.echo(request),
    count: () => count(0),
    slow: () => count(1500),
    sum: () => hurried.sum(ticks()),
    mirror: async () => {
        for await (const { n } of hurried.mirror(waiting())) {
            await wait(0, n);
        }
    },
    credential: () => client({ timeout: 1000, credentials: { machine: () => new Promise(() => undefined) } }).guarded(),
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
function kind(problem) {
    return problem instanceof Unreachable ? "unreachable" : problem instanceof BadAnswer ? "bad" : problem instanceof Problem ? "problem" : "other";
}
/** What an error says, with what it was caused by: loggers print that. */
function told(problem) {
    return problem instanceof Error ? `${problem.name}: ${problem.message}${problem.cause === undefined ? "" : ` (${told(problem.cause)})`}` : String(problem);
}
const start = performance.now();
let [outcome, text] = ["ok", ""];
try {
    await scenes[scene]?.();
}
catch (problem) {
    [outcome, text] = [kind(problem), told(problem)];
}
console.log(`${outcome} ${String(Math.round(performance.now() - start))} ${text.replaceAll("\n", " ")}`);
process.exit(0);
