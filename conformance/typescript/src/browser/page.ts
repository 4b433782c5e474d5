// A page that makes calls of every kind to a server of another origin, and writes down how they went.
import { browserSocket } from "../gen/faithful/client_sockets.js";
import { NotModified, type Encoding } from "../gen/faithful/web.js";
import { Body } from "../gen/faithful/wire.js";
import { PierClient } from "../gen/skerry/matrix/client.js";

const base = new URLSearchParams(location.search).get("server") ?? "";
const lines: string[] = [];

async function tell(name: string, act: () => Promise<string>): Promise<void> {
  try {
    lines.push(`${name}: ${await act()}`);
  } catch (problem) {
    lines.push(`${name}: ${String(problem)}`);
  }
}

async function lengthOf(items: AsyncIterable<unknown>): Promise<number> {
  const all: unknown[] = [];
  for await (const item of items) {
    all.push(item);
  }
  return all.length;
}

async function calls(encoding: Encoding): Promise<void> {
  const client = new PierClient(base, { encoding, socket: browserSocket });
  await tell("unary", async () => (await client.echo({ text: "ü", names: new Map() })).request.text ?? "");
  await tell("answer headers", async () => {
    document.cookie = "visit=hello";
    const { name, count, how, visit } = await client.stamp({ code: "kept", how: "so" });
    return [name, count, how, visit, document.cookie === "" ? "the cookie is the server's now" : document.cookie].map(String).join(", ");
  });
  await tell("not modified", () =>
    client.stamp({ code: "kept", known: "*" }).then(
      () => "it should be",
      (problem: unknown) => (problem instanceof NotModified ? problem.etag.replace(encoding, "*") : String(problem)),
    ),
  );
  await tell("upload", async () => {
    const photo = new Blob([new Uint8Array(3_000_000).fill(1)], { type: "image/x-made" });
    const { size, sum, kind } = await client.hang({ name: "n", photo: new Body(photo), tags: [] });
    return `${String(size)} bytes of ${kind}, ${String(sum)} in all`;
  });
  await tell("download", async () => `${String((await (await client.photo({ name: "n", size: 3_000_000n })).photo.bytes()).length)} bytes`);
  await tell("answer stream", async () => String(await lengthOf(client.count({ count: 20, size: 50_000 }))));
  await tell("both ways", async () => String(await lengthOf(client.mirror([{ n: 1 }, { n: 2 }]))));
  await tell("request stream", async () => String((await client.sum([{ n: 1 }])).total));
  await tell("redirect", async () => (await client.move({ to: "/a" })).at);
}

await calls("cbor");
await calls("json");
document.body.textContent = lines.join("\n");
document.title = "done";
