/** The elements of streams: in a sequence of bytes, or one a message. */

import * as web from "./web.js";
import * as wire from "./wire.js";

/** A stream whose connection ended before it did. */
export class Lost extends Error {
  override readonly name = "Lost";
  constructor(options?: ErrorOptions) {
    super("the connection ended before the stream did", options);
  }
}

/** A part of a stream that is not an element, or too large a one. */
export class BadElement extends Error {
  override readonly name = "BadElement";
  readonly tooLarge: boolean;

  constructor(message: string, tooLarge = false) {
    super(message);
    this.tooLarge = tooLarge;
  }
}

const encoder = new TextEncoder();
const decoder = new TextDecoder();

/** What an element says: a value, the end, problem details, or nothing that matters. */
export type Element<T> = { readonly value: T } | { readonly problem: string } | "end" | "other";

/** Writes elements of one encoding. */
export class ElementWriter<T> {
  private readonly encoding: web.Encoding;
  private readonly codec: wire.Codec<T>;
  /** Whether elements are in one sequence of bytes. */
  private readonly sequence: boolean;
  private readonly limit: number;

  constructor(encoding: web.Encoding, codec: wire.Codec<T>, sequence: boolean, limit: number) {
    this.encoding = encoding;
    this.codec = codec;
    this.sequence = sequence;
    this.limit = limit;
  }

  value(m: T): Uint8Array<ArrayBuffer> {
    if (this.encoding === "json") {
      return this.limited(this.json(`{"value":${wire.toJson(this.codec, m)}}`));
    }
    const codec = this.codec;
    return this.limited(
      wire.written((w) => {
        w.openMap(1);
        w.leave(); // an element is not a level of its own
        w.key(1);
        codec.writeCbor(w, m);
      }),
    );
  }

  end(): Uint8Array<ArrayBuffer> {
    return this.encoding === "json" ? this.json('{"end":{}}') : Uint8Array.of(0xa1, 2, 0xa0);
  }

  heartbeat(): Uint8Array<ArrayBuffer> {
    return this.encoding === "json" ? this.json('{"heartbeat":{}}') : Uint8Array.of(0xa1, 0, 0xa0);
  }

  problem(text: string): Uint8Array<ArrayBuffer> {
    if (this.encoding === "json") {
      return this.json(`{"problem":${text}}`);
    }
    return wire.written((w) => {
      w.openMap(1);
      w.key(3);
      w.text(text);
    });
  }

  private limited(element: Uint8Array<ArrayBuffer>): Uint8Array<ArrayBuffer> {
    if (element.length > this.limit + 16) {
      throw new BadElement(`an element of ${String(element.length)} bytes, more than the ${String(this.limit)} that a stream may contain`, true);
    }
    return element;
  }

  private json(text: string): Uint8Array<ArrayBuffer> {
    return encoder.encode(this.sequence ? `\u001e${text}\n` : text);
  }
}

/** Reads one element, which may contain so much. */
export function readElement<T>(element: Uint8Array, encoding: web.Encoding, codec: wire.Codec<T>, items: number): Element<T> {
  if (encoding === "cbor") {
    const r = new wire.CborReader(element, items);
    return r.element<Element<T>>((number) => {
      switch (number) {
        case 1:
          return { value: codec.readCbor(r) };
        case 3:
          return { problem: r.text() };
        default:
          r.pass();
          return number === 2 ? "end" : "other";
      }
    });
  }
  const r = new wire.JsonReader(element, items);
  return r.element<Element<T>>((name) => {
    switch (name) {
      case "value":
        return { value: codec.readJson(r) };
      case "problem":
        return { problem: r.raw() };
      default:
        r.raw();
        return name === "end" ? "end" : "other";
    }
  });
}

/** Finds the elements in a sequence as its bytes arrive: CBOR items (RFC 8742), or JSON objects after 0x1e (RFC 7464). */
export class Splitter {
  private at = 0;
  private skip = 0;
  private whole = false;
  /** How many items each array, map and tag still needs. */
  private readonly open: number[] = [];
  private depth = 0;
  private text = false;
  private quote = false;

  private readonly encoding: web.Encoding;

  constructor(encoding: web.Encoding) {
    this.encoding = encoding;
  }

  /** Where the first element of data begins and ends, or undefined while more is needed. Between calls data only grows, but for what was returned. */
  next(data: Uint8Array): [from: number, to: number] | undefined {
    return this.encoding === "json" ? this.nextJson(data) : this.nextCbor(data);
  }

