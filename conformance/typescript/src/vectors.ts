// Holds the stubs against the vectors of a file, or with - against each line of the input.
import { readFileSync } from "node:fs";
import { createInterface } from "node:readline";

import { attempt, codecs } from "./codecs.js";
import { InvalidValue, fromPlain, toPlain } from "./gen/faithful/plain.js";
import * as wire from "./gen/faithful/wire.js";

interface Vector {
  readonly message: string;
  readonly encoding: "cbor" | "json";
  readonly payload: string;
  readonly accepted: boolean;
  readonly cbor: string | null;
  readonly json: string | null;
  readonly why?: string;
  readonly violations: readonly wire.Violation[] | null;
}

/** What is wrong with a vector, or undefined. */
function disagreement(v: Vector): string | undefined {
  const tools = codecs[v.message];
  if (tools === undefined) {
    return "no such message";
  }
  const payload = new Uint8Array(Buffer.from(v.payload, "hex"));
  const plainly = v.encoding === "json" ? asPlain(tools, Buffer.from(payload).toString()) : undefined;
  if (plainly !== undefined) {
    return plainly;
  }
  const message = attempt(() => (v.encoding === "cbor" ? tools.fromCbor(payload) : tools.fromJson(payload)));
  if (message === undefined) {
    return v.accepted ? "refused" : undefined;
  }
  if (!v.accepted) {
    return `taken; the reference: ${v.why ?? ""}`;
  }
  const cbor = attempt(() => Buffer.from(tools.toCbor(message)).toString("hex")) ?? null;
  if (cbor !== v.cbor) {
    return `writes ${String(cbor)}, not ${String(v.cbor)}`;
  }
  const json = attempt(() => tools.toJson(message)) ?? null;
  if (json !== v.json) {
    return `writes ${String(json)}, not ${String(v.json)}`;
  }
  const violations = JSON.stringify(tools.validate(message));
  const wanted = JSON.stringify(v.violations ?? []);
  return violations === wanted ? compared(v.message, tools, message) : `violates ${violations}, not ${wanted}`;
}

/** What is wrong with how JSON is taken as plain data, or undefined: what JSON.parse makes of it is taken as its JSON is. */
function asPlain(tools: wire.ValueTools<unknown>, payload: string): string | undefined {
  let value: unknown;
  try {
    value = JSON.parse(payload);
  } catch {
    return undefined; // it is not JSON
  }
  if (/Infinity/.test(JSON.stringify(value, (_, v: unknown) => (typeof v === "number" && !Number.isFinite(v) ? "Infinity" : v)))) {
    return undefined; // a number was too large for JSON.parse, and refused as what that made of it
  }
  let read: unknown;
  try {
    read = tools.fromJson(JSON.stringify(value));
  } catch (problem) {
    try {
      fromPlain(tools, value);
    } catch (invalid) {
      const { path } = problem as wire.WireError;
      const told = invalid instanceof InvalidValue && invalid.violations.some(({ pointer }) => pointer === path || pointer.startsWith(`${path}/`)); // of a key, plain data says more
      return told ? undefined : `as plain data ${String(invalid)}, not ${String(problem)}`;
    }
    return `plain data is taken, not its JSON: ${String(problem)}`;
  }
  const again = tools.toJson(fromPlain(tools, value));
  if (again !== tools.toJson(read)) {
    return `of plain data, writes ${again}`;
  }
  const plain = attempt(() => toPlain(tools, read)); // which integers that are too large in an any prevent
  return plain === undefined || tools.toJson(fromPlain(tools, plain)) === tools.toJson(tools.fromJson(JSON.stringify(plain))) ? undefined : "its plain data is another message";
}

/** The messages that were read before, a few of each kind, with what tells whether two are equal. */
const earlier = new Map<string, { readonly message: unknown; readonly text: string }[]>();

/** What is wrong with comparing and copying a message, or undefined. */
function compared(name: string, tools: wire.ValueTools<unknown>, message: unknown): string | undefined {
  const w = new wire.JsonWriter("comparison");
  tools[wire.codecOf].writeJson(w, message);
  const text = w.result;
  const copy = wire.copied(message);
  if (!wire.same(message, copy) || !wire.same(copy, message) || tools.toJson(copy) !== tools.toJson(message)) {
    return "its copy is another";
  }
  const list = earlier.get(name) ?? [];
  for (const other of list) {
    // 0 and -0 are equal, and written apart.
    const undecided = text !== other.text && (text + other.text).includes("-0");
    if (!undecided && wire.same(message, other.message) !== (text === other.text)) {
      return `${text} is ${text === other.text ? "not " : ""}equal to ${other.text}`;
    }
  }
  earlier.set(name, [...list.slice(-11), { message, text }]);
  return undefined;
}

async function answer(): Promise<void> {
  for await (const line of createInterface({ input: process.stdin })) {
    console.log(JSON.stringify(disagreement(JSON.parse(line) as Vector) ?? null));
  }
}

function readAll(file: string): void {
  const vectors = JSON.parse(readFileSync(file, "utf8")) as Vector[];
  let bad = 0;
  for (const v of vectors) {
    const problem = disagreement(v);
    if (problem !== undefined && ++bad <= 10) {
      console.log(`${v.message} as ${v.encoding}: ${v.encoding === "json" ? Buffer.from(v.payload, "hex").toString() : v.payload}\n  ${problem}`);
    }
  }
  console.log(bad === 0 ? `${String(vectors.length)} payloads agree` : `${String(bad)} of ${String(vectors.length)} payloads disagree`);
  process.exitCode = bad === 0 ? 0 : 1;
}

const file = process.argv[2] ?? "";
if (file === "-") {
  await answer();
} else {
  readAll(file);
}
