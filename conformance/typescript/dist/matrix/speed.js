// Measures calls through stubs against the same bytes over the bare transport, in interleaved rounds: the median of the ratios.
import { Agent, createServer, request as httpRequest } from "node:http";
import { nodeLimits, nodeListener, nodeTransport } from "../gen/faithful/node.js";
import { PierClient, echoAnswerTools, echoRequestTools, servePier } from "../gen/skerry/matrix/index.js";
const message = echoRequestTools.make({
    text: Buffer.from("Skerry ".repeat(30)).toString(), // as texts are that have come from somewhere: flat
    names: new Map([
        ["seats", 3n],
        ["lanes", 7n],
    ]),
});
const asked = echoRequestTools.toCbor(message);
const answered = echoAnswerTools.toCbor(echoAnswerTools.make({ request: message }));
async function serve(listener) {
    const server = createServer(nodeLimits, listener);
    server.unref();
    await new Promise((resolve) => server.listen(0, "127.0.0.1", resolve));
    return `http://127.0.0.1:${String(server.address().port)}`;
}
let headers = {};
let answerHeaders = {};
const stubs = await serve(nodeListener(servePier({ echo: (request) => ({ request }) })));
const bare = await serve((incoming, outgoing) => {
    const chunks = [];
    incoming.on("data", (chunk) => chunks.push(chunk));
    incoming.on("end", () => {
        if (Buffer.concat(chunks).length !== asked.length) {
            throw new Error("not all came");
        }
        outgoing.writeHead(200, answerHeaders);
        outgoing.end(answered);
    });
});
const path = "/skerry/matrix/pier/echo";
// The same bytes are the same headers, too.
await new PierClient(stubs, {
    transport: nodeTransport(),
    middleware: [
        async (request, _, next) => {
            headers = { ...request.headers };
            const answer = await next(request);
            for (const name of ["faithful-definitions", "content-type", "content-length", "vary"]) {
                answerHeaders = { ...answerHeaders, [name]: answer.header(name) ?? "" };
            }
            return answer;
        },
    ],
}).echo(message);
const agent = new Agent({ keepAlive: true });
function overNode() {
    return new Promise((resolve, reject) => {
        const sent = httpRequest(bare + path, { method: "POST", agent, headers: { ...headers, "content-length": String(asked.length) } }, (incoming) => {
            const chunks = [];
            incoming.on("data", (chunk) => chunks.push(chunk));
            incoming.on("end", () => {
                resolve(Buffer.concat(chunks).length);
            });
            incoming.on("error", reject);
        });
        sent.on("error", reject);
        sent.end(asked);
    });
}
async function overFetch() {
    const answer = await fetch(bare + path, { method: "POST", headers, body: asked });
    return (await answer.arrayBuffer()).byteLength;
}
async function time(call) {
    const start = process.hrtime.bigint();
    for (let n = 0; n < 100; n++) {
        await call();
    }
    return Number(process.hrtime.bigint() - start);
}
async function measure(name, ours, reference) {
    for (let n = 0; n < 10; n++) {
        await time(ours);
        await time(reference);
    }
    const ratios = [];
    for (let n = 0; n < 15; n++) {
        ratios.push((await time(reference)) / (await time(ours)));
    }
    ratios.sort((a, b) => a - b);
    console.log(`typescript calls over ${name}: ${(ratios[7] ?? 0).toFixed(2)} of the calls a second of ${name} alone`);
}
const node = new PierClient(stubs, { transport: nodeTransport() });
const fetching = new PierClient(stubs);
await measure("node:http", () => node.echo(message), overNode);
await measure("fetch", () => fetching.echo(message), overFetch);
process.exit(0);