  private nextCbor(data: Uint8Array): [number, number] | undefined {
    for (;;) {
      const step = Math.min(this.skip, data.length - this.at);
      this.at += step;
      this.skip -= step;
      if (this.skip > 0) {
        return undefined;
      }
      if (this.whole) {
        this.whole = false;
        if (this.complete()) {
          const to = this.at;
          this.at = 0;
          return [0, to];
        }
      }
      const size = this.head(data);
      if (size === 0) {
        return undefined;
      }
      this.at += size;
    }
  }

  /** Takes the head of one item: its size, or 0 when it is not all there yet. */
  private head(data: Uint8Array): number {
    const first = data[this.at];
    if (first === undefined) {
      return 0;
    }
    const info = first & 31;
    if (first === 0xff) {
      if (this.open.pop() !== Infinity) {
        throw new BadElement("what came is not a sequence of elements");
      }
      this.whole = true;
      return 1;
    }
    let size = 1;
    let argument = info;
    if (info >= 24 && info <= 27) {
      const length = 1 << (info - 24);
      size += length;
      if (data.length - this.at < size) {
        return 0;
      }
      argument = 0;
      for (let i = 1; i < size; i++) {
        argument = argument * 256 + (data[this.at + i] ?? 0);
      }
    } else if (info === 31) {
      argument = Infinity;
    } else if (info > 27) {
      throw new BadElement("what came is not a sequence of elements");
    }
    if (this.open.length > 4 * wire.maxDepth) {
      throw new BadElement(`an element nests over ${String(wire.maxDepth)}`);
    }
    const major = first >> 5;
    if (major >= 2 && major <= 5 && argument > 2 ** 40 && argument !== Infinity) {
      throw new BadElement("what came is not a sequence of elements");
    }
    if (major === 6) {
      this.open.push(1);
    } else if (argument === Infinity) {
      this.open.push(Infinity);
    } else if (major === 2 || major === 3) {
      this.skip = argument;
      this.whole = true;
    } else if ((major === 4 || major === 5) && argument > 0) {
      this.open.push(major === 5 ? 2 * argument : argument);
    } else {
      this.whole = true;
    }
    return size;
  }

  /** Counts an item that is whole, and tells whether with it the outermost one is. */
  private complete(): boolean {
    for (let last = this.open.pop(); last !== undefined; last = this.open.pop()) {
      if (last > 1) {
        this.open.push(last - 1);
        return false;
      }
    }
    return true;
  }

  private nextJson(data: Uint8Array): [number, number] | undefined {
    for (; this.at < data.length; this.at++) {
      const c = data[this.at];
      if (this.text) {
        this.text = c !== 0x22 || this.quote;
        this.quote = c === 0x5c && !this.quote;
      } else if (this.depth === 0) {
        if (c === 0x7b) {
          this.depth = 1;
        } else if (c !== 0x1e && c !== 0x20 && c !== 0x09 && c !== 0x0a && c !== 0x0d) {
          throw new BadElement("what came is not a sequence of elements");
        }
      } else if (c === 0x22) {
        this.text = true;
      } else if (c === 0x7b || c === 0x5b) {
        if (++this.depth > 4 * wire.maxDepth) {
          throw new BadElement(`an element nests over ${String(wire.maxDepth)}`);
        }
      } else if ((c === 0x7d || c === 0x5d) && --this.depth === 0) {
        const to = this.at + 1;
        this.at = 0;
        return [data.indexOf(0x7b), to];
      }
    }
    return undefined;
  }
}

/** How many bytes of blanks may come with the end of a stream and after it, besides its content. */
const mostBlanks = 2 << 20;

