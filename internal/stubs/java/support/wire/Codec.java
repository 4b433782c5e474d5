package faithfulcourier.wire;

import java.io.IOException;
import java.io.OutputStream;
import java.nio.charset.StandardCharsets;
import java.util.List;

/**
 * Reads and writes values of one type: CBOR (RFC 8949) and JSON (RFC 8259), straight over bytes.
 *
 * @param <T> the type
 */
public abstract class Codec<T> {
  /**
   * How much one payload may contain: an item of a list or an entry of a map or message counts one, a message one plus
   * its declared fields.
   */
  public static final int DEFAULT_BUDGET = 1_000_000;

  private static final int MOST_HINT = 1 << 16;

  // How many bytes the last value took, for the next one.
  private int hint = 64;
  private int jsonHint = 128;

  /** Makes a codec. */
  protected Codec() {}

  /**
   * Writes a value as CBOR.
   *
   * @param w the writer
   * @param value what is written
   */
  protected abstract void writeCbor(CborWriter w, T value);

  /**
   * Reads a value from CBOR.
   *
   * @param r the reader
   * @return what was read
   */
  protected abstract T readCbor(CborReader r);

  /**
   * Writes a value as JSON.
   *
   * @param w the writer
   * @param value what is written
   */
  protected abstract void writeJson(JsonWriter w, T value);

  /**
   * Reads a value from JSON.
   *
   * @param r the reader
   * @return what was read
   */
  protected abstract T readJson(JsonReader r);

  /**
   * Adds what is wrong with a value.
   *
   * @param v what it is added to
   * @param value what is looked at
   */
  protected abstract void violations(Violations v, T value);

  /**
   * Writes a value as CBOR.
   *
   * @param value what is written
   * @return its bytes
   * @throws PayloadException if it can't be written
   */
  public final byte[] toCbor(T value) {
    CborWriter w = new CborWriter(hint);
    try {
      writeCbor(w, value);
    } catch (PayloadException e) {
      throw located(e, value, true);
    }
    byte[] bytes = w.toBytes();
    hint = Math.min(bytes.length + 16, MOST_HINT);
    return bytes;
  }

  /**
   * Reads a value from CBOR.
   *
   * @param data the payload, all of it
   * @return what was read
   * @throws PayloadException if it can't be read
   */
  public final T fromCbor(byte[] data) {
    return fromCbor(data, DEFAULT_BUDGET);
  }

  /**
   * Reads a value from CBOR.
   *
   * @param data the payload, all of it
   * @param budget how much it may contain, as in {@link #DEFAULT_BUDGET}
   * @return what was read
   * @throws PayloadException if it can't be read
   */
  public final T fromCbor(byte[] data, int budget) {
    CborReader r = new CborReader(data, budget);
    T value = readCbor(r);
    r.end();
    return value;
  }

  /**
   * Writes a value as JSON.
   *
   * @param value what is written
   * @return its text
   * @throws PayloadException if it can't be written
   */
  public final String toJson(T value) {
    return json(value).toString();
  }

  private JsonWriter json(T value) {
    JsonWriter w = new JsonWriter(jsonHint);
    try {
      writeJson(w, value);
    } catch (PayloadException e) {
      throw e.at(w.path() + e.path());
    }
    jsonHint = Math.min(w.size() + 16, MOST_HINT);
    return w;
  }

  /**
   * Reads a value from JSON.
   *
   * @param text the payload, all of it
   * @return what was read
   * @throws PayloadException if it can't be read
   */
  public final T fromJson(String text) {
    int surrogate = Texts.loneSurrogate(text);
    if (surrogate >= 0) {
      throw new PayloadException("text that is not UTF-8", surrogate, false);
    }
    return fromJson(text.getBytes(StandardCharsets.UTF_8));
  }

  /**
   * Reads a value from JSON.
   *
   * @param data the payload in UTF-8, all of it
   * @return what was read
   * @throws PayloadException if it can't be read
   */
  public final T fromJson(byte[] data) {
    return fromJson(data, DEFAULT_BUDGET);
  }

  /**
   * Reads a value from JSON.
   *
   * @param data the payload in UTF-8, all of it
   * @param budget how much it may contain, as in {@link #DEFAULT_BUDGET}
   * @return what was read
   * @throws PayloadException if it can't be read
   */
  public final T fromJson(byte[] data, int budget) {
    JsonReader r = new JsonReader(data, budget);
    T value = readJson(r);
    r.end();
    return value;
  }

  /**
   * Writes a value.
   *
   * @param value what is written
   * @param encoding CBOR or JSON
   * @return its bytes
   * @throws PayloadException if it can't be written
   */
  public final byte[] toBytes(T value, Encoding encoding) {
    return encoding == Encoding.CBOR ? toCbor(value) : json(value).toBytes();
  }

  /**
   * Writes a value to a stream; nothing is written of one that can't be.
   *
   * @param value what is written
   * @param encoding CBOR or JSON
   * @param out where it goes, which stays open
   * @throws IOException if the stream fails
   * @throws PayloadException if the value can't be written
   */
  public final void writeTo(T value, Encoding encoding, OutputStream out) throws IOException {
    out.write(toBytes(value, encoding));
  }

  /**
   * Lists every violation of the definitions.
   *
   * @param value what is looked at
   * @return what is wrong with it, nothing if all is well
   */
  public final List<Violation> violations(T value) {
    Violations v = new Violations();
    violations(v, value);
    return v.found();
  }

  /**
   * Writes a value for people and logs: as JSON, without what is secret.
   *
   * @param value what is written
   * @return its text
   */
  public final String toText(T value) {
    JsonWriter w = JsonWriter.forPeople();
    try {
      writeJson(w, value);
    } catch (PayloadException e) {
      return "(" + e.detail() + ")";
    }
    return w.toString();
  }

  /** Finds where a value can't be written: what was written of it as JSON ends there. */
  private PayloadException located(PayloadException e, T value, boolean numbers) {
    JsonWriter w = JsonWriter.locating(numbers);
    try {
      writeJson(w, value);
    } catch (PayloadException again) {
      return e.at(w.path() + again.path());
    }
    return e;
  }
}
