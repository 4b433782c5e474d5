package faithfulcourier.wire;

import java.io.IOException;
import java.io.OutputStream;
import java.util.Arrays;

/** Is what both writers share: the bytes so far, and how deep they are nested. */
public abstract sealed class Writer permits CborWriter, JsonWriter {
  /** How deep messages, lists, maps and unions may nest. */
  static final int MAX_DEPTH = 100;

  byte[] data;
  int at;
  private int depth;

  Writer(int capacity) {
    data = new byte[Math.max(capacity, 32)];
  }

  /** {@return what was written} */
  public final byte[] toBytes() {
    return at == data.length ? data : Arrays.copyOf(data, at);
  }

  /** {@return how many bytes were written} */
  public final int size() {
    return at;
  }

  /**
   * Writes what was written to a stream.
   *
   * @param out where it goes, which stays open
   * @throws IOException if the stream fails
   */
  public final void writeTo(OutputStream out) throws IOException {
    out.write(data, 0, at);
  }

  final void ensure(int more) {
    if (data.length - at < more) {
      grow(more);
    }
  }

  private void grow(int more) {
    long wanted = Math.max((long) at + more, (long) data.length * 2);
    if ((long) at + more > Integer.MAX_VALUE - 8) {
      throw PayloadException.writing("a payload of more bytes than an array can have");
    }
    data = Arrays.copyOf(data, (int) Math.min(wanted, Integer.MAX_VALUE - 8));
  }

  final void put(byte[] bytes, int from, int length) {
    ensure(length);
    System.arraycopy(bytes, from, data, at, length);
    at += length;
  }

  final int enter() {
    if (depth == MAX_DEPTH) {
      throw PayloadException.writing("a nesting over " + MAX_DEPTH);
    }
    return ++depth;
  }

  final int depth() {
    return depth;
  }

  /** Ends a message, list, map or union. */
  final void leave() {
    depth--;
  }

  /**
   * Is how a patch is refused that clears a field which is required.
   *
   * @param name of the field in JSON
   * @return the exception, to be thrown
   */
  public static PayloadException cantClear(String name) {
    return PayloadException.writing("the field is required, and can't be cleared").inside(name);
  }

  /**
   * Is how a value is refused that is out of its type's range.
   *
   * @param value what it is
   * @param type what it should be
   * @return the exception, to be thrown
   */
  static PayloadException isNot(Object value, String type) {
    return PayloadException.writing(value + " is not " + (type.startsWith("i") ? "an " : "a ") + type);
  }

  static int within(int value, int low, int high, String type) {
    if (value < low || value > high) {
      throw isNot(value, type);
    }
    return value;
  }

  static long within(long value, long low, long high, String type) {
    if (value < low || value > high) {
      throw isNot(value, type);
    }
    return value;
  }
}
