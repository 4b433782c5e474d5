/** JSON as a tree from which every number can be written as it was: JavaScript's own would lose digits. */

import { JsonReader, JsonWriter } from "../../stubs/typescript/support/json.js";

/** A number as its text. */
export class Digits {
  readonly text: string;

  constructor(text: string) {
    this.text = text;
  }
}

export type Json = null | boolean | string | Digits | Json[] | JsonObject;
export type JsonObject = Map<string, Json>;

/** Reads a text; it throws a WireError. */
export function parse(text: string): Json {
  const r = new JsonReader(text);
  const json = value(r);
  r.end();
  return json;
}

function value(r: JsonReader): Json {
  switch (r.peek()) {
    case "{": {
      const members: JsonObject = new Map();
      r.openObject("an object");
      for (let name = r.member(); name !== undefined; name = r.member()) {
        if (members.has(name)) {
          r.fail(`"${name}" comes twice`);
        }
        members.set(name, value(r));
      }
      return members;
    }
    case "[": {
      const list: Json[] = [];
      r.openList();
      while (r.more()) {
        list.push(value(r));
      }
      return list;
    }
    case '"':
      return r.string();
    case "n":
      return r.null() ? null : r.wrong("a JSON value");
    case "t":
    case "f":
      return r.bool();
    default:
      return new Digits(r.number("a JSON value"));
  }
}

export function quoted(text: string): string {
  const w = new JsonWriter();
  w.text(text);
  return w.result;
}

/** Writes a tree, over several lines where indent is not "". */
export function write(json: Json, indent = "", line = ""): string {
  if (json === null || typeof json === "boolean") {
    return String(json);
  }
  if (typeof json === "string") {
    return quoted(json);
  }
  if (json instanceof Digits) {
    return json.text;
  }
  const inner = line + indent;
  const [open, close, parts] = Array.isArray(json)
    ? ["[", "]", json.map((item) => write(item, indent, inner))]
    : [
        "{",
        "}",
        [...json].map(([name, item]) => `${quoted(name)}:${indent === "" ? "" : " "}${write(item, indent, inner)}`),
      ];
  if (parts.length === 0) {
    return open + close;
  }
  return indent === ""
    ? open + parts.join(",") + close
    : `${open}\n${parts.map((part) => inner + part).join(",\n")}\n${line}${close}`;
}

export function isObject(json: Json | undefined): json is JsonObject {
  return json instanceof Map;
}
