/** Bodies that travel as they are: photos, say. */

import type { Violation } from "./values.js";

/** What a body can be made of. A stream can be read once, and so is not sent again when a try fails. */
export type BodySource = Body | Blob | Uint8Array<ArrayBuffer> | ReadableStream<Uint8Array> | AsyncIterable<Uint8Array>;

/** A body that travels as it is, and is read as it comes: iterate over its chunks, or take all of it at once. */
export class Body implements AsyncIterable<Uint8Array> {
  /** Such as "image/png"; "" where the definitions allow one alone, or nobody said. */
  readonly mediaType: string;
  /** In bytes; undefined where it is not known. */
  readonly size: number | undefined;
  readonly #onCancel: (() => void) | undefined;

  /** What it is made of. */
  readonly source: Exclude<BodySource, Body>;

  constructor(
    source: Exclude<BodySource, Body>,
    { mediaType = "", size, onCancel }: { readonly mediaType?: string; readonly size?: number | undefined; readonly onCancel?: () => void } = {},
  ) {
    this.source = source;
    this.#onCancel = onCancel;
    this.mediaType = mediaType === "" && source instanceof Blob ? source.type : mediaType;
    this.size = source instanceof Blob ? source.size : source instanceof Uint8Array ? source.length : size;
  }

  [Symbol.asyncIterator](): AsyncGenerator<Uint8Array, void, undefined> {
    const { source } = this;
    if (source instanceof Uint8Array) {
      return pieces(source);
    }
    if (Symbol.asyncIterator in source && !("getReader" in source)) {
      return each(source);
    }
    return chunksOf(source instanceof Blob ? source.stream() : (source as ReadableStream<Uint8Array>));
  }

  /** The chunks as a stream that is read only as fast as it is wanted. */
  stream(): ReadableStream<Uint8Array> {
    const chunks = this[Symbol.asyncIterator]();
    return new ReadableStream(
      {
        async pull(controller) {
          const next = await chunks.next();
          if (next.done === true) {
            controller.close();
          } else {
            controller.enqueue(next.value);
          }
        },
        async cancel() {
          await chunks.return();
        },
      },
      { highWaterMark: 0 },
    );
  }

  /** All of it. */
  async bytes(): Promise<Uint8Array<ArrayBuffer>> {
    const parts: Uint8Array[] = [];
    let total = 0;
    for await (const chunk of this) {
      parts.push(chunk);
      total += chunk.length;
    }
    const all = new Uint8Array(total);
    let at = 0;
    for (const part of parts) {
      all.set(part, at);
      at += part.length;
    }
    return all;
  }

  /** All of it, with its media type. */
  async blob(): Promise<Blob> {
    return this.source instanceof Blob ? this.source : new Blob([await this.bytes()], { type: this.mediaType });
  }

  /** All of it as text in UTF-8. */
  async text(): Promise<string> {
    return new TextDecoder().decode(await this.bytes());
  }

  /** Gives up what has not been read. */
  async cancel(): Promise<void> {
    const { source } = this;
    this.#onCancel?.();
    if ("getReader" in source) {
      if (!source.locked) {
        await source.cancel();
      }
    } else if (Symbol.asyncIterator in source) {
      await source[Symbol.asyncIterator]().return?.();
    }
  }
}

/** A body of what can be one. */
export function bodyOf(source: BodySource): Body {
  return source instanceof Body ? source : new Body(source);
}

async function* pieces(bytes: Uint8Array): AsyncGenerator<Uint8Array, void, undefined> {
  for (let at = 0; at < bytes.length; at += 65_536) {
    yield bytes.subarray(at, at + 65_536);
    await Promise.resolve();
  }
}

async function* each(chunks: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array, void, undefined> {
  for await (const chunk of chunks) {
    yield chunk;
  }
}

/** A stream as its chunks; not every runtime can iterate over one. */
export async function* chunksOf(stream: ReadableStream<Uint8Array> | null): AsyncGenerator<Uint8Array, void, undefined> {
  if (stream === null) {
    return;
  }
  const reader = stream.getReader();
  let done = false;
  try {
    for (;;) {
      const next = await reader.read();
      if (next.done) {
        done = true;
        return;
      }
      yield next.value;
    }
  } catch (problem) {
    done = true;
    throw problem;
  } finally {
    if (!done) {
      await reader.cancel();
    }
  }
}

/** What the definitions say of a body. */
export interface RawBounds {
  /** Its subtype, or all of it, may be "*". */
  readonly mediaType: string;
  /** In bytes. */
  readonly low?: number;
  readonly high?: number;
}

/** The media type with which a body is sent: its own, or the one that the definitions allow; "" where it is missing. */
export function sentType(bounds: RawBounds, own: string): string {
  return own === "" && !bounds.mediaType.includes("*") ? bounds.mediaType : own;
}

/** Whether the definitions allow a media type; parameters are not looked at. */
export function allowsType({ mediaType }: RawBounds, given: string): boolean {
  const type = (given.split(";", 1)[0] ?? "").trim().toLowerCase();
  if (mediaType === "*/*") {
    return type.includes("/");
  }
  return mediaType.endsWith("*") ? type.startsWith(mediaType.slice(0, -1)) : type === mediaType;
}

/** What is wrong with a length; undefined is nothing. */
export function wrongSize({ low = 0, high = Infinity }: RawBounds, size: number): string | undefined {
  if (size >= low && size <= high) {
    return undefined;
  }
  const allowed = high === Infinity ? `at least ${String(low)}` : low === 0 ? `at most ${String(high)}` : `${String(low)} to ${String(high)}`;
  return `must have ${allowed} bytes, not ${String(size)}`;
}

/** What is known to be wrong before a body is read. */
export function bodyViolations(list: Violation[], path: string, body: Body, bounds: RawBounds): void {
  const type = sentType(bounds, body.mediaType);
  if (type === "") {
    list.push({ pointer: path, detail: `needs its media type: ${bounds.mediaType}` });
  } else if (!allowsType(bounds, type)) {
    list.push({ pointer: path, detail: `must be ${bounds.mediaType}, not ${type}` });
  }
  const detail = body.size === undefined ? undefined : wrongSize(bounds, body.size);
  if (detail !== undefined) {
    list.push({ pointer: path, detail });
  }
}
