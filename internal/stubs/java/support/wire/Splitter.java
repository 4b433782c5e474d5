package faithfulcourier.wire;

import java.util.Arrays;

/**
 * Finds the elements in a sequence as its bytes arrive: CBOR items (RFC 8742), or JSON objects after 0x1e (RFC 7464).
 * Bytes are added at the end, and each element is taken from the beginning.
 */
public final class Splitter {
  private static final long UNTIL_BREAK = -1;
  private static final String NO_SEQUENCE = "what came is not a sequence of elements";

  private final boolean json;
  private final int limit;
  private byte[] data = new byte[4096];
  private int from; // of what was not taken
  private int to; // of what came
  private int at; // how far the bytes of the current element were looked at, from its beginning

  private long skip; // bytes of a string that need no look
  private boolean whole; // with them, an item is
  private long[] open = new long[16]; // how many items each array, map and tag still needs
  private int opened;

  private int depth; // of JSON
  private int begin; // of the object, in the element
  private boolean text;
  private boolean escaped; // the byte before was a backslash
  private boolean begun;

  /**
   * Makes a splitter.
   *
   * @param encoding CBOR or JSON
   * @param limit how many bytes an element may have
   */
  public Splitter(Encoding encoding, int limit) {
    json = encoding == Encoding.JSON;
    this.limit = limit;
  }

  /**
   * Adds bytes that came.
   *
   * @param bytes where they are
   * @param offset of the first
   * @param length how many there are
   */
  public void add(byte[] bytes, int offset, int length) {
    if (data.length - to < length) {
      int have = to - from;
      byte[] target = have + length > data.length / 2 ? new byte[Math.max(data.length * 2, have + length)] : data;
      System.arraycopy(data, from, target, 0, have);
      data = target;
      from = 0;
      to = have;
    }
    System.arraycopy(bytes, offset, data, to, length);
    to += length;
  }

  /**
   * Takes the first element.
   *
   * @return its bytes, or null while more are needed
   * @throws PayloadException if what came is not a sequence of elements, or the element has too many bytes
   */
  public byte[] next() {
    int length = json ? nextJson() : nextCbor();
    if (length > limit || (length == 0 && to - from > limit)) {
      throw new PayloadException("an element of more than " + limit + " bytes", 0, true);
    }
    if (length == 0) {
      return null;
    }
    byte[] element = Arrays.copyOfRange(data, from + (json ? begin : 0), from + length);
    from += length;
    at = 0;
    begun = false;
    return element;
  }

  /**
   * Is how many bytes came that belong to no element yet.
   *
   * @return how many there are; blanks of JSON, which may follow the end, do not count
   */
  public int rest() {
    if (!json) {
      return to - from;
    }
    int rest = 0;
    for (int i = from; i < to; i++) {
      if ((data[i] > ' ' && data[i] != 0x1e) || data[i] < 0) {
        rest++;
      }
    }
    return rest;
  }

  /** Forgets what came and was not taken. */
  public void clear() {
    from = 0;
    to = 0;
  }

  private PayloadException failure(String detail) {
    return new PayloadException(detail, 0, false);
  }

  private int nextCbor() {
    while (true) {
      long step = Math.min(skip, to - from - at);
      at += (int) step;
      skip -= step;
      if (skip > 0) {
        return 0;
      }
      if (whole) {
        whole = false;
        if (isComplete()) {
          opened = 0;
          return at;
        }
      }
      int size = head();
      if (size == 0) {
        return 0;
      }
      at += size;
    }
  }

  private void push(long n) {
    if (opened > 4 * Writer.MAX_DEPTH) {
      throw failure("an element nests over " + Writer.MAX_DEPTH);
    }
    if (opened == open.length) {
      open = Arrays.copyOf(open, opened * 2);
    }
    open[opened++] = n;
  }

  /** Takes the head of one item and returns its size, or 0 while it is not all there. */
  private int head() {
    int position = from + at;
    if (position >= to) {
      return 0;
    }
    int first = data[position] & 0xff;
    int info = first & 31;
    if (first == 0xff) {
      if (opened == 0 || open[opened - 1] != UNTIL_BREAK) {
        throw failure(NO_SEQUENCE);
      }
      opened--;
      whole = true;
      return 1;
    }
    int size = 1;
    long argument = info;
    if (info >= 24 && info <= 27) {
      int length = 1 << (info - 24);
      size += length;
      if (to - position < size) {
        return 0;
      }
      argument = 0;
      for (int i = 1; i < size; i++) {
        argument = argument << 8 | (data[position + i] & 0xff);
      }
    } else if (info > 27 && info != 31) {
      throw failure(NO_SEQUENCE);
    }
    int major = first & 0xe0;
    boolean isString = major == CborWriter.BYTES || major == CborWriter.TEXT;
    boolean isCollection = major == CborWriter.ARRAY || major == CborWriter.MAP;
    if (major == CborWriter.TAG) {
      push(1);
    } else if ((isString || isCollection) && info != 31 && (argument < 0 || argument > 1L << 40)) {
      throw failure(NO_SEQUENCE);
    } else if (info == 31) {
      push(UNTIL_BREAK);
    } else if (isString) {
      skip = argument;
      whole = true;
    } else if (isCollection && argument > 0) {
      push(major == CborWriter.MAP ? 2 * argument : argument);
    } else {
      whole = true;
    }
    return size;
  }

  /** Counts an item that is whole, and tells whether with it the outermost one is. */
  private boolean isComplete() {
    while (opened > 0) {
      if (open[opened - 1] == UNTIL_BREAK) {
        return false;
      }
      if (--open[opened - 1] > 0) {
        return false;
      }
      opened--;
    }
    return true;
  }

  private int nextJson() {
    for (; from + at < to; at++) {
      byte c = data[from + at];
      if (text) {
        text = c != '"' || escaped;
        escaped = c == '\\' && !escaped;
      } else if (!begun) {
        if (c == '{') {
          begun = true;
          depth = 1;
          begin = at;
        } else if (c != 0x1e && c != ' ' && c != '\t' && c != '\r' && c != '\n') {
          throw failure(NO_SEQUENCE);
        }
      } else if (c == '"') {
        text = true;
      } else if (c == '{' || c == '[') {
        if (++depth > 4 * Writer.MAX_DEPTH) {
          throw failure("an element nests over " + Writer.MAX_DEPTH);
        }
      } else if ((c == '}' || c == ']') && --depth == 0) {
        return at + 1;
      }
    }
    return 0;
  }
}
