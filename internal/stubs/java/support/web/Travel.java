package faithfulcourier.web;

import faithfulcourier.wire.Body;
import faithfulcourier.wire.BodyBounds;
import faithfulcourier.wire.CborReader;
import faithfulcourier.wire.CborWriter;
import faithfulcourier.wire.Codec;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.JsonReader;
import faithfulcourier.wire.JsonWriter;
import faithfulcourier.wire.UnlistedFields;
import faithfulcourier.wire.Violations;
import java.util.List;

/**
 * Is how the fields of a message travel that is not all in the body.
 *
 * @param <M> the message
 * @param <B> what builds it
 */
public abstract class Travel<M, B> {
  private final List<Placed> placed;
  private final boolean hasBody;
  private final Codec<M> written = new Written();

  /**
   * Makes it.
   *
   * @param hasBody whether anything is left for the body
   * @param placed what travels outside of it
   */
  protected Travel(boolean hasBody, Placed... placed) {
    this.hasBody = hasBody;
    this.placed = List.of(placed);
  }

  /**
   * Begins a message.
   *
   * @return what builds it
   */
  protected abstract B begin();

  /**
   * Ends a message.
   *
   * @param builder what builds it
   * @return the message
   */
  protected abstract M end(B builder);

  /**
   * Puts fields where they travel.
   *
   * @param p where they are put
   * @param m the message
   */
  protected void place(Parameters p, M m) {}

  /**
   * Finds fields where they travel.
   *
   * @param a where they are
   * @param b what builds the message
   */
  protected void take(Arguments a, B b) {}

  /**
   * Tells whether nothing is set of what would be in the body.
   *
   * @param m the message
   * @return whether nothing is
   */
  protected boolean isBlank(M m) {
    return !hasBody;
  }

  /**
   * Writes the body as CBOR.
   *
   * @param w the writer
   * @param m the message
   */
  protected void writeCbor(CborWriter w, M m) {}

  /**
   * Reads the body from CBOR.
   *
   * @param r the reader
   * @param b what builds the message
   * @return what the definitions do not list, or null
   */
  protected UnlistedFields readCbor(CborReader r, B b) {
    return null;
  }

  /**
   * Writes the body as JSON.
   *
   * @param w the writer
   * @param m the message
   */
  protected void writeJson(JsonWriter w, M m) {}

  /**
   * Reads the body from JSON.
   *
   * @param r the reader
   * @param b what builds the message
   * @return what the definitions do not list, or null
   */
  protected UnlistedFields readJson(JsonReader r, B b) {
    return null;
  }

  /**
   * Is what the definitions say of a body that is one field as it is.
   *
   * @return its bounds, or null where there is none
   */
  protected BodyBounds raw() {
    return null;
  }

  /**
   * Is the name of that field.
   *
   * @return its name in JSON
   */
  protected String rawName() {
    return "";
  }

  /**
   * Is that body.
   *
   * @param m the message
   * @return the body
   */
  protected Body rawOf(M m) {
    return null;
  }

  /**
   * Gives a message that body.
   *
   * @param b what builds the message
   * @param body the body
   */
  protected void setRaw(B b, Body body) {}

  final List<Placed> placed() {
    return placed;
  }

  final boolean hasBody() {
    return hasBody;
  }

  final boolean inCookies() {
    return placed.stream().anyMatch(p -> p.in().equals("cookie"));
  }

  final byte[] toBytes(M m, Encoding encoding) {
    return written.toBytes(m, encoding);
  }

  /** Makes a message of its body and of what came elsewhere; what is wrong stays in the arguments. */
  final M message(Encoding encoding, byte[] body, int budget, Arguments a, Body raw) {
    B builder = begin();
    if (hasBody) {
      Read read = new Read();
      builder = encoding == Encoding.CBOR ? read.fromCbor(body, budget) : read.fromJson(body, budget);
      if (read.unlisted != null) {
        a.rest(read.unlisted.fields());
      }
    }
    if (raw != null) {
      setRaw(builder, raw);
    }
    take(a, builder);
    return a.violations.isEmpty() ? end(builder) : null;
  }

  /** Writes the part of a message that is in the body. */
  private final class Written extends Codec<M> {
    @Override
    protected void writeCbor(CborWriter w, M value) {
      Travel.this.writeCbor(w, value);
    }

    @Override
    protected M readCbor(CborReader r) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected void writeJson(JsonWriter w, M value) {
      Travel.this.writeJson(w, value);
    }

    @Override
    protected M readJson(JsonReader r) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected void violations(Violations v, M value) {}
  }

  /** Reads the part of a message that is in the body. */
  private final class Read extends Codec<B> {
    private UnlistedFields unlisted;

    @Override
    protected void writeCbor(CborWriter w, B value) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected B readCbor(CborReader r) {
      B builder = begin();
      unlisted = Travel.this.readCbor(r, builder);
      return builder;
    }

    @Override
    protected void writeJson(JsonWriter w, B value) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected B readJson(JsonReader r) {
      B builder = begin();
      unlisted = Travel.this.readJson(r, builder);
      return builder;
    }

    @Override
    protected void violations(Violations v, B value) {}
  }
}
