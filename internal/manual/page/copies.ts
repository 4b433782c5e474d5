/** The same request for a terminal, as command/copies.go and remote/curl.go write it. */

import { callOf, outgoing } from "./calling.js";
import type { Filled } from "./calling.js";
import { Checker } from "./checking.js";
import { parse, write } from "./json.js";
import type { CallModel, Model } from "./model.js";
import { Client, Patience } from "../../stubs/typescript/support/client.js";
import { exchange } from "../../stubs/typescript/support/client_bodies.js";
import { receive } from "../../stubs/typescript/support/client_streams.js";
import type { OutgoingRequest } from "../../stubs/typescript/support/client.js";
import { ElementWriter } from "../../stubs/typescript/support/stream.js";
import * as web from "../../stubs/typescript/support/web.js";
import type * as wire from "../../stubs/typescript/support/wire.js";

export interface Copy {
  readonly as: string;
  readonly text: string;
}

/** A text as one word of a shell; with control characters in it as bash, zsh and POSIX of 2024 read it. */
export function word(text: string): string {
  if (!/[\0-\x1f\x7f-\x9f]/.test(text)) {
    return `'${text.replaceAll("'", `'\\''`)}'`;
  }
  const escaped = text.replace(/[\\'\0-\x1f\x7f-\x9f]/g, (c) => {
    if (c === "\n") {
      return "\\n";
    }
    return c === "'" || c === "\\"
      ? `\\${c}`
      : Array.from(new TextEncoder().encode(c), (b) => `\\${b.toString(8).padStart(3, "0")}`).join("");
  });
  return `$'${escaped}'`;
}

/** A request as command lines; credentials are variables of the environment. */
export async function copies(
  model: Model,
  call: CallModel,
  base: string,
  filled: Filled,
  file: string,
): Promise<Copy[]> {
  const parts = [`faithful call ${base} ${call.command}`];
  if (call.head !== undefined) {
    parts.push(`--head ${word(compact(filled.head))}`);
  }
  if (call.request !== undefined) {
    parts.push(`-d ${word(compact(filled.request))}`);
  }
  if (call.raw !== undefined) {
    parts.push(`--raw ${word(file)}`, `--media ${word(filled.mediaType === "" ? call.raw.given : filled.mediaType)}`);
  }
  for (const one of call.needs[0] ?? []) {
    parts.push(`--credential ${one.name.slice(one.name.lastIndexOf(".") + 1)}=env:${one.variable}`);
  }
  const list: Copy[] = [{ as: "As faithful call", text: parts.join(" \\\n  ") }];
  if (call.sends !== true || call.receives !== true) {
    const line = await curl(model, call, base, filled, file);
    if (line !== undefined) {
      list.push({ as: "As curl", text: line });
    }
  }
  return list;
}

function compact(text: string): string {
  try {
    return write(parse(text));
  } catch {
    return text; // what can't be read is sent as it is
  }
}

/** What stands for a credential while a request is made: nothing in it is changed on its way into a header, cookie or query. */
const stand = "x7f3credential";

async function curl(
  model: Model,
  call: CallModel,
  base: string,
  filled: Filled,
  file: string,
): Promise<string | undefined> {
  const stands = new Map((call.needs[0] ?? []).map((one) => [one.name, `${stand}${one.variable}`]));
  const known = callOf(call, new Checker(model), true);
  let taken: OutgoingRequest | undefined;
  const client = new Client(base, model.digest, {
    encoding: "json",
    tries: 1,
    prefer: true,
    credentials: Object.fromEntries(stands),
    transport: (request) => {
      taken = request;
      return Promise.reject(new Error("taken"));
    },
  });
  let body: string | undefined;
  try {
    const head = call.head === undefined ? undefined : outgoing(filled.head, undefined);
    const raw = call.raw === undefined ? undefined : (filled.raw ?? new Blob([], { type: call.raw.given }));
    const message = call.request === undefined ? undefined : outgoing(filled.request, raw);
    if (call.sends === true && message !== undefined) {
      const writer = new ElementWriter("json", known.request as wire.Codec<unknown>, true, 64 << 20);
      const text = new TextDecoder();
      body = text.decode(writer.value(message).slice()) + text.decode(writer.end().slice());
      const patience = new Patience(60_000, undefined);
      taken = await client.request(known, message, web.jsonType, undefined, patience, undefined, head);
      taken = { ...taken, headers: { ...taken.headers, "content-type": web.jsonSequence } };
      patience.done();
    } else if (call.receives === true) {
      await receive(client, known, message as never, undefined).next();
    } else if (call.raw !== undefined) {
      await exchange(client, known, message as never, undefined);
    } else {
      await client.do(known, message as never, undefined);
    }
  } catch {
    // The request was taken on its way, or can't be made.
  }
  if (taken === undefined) {
    return undefined;
  }
  if (body === undefined && taken.body instanceof Uint8Array) {
    body = new TextDecoder().decode(taken.body);
  }
  return line(call, taken, body, call.raw === undefined ? undefined : file);
}

function line(call: CallModel, request: OutgoingRequest, body: string | undefined, file: string | undefined): string {
  const url = new URL(request.url);
  const shown: string[] = [];
  let first = `curl -sS${call.receives === true ? "N" : ""}`;
  const parts: string[] = [];
  if (request.method !== "GET" && !(request.method === "POST" && (body !== undefined || file !== undefined))) {
    first += ` -X ${request.method}`;
  }
  for (const part of url.search.slice(1).split("&")) {
    if (part.includes(stand)) {
      parts.push(`--url-query ${variable(part)}`);
    } else if (part !== "") {
      shown.push(part);
    }
  }
  first += ` ${word(url.origin + url.pathname + (shown.length > 0 ? `?${shown.join("&")}` : ""))}`;
  for (const [name, value] of Object.entries(request.headers).sort(([a], [b]) => (a < b ? -1 : 1))) {
    const basic = /^Basic (.*)$/.exec(value);
    const plain = basic?.[1] === undefined ? "" : atob(basic[1]);
    parts.push(plain.startsWith(stand) ? `-u ${variable(plain)}` : `-H ${variable(`${canonical(name)}: ${value}`)}`);
  }
  if (file !== undefined) {
    parts.push(`--data-binary ${word(`@${file}`)}`);
  } else if (body !== undefined) {
    parts.push(`--data-binary ${word(body)}`);
  }
  return [first, ...parts].join(" \\\n  ");
}

/** A header as it is usually written. */
function canonical(name: string): string {
  return name.replace(/(?:^|-)[a-z]/g, (start) => start.toUpperCase());
}

/** A word of a shell in which the environment fills in a credential. */
function variable(text: string): string {
  const [before = "", after] = text.split(stand, 2);
  if (after === undefined) {
    return word(text);
  }
  const name = /^[A-Z0-9_]*/.exec(after)?.[0] ?? "";
  const behind = after.slice(name.length);
  return /["$`\\!]/.test(text.replace(stand + name, ""))
    ? `${before === "" ? "" : word(before)}"$${name}"${behind === "" ? "" : word(behind)}`
    : `"${before}$${name}${behind}"`;
}
