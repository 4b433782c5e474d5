/** Bodies of answers as servers send them: as they come, and one range of them (RFC 9110, section 14). */

import type { Body } from "./wire.js";

/** How large a body of a request may be that the definitions have no limit for, in bytes. */
export const rawLimit: number = 64 << 20;

/** The one range of a body that a request asks for; "none" of it is there. Several, and those of another version of the body, are not asked for. */
export function ranged(header: (name: string) => string | undefined, size: number, version: { readonly etag: string | undefined; readonly modified: string | undefined }): { readonly first: number; readonly last: number } | "none" | undefined {
  const [, from, to] = /^bytes=\s*(\d*)-(\d*)\s*$/.exec(header("range") ?? "") ?? [];
  if (from === undefined || to === undefined || (from === "" && to === "")) {
    return undefined;
  }
  const wanted = header("if-range");
  if (wanted !== undefined && wanted !== version.modified && (wanted !== version.etag || wanted.startsWith("W/"))) {
    return undefined;
  }
  if (from === "") {
    const count = Math.min(Number(to), size);
    return count === 0 ? "none" : { first: size - count, last: size - 1 };
  }
  if (to !== "" && Number(to) < Number(from)) {
    return undefined;
  }
  const last = to === "" ? size - 1 : Math.min(Number(to), size - 1);
  return Number(from) >= size ? "none" : { first: Number(from), last };
}

/**
 * The chunks of a body, or of a part of it. They fail where the body has fewer bytes than it says, or more: then nobody
 * takes it for whole.
 */
export async function* poured(body: Body, first: number, last: number | undefined): AsyncGenerator<Uint8Array<ArrayBuffer>> {
  let at = 0;
  const end = last === undefined ? Infinity : last + 1;
  for await (const chunk of body) {
    const part = chunk.subarray(Math.max(0, first - at), Math.max(0, end - at));
    at += chunk.length;
    if (part.length > 0) {
      yield part as Uint8Array<ArrayBuffer>;
    }
    if (at >= end && end !== body.size) {
      return;
    }
  }
  if (body.size !== undefined && at !== body.size) {
    throw new Error(`the body has ${String(at)} bytes, and says ${String(body.size)}`);
  }
}
