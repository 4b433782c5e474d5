package faithfulcourier.wire;

import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/**
 * Is one element of a stream: a value, the end, a problem, or nothing that a reader needs to know.
 *
 * @param <T> the type of the values
 * @param kind what it is
 * @param value of an element that has one, or null
 * @param problem problem details as JSON, of an element that has them, or null
 */
public record StreamElement<T>(Kind kind, T value, String problem) {
  /** Tells elements apart. */
  public enum Kind {
    /** A heartbeat, or an element that readers ignore. */
    OTHER,
    /** An element with a value. */
    VALUE,
    /** The end of the stream. */
    END,
    /** Problem details, with which a stream ends, too. */
    PROBLEM
  }

  /**
   * Makes an element.
   *
   * @param kind what it is
   * @param value of an element that has one, or null
   * @param problem problem details as JSON, or null
   */
  public StreamElement {}

  /**
   * Writes an element with a value.
   *
   * @param <T> its type
   * @param codec of its type
   * @param value what is written
   * @param encoding CBOR or JSON
   * @return its bytes
   */
  public static <T> byte[] value(Codec<T> codec, T value, Encoding encoding) {
    byte[] inner = codec.toBytes(value, encoding);
    if (encoding == Encoding.CBOR) {
      return joined(new byte[] {(byte) 0xa1, 1}, inner, new byte[0]);
    }
    return joined(ascii("{\"value\":"), inner, ascii("}"));
  }

  /**
   * Writes the element that ends a stream.
   *
   * @param encoding CBOR or JSON
   * @return its bytes
   */
  public static byte[] end(Encoding encoding) {
    return encoding == Encoding.CBOR ? new byte[] {(byte) 0xa1, 2, (byte) 0xa0} : ascii("{\"end\":{}}");
  }

  /**
   * Writes the element that says nothing but that the writer lives.
   *
   * @param encoding CBOR or JSON
   * @return its bytes
   */
  public static byte[] heartbeat(Encoding encoding) {
    return encoding == Encoding.CBOR ? new byte[] {(byte) 0xa1, 0, (byte) 0xa0} : ascii("{\"heartbeat\":{}}");
  }

  /**
   * Writes the element of problem details, which ends a stream.
   *
   * @param json the details
   * @param encoding CBOR or JSON
   * @return its bytes
   */
  public static byte[] problem(String json, Encoding encoding) {
    if (encoding == Encoding.CBOR) {
      CborWriter w = new CborWriter();
      w.text(json);
      return joined(new byte[] {(byte) 0xa1, 3}, w.toBytes(), new byte[0]);
    }
    return joined(ascii("{\"problem\":"), json.getBytes(StandardCharsets.UTF_8), ascii("}"));
  }

  private static byte[] ascii(String text) {
    return text.getBytes(StandardCharsets.US_ASCII);
  }

  private static byte[] joined(byte[] a, byte[] b, byte[] c) {
    byte[] all = Arrays.copyOf(a, a.length + b.length + c.length);
    System.arraycopy(b, 0, all, a.length, b.length);
    System.arraycopy(c, 0, all, a.length + b.length, c.length);
    return all;
  }

  /**
   * Reads an element.
   *
   * @param <T> the type of the values
   * @param codec of the values
   * @param data the element, all of it
   * @param encoding CBOR or JSON
   * @param budget how much it may contain, as in {@link Codec#DEFAULT_BUDGET}
   * @return the element
   * @throws PayloadException if it can't be read
   */
  public static <T> StreamElement<T> read(Codec<T> codec, byte[] data, Encoding encoding, int budget) {
    return encoding == Encoding.CBOR ? fromCbor(codec, data, budget) : fromJson(codec, data, budget);
  }

  private static <T> StreamElement<T> fromCbor(Codec<T> codec, byte[] data, int budget) {
    CborReader r = new CborReader(data, budget);
    boolean indefinite = r.openElement();
    long number = r.elementNumber();
    StreamElement<T> element;
    if (number == 1) {
      element = new StreamElement<>(Kind.VALUE, codec.readCbor(r), null);
    } else if (number == 3) {
      element = new StreamElement<>(Kind.PROBLEM, null, r.text());
    } else {
      r.skip();
      element = new StreamElement<>(number == 2 ? Kind.END : Kind.OTHER, null, null);
    }
    if (indefinite) {
      r.closeElement();
    }
    r.end();
    return element;
  }

  private static <T> StreamElement<T> fromJson(Codec<T> codec, byte[] data, int budget) {
    JsonReader r = new JsonReader(data, budget);
    r.beginObject("an element of a stream");
    if (!r.nextMember()) {
      throw r.failure(r.at, "expected one member in an element");
    }
    r.depth--;
    StreamElement<T> element;
    switch (r.stringValue()) {
      case "value" -> element = new StreamElement<>(Kind.VALUE, codec.readJson(r), null);
      case "problem" -> element = new StreamElement<>(Kind.PROBLEM, null, new String(r.rawValue(), StandardCharsets.UTF_8));
      case "end" -> {
        r.skip();
        element = new StreamElement<>(Kind.END, null, null);
      }
      default -> {
        r.skip();
        element = new StreamElement<>(Kind.OTHER, null, null);
      }
    }
    r.depth++;
    if (r.nextMember()) {
      throw r.failure(r.at, "expected one member in an element");
    }
    r.end();
    return element;
  }

  @Override
  public String toString() {
    return kind.toString();
  }
}
