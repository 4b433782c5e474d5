// Reads vectors from a file and holds the stubs against them.
import { readFileSync } from "node:fs";

import * as wire from "./gen/faithful/wire.js";
import { manyTools } from "./gen/skerry/many/types.js";
import { leafTools } from "./gen/skerry/shared/types.js";
import { boundedTools, brokenTools, defaultsTools, emptyTools, listsTools, mapsTools, nodeTools, optionalsTools, renamedTools, scalarsTools } from "./gen/skerry/vectors/types.js";

interface Vector {
  readonly message: string;
  readonly form: "cbor" | "json";
  readonly payload: string;
  readonly accepted: boolean;
  readonly cbor: string | null;
  readonly json: string | null;
  readonly why?: string;
  readonly violations: readonly wire.Violation[] | null;
}

const codecs: Readonly<Record<string, wire.Codec<unknown>>> = {
  Many: manyTools as wire.Codec<unknown>,
  Leaf: leafTools as wire.Codec<unknown>,
  Bounded: boundedTools as wire.Codec<unknown>,
  Broken: brokenTools as wire.Codec<unknown>,
  Defaults: defaultsTools as wire.Codec<unknown>,
  Empty: emptyTools as wire.Codec<unknown>,
  Lists: listsTools as wire.Codec<unknown>,
  Maps: mapsTools as wire.Codec<unknown>,
  Node: nodeTools as wire.Codec<unknown>,
  Optionals: optionalsTools as wire.Codec<unknown>,
  Renamed: renamedTools as wire.Codec<unknown>,
  Scalars: scalarsTools as wire.Codec<unknown>,
};

/** What comes of an attempt; undefined when it is refused. */
function attempt<T>(act: () => T): T | undefined {
  try {
    return act();
  } catch (problem) {
    if (problem instanceof wire.WireError) {
      return undefined;
    }
    throw problem;
  }
}

/** What is wrong with a vector, or undefined. */
function disagreement(v: Vector): string | undefined {
  const codec = codecs[v.message];
  if (codec === undefined) {
    return "no such message";
  }
  const payload = new Uint8Array(Buffer.from(v.payload, "hex"));
  const message = attempt(() => (v.form === "cbor" ? wire.fromCbor(codec, payload) : wire.fromJson(codec, payload)));
  if (message === undefined) {
    return v.accepted ? "refused" : undefined;
  }
  if (!v.accepted) {
    return `taken; the reference: ${v.why ?? ""}`;
  }
  const cbor = attempt(() => Buffer.from(wire.toCbor(codec, message)).toString("hex")) ?? null;
  if (cbor !== v.cbor) {
    return `writes ${cbor}, not ${v.cbor}`;
  }
  const json = attempt(() => wire.toJson(codec, message)) ?? null;
  if (json !== v.json) {
    return `writes ${json}, not ${v.json}`;
  }
  const violations = JSON.stringify(wire.validate(codec, message));
  const wanted = JSON.stringify(v.violations ?? []);
  return violations === wanted ? undefined : `violates ${violations}, not ${wanted}`;
}

const vectors = JSON.parse(readFileSync(process.argv[2] ?? "", "utf8")) as Vector[];
let bad = 0;
for (const v of vectors) {
  const problem = disagreement(v);
  if (problem !== undefined && ++bad <= 10) {
    console.log(`${v.message} as ${v.form}: ${v.form === "json" ? Buffer.from(v.payload, "hex").toString() : v.payload}\n  ${problem}`);
  }
}
console.log(bad === 0 ? `${vectors.length} payloads agree` : `${bad} of ${vectors.length} payloads disagree`);
process.exitCode = bad === 0 ? 0 : 1;
