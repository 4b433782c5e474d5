// The client in TypeScript of connections that are cut: it calls until a call
// comes through whole, and holds each that does not against what it is told of it.
import { nodeTransport } from "../gen/faithful/node.js";
import { nodeSocket } from "../gen/faithful/socket.js";
import { Unreachable } from "../gen/faithful/web.js";
import { PierClient } from "../gen/skerry/matrix/index.js";
const [base = "http://127.0.0.1:8080", encoding = "cbor", call = "count", transport = "node"] = process.argv.slice(2);
const carried = transport === "node" ? { transport: nodeTransport() } : {};
const client = new PierClient(base, { encoding: encoding, socket: nodeSocket, tries: 1, timeout: 10_000, ...carried });
const ticks = [{ n: 0 }, { n: 1 }, { n: 2 }];
async function number(stream) {
    let n = 0;
    for await (const tick of stream) {
        n += tick.n >= 0 ? 1 : 0;
    }
    return n;
}
async function act() {
    switch (call) {
        case "count":
            return number(client.count({ count: 3 }));
        case "sum":
            return Number((await client.sum(ticks)).total);
        default:
            return number(client.mirror(ticks));
    }
}
for (let cuts = 0;; cuts++) {
    try {
        const n = await act();
        console.log(n === 3 ? `whole after ${String(cuts)}` : `cut ${String(cuts)}: ${String(n)} elements were taken for the whole`);
        process.exit(n === 3 ? 0 : 1);
    }
    catch (problem) {
        if (!(problem instanceof Unreachable)) {
            console.log(`cut ${String(cuts)}:`, problem);
            process.exit(1);
        }
    }
}