/** The elements of a sequence of chunks, up to its end or a problem. What ends before either is Lost, and so is a connection that breaks. */
export async function* elements<T>(chunks: AsyncIterable<Uint8Array>, encoding: web.Encoding, codec: wire.Codec<T>, limit: number, items: number): AsyncGenerator<Element<T>> {
  const splitter = new Splitter(encoding);
  let buffer = new Uint8Array(4096);
  let from = 0;
  let to = 0;
  let ended = false;
  let blanks = 0;
  const iterator = chunks[Symbol.asyncIterator]();
  try {
    for (;;) {
      let next: IteratorResult<Uint8Array>;
      try {
        next = await iterator.next();
      } catch (cause) {
        throw new Lost({ cause });
      }
      if (next.done === true) {
        if (ended) {
          return;
        }
        throw new Lost();
      }
      const chunk = next.value;
      if (to + chunk.length > buffer.length) {
        const kept = buffer.subarray(from, to);
        buffer = kept.length + chunk.length > buffer.length ? new Uint8Array(2 * (kept.length + chunk.length)) : buffer;
        buffer.set(kept);
        to -= from;
        from = 0;
      }
      buffer.set(chunk, to);
      to += chunk.length;
      for (let found = splitter.next(buffer.subarray(from, to)); found !== undefined; found = splitter.next(buffer.subarray(from, to))) {
        const [start, end] = found;
        if (end - start > limit + 16) {
          throw new BadElement(`an element of more than ${String(limit)} bytes`, true);
        }
        // A copy, so that what is read from it does not keep the buffer.
        const element = readElement(buffer.slice(from + start, from + end), encoding, codec, items);
        from += end;
        if (ended) {
          throw new BadElement("bytes after the end of the stream");
        }
        ended = element === "end" || (typeof element === "object" && "problem" in element);
        if (element !== "other") {
          yield element;
        }
      }
      if (to - from > limit + 16) {
        throw new BadElement(`an element of more than ${String(limit)} bytes`, true);
      }
      if (ended) {
        blanks += chunk.length;
        if (blanks > mostBlanks || decoder.decode(buffer.subarray(from, to)).trim() !== "") {
          throw new BadElement("bytes after the end of the stream");
        }
        from = to;
      }
    }
  } finally {
    if (!ended) {
      await iterator.return?.();
    }
  }
}

/** Puts a heartbeat between chunks whenever none has come for so many milliseconds. */
export async function* withHeartbeats(chunks: AsyncIterator<Uint8Array<ArrayBuffer>>, heartbeat: Uint8Array<ArrayBuffer>, every: number): AsyncGenerator<Uint8Array<ArrayBuffer>> {
  let next: Promise<IteratorResult<Uint8Array<ArrayBuffer>>> | undefined;
  try {
    for (;;) {
      next ??= chunks.next();
      const came = await within(next, every);
      if (came === undefined) {
        yield heartbeat;
      } else if (came.done === true) {
        return;
      } else {
        next = undefined;
        yield came.value;
      }
    }
  } finally {
    await chunks.return?.();
  }
}

/** What a promise becomes, or undefined when that takes longer than so many milliseconds. */
export async function within<T>(result: Promise<T>, milliseconds: number): Promise<T | undefined> {
  let timer: ReturnType<typeof setTimeout> | undefined;
  const late = new Promise<undefined>((resolve) => {
    timer = after(milliseconds, () => {
      resolve(undefined);
    });
  });
  try {
    return await Promise.race([result, late]);
  } finally {
    clearTimeout(timer);
  }
}

/** A timer; one that takes longer than timers can wait never comes. */
export function after(milliseconds: number, act: () => void): ReturnType<typeof setTimeout> | undefined {
  return milliseconds <= 2 ** 31 - 1 ? setTimeout(act, milliseconds) : undefined;
}

/** Items that come before they are asked for. */
export class Queue<T> implements AsyncIterable<T> {
  private readonly items: T[] = [];
  private ended: { readonly problem: Error | undefined } | undefined;
  private wake: (() => void) | undefined;

  /** Told of each item that comes to wait, and of each that is taken. */
  private readonly onPush: ((item: T) => void) | undefined;
  private readonly onTake: ((item: T) => void) | undefined;

  constructor(onPush?: (item: T) => void, onTake?: (item: T) => void) {
    this.onPush = onPush;
    this.onTake = onTake;
  }

  push(item: T): void {
    this.items.push(item);
    this.onPush?.(item);
    this.wake?.();
  }

  end(problem?: Error): void {
    this.ended ??= { problem };
    this.wake?.();
  }

  async *[Symbol.asyncIterator](): AsyncGenerator<T> {
    for (;;) {
      const item = this.items.shift();
      if (item !== undefined) {
        this.onTake?.(item);
        yield item;
      } else if (this.ended !== undefined) {
        if (this.ended.problem !== undefined) {
          throw this.ended.problem;
        }
        return;
      } else {
        await new Promise<void>((resolve) => {
          this.wake = resolve;
        });
      }
    }
  }
}
