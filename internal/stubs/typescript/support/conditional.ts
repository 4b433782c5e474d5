/** Entity-tags, and what answers say to whoever keeps them (RFC 9110, sections 8.8.3 and 13; RFC 9111). */

import type { Call } from "./web.js";

/** Whether a text is an entity-tag. */
export function isTag(text: string): boolean {
  return /^(?:W\/)?"[^\u0000-\u0020"\u007f]*"$/.test(text);
}

/** The tag of an answer of an encoding, compressed or not: each has its own. */
export function tagged(tag: string, type: string, gzip: boolean): string {
  return `${tag.slice(0, -1)}.${type.replace("application/", "")}${gzip ? ".gz" : ""}"`;
}

/** Takes from the entity-tags of If-Match and If-None-Match what tagged has added. */
export function withoutEncodings(list: string): string {
  return list.replace(/"([^"]*?)(?:\.(?:cbor|json)(?:\.gz)?)?"/g, '"$1"');
}

/** Whether If-None-Match names the tag of an answer, weakly. */
export function matches(header: string | undefined, tag: string | undefined): boolean {
  if (header === undefined || tag === undefined) {
    return false;
  }
  const known: readonly string[] = header.match(/"[^"]*"/g) ?? [];
  return header.trim() === "*" || known.includes(tag.replace(/^W\//, ""));
}

/** What a call's answers say to whoever keeps answers. */
export interface Caching {
  /** The headers of requests that answers depend on. */
  readonly vary: string;
  /** Cache-Control where nothing is to be kept. */
  readonly none: string;
  /** And where what is kept has to be asked for each time. */
  readonly checked: string;
}

export function cachingOf(call: Call<unknown, unknown>, compressible: boolean): Caching {
  const vary = new Map(call.answerTravel?.raw === undefined ? [["accept", "Accept"]] : []);
  const add = (name: string): void => {
    if (name.toLowerCase() !== "if-match" && name.toLowerCase() !== "if-none-match" && !vary.has(name.toLowerCase())) {
      vary.set(name.toLowerCase(), name);
    }
  };
  const needed = call.needs.flat();
  for (const { kind, key } of needed) {
    if (kind !== "query") {
      add(kind === "header" ? key : kind === "cookie" ? "Cookie" : "Authorization");
    }
  }
  const placed = (call.travel ?? call.head?.travel)?.placed ?? [];
  for (const p of placed) {
    if (p.in === "header" || p.in === "cookie") {
      add(p.in === "header" ? p.parameter : "Cookie");
    }
  }
  if (compressible) {
    add("Accept-Encoding");
  }
  const prefix = needed.length > 0 || placed.some((p) => p.in === "cookie") ? "private, " : "";
  return { vary: [...vary.values()].join(", "), none: `${prefix}no-store`, checked: `${prefix}no-cache` };
}
