// Applies the patches of a file, and makes them anew of what was before and after.
import { readFileSync } from "node:fs";

import { codecs } from "./codecs.js";
import * as wire from "./gen/faithful/wire.js";

interface Applied {
  readonly message: string;
  readonly before: string;
  readonly patch: string;
  readonly after: string;
}

/** What the tools of every patch have besides. */
interface PatchTools extends wire.ValueTools<unknown> {
  apply(patch: unknown, to: unknown): unknown;
  between(a: unknown, b: unknown): unknown;
}

/** What is wrong with a patch, or undefined. */
function disagreement(a: Applied): string | undefined {
  const of = codecs[a.message];
  const tools = codecs[`${a.message}Patch`] as PatchTools | undefined;
  if (of === undefined || tools === undefined) {
    return "no such message";
  }
  const before = of.fromJson(a.before);
  const after = of.fromJson(a.after);
  const applied = tools.apply(tools.fromJson(a.patch), before);
  const text = of.toJson(applied);
  if (text !== a.after) {
    return `gives ${text}, not ${a.after}`;
  }
  if (!wire.same(applied, after)) {
    return "gives what is not equal to what is read";
  }
  const between = tools.toJson(tools.between(before, after));
  const again = tools.apply(tools.fromJson(between), before);
  return wire.same(again, after) ? undefined : `the patch between the two is ${between}, which gives ${of.toJson(again)}`;
}

const all = JSON.parse(readFileSync(process.argv[2] ?? "", "utf8")) as Applied[];
let bad = 0;
for (const a of all) {
  const problem = disagreement(a);
  if (problem !== undefined && ++bad <= 10) {
    console.log(`${a.message} ${a.before}\n  ${a.patch}\n  ${problem}`);
  }
}
console.log(bad === 0 ? `${String(all.length)} patches agree` : `${String(bad)} of ${String(all.length)} patches disagree`);
process.exitCode = bad === 0 ? 0 : 1;
