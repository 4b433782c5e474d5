/** Bodies in gzip (RFC 1952), the one content coding that is written and read. */

import { joined } from "./web.js";

/** How large a body is at least, in bytes, for which compression is worth while. */
export const compressedFrom: number = 1 << 10;

async function through(bytes: Uint8Array<ArrayBuffer>, by: CompressionStream | DecompressionStream, limit: number): Promise<Uint8Array<ArrayBuffer> | undefined> {
  const reader = new Blob([bytes]).stream().pipeThrough(by).getReader();
  const parts: Uint8Array[] = [];
  let total = 0;
  for (;;) {
    const next = await reader.read();
    if (next.done) {
      const all = joined(parts, total);
      return all as Uint8Array<ArrayBuffer>;
    }
    total += next.value.length;
    if (total > limit) {
      await reader.cancel();
      return undefined;
    }
    parts.push(next.value);
  }
}

export async function compressed(bytes: Uint8Array<ArrayBuffer>): Promise<Uint8Array<ArrayBuffer>> {
  return (await through(bytes, new CompressionStream("gzip"), Infinity)) ?? bytes;
}

/** What a body in gzip holds; undefined where that is more than limit bytes. It throws where it is not whole gzip. */
export async function expanded(bytes: Uint8Array, limit: number): Promise<Uint8Array | undefined> {
  return through(bytes as Uint8Array<ArrayBuffer>, new DecompressionStream("gzip"), limit);
}

export function isGzip(coding: string | null | undefined): boolean {
  return /^\s*(?:x-)?gzip\s*$/i.test(coding ?? "");
}

/** Whether Accept-Encoding allows gzip (RFC 9110, section 12.5.3). */
export function takesGzip(header: string | undefined): boolean {
  let [gzip, any] = [-1, -1];
  for (const part of (header ?? "").split(",")) {
    const [coding = "", parameter = ""] = part.split(";", 2);
    const q = Number(/^\s*q=([0-9.]+)\s*$/i.exec(parameter)?.[1] ?? "1");
    if (isGzip(coding)) {
      gzip = Math.max(gzip, q);
    } else if (coding.trim() === "*") {
      any = Math.max(any, q);
    }
  }
  return gzip > 0 || (gzip < 0 && any > 0);
}
