package faithfulcourier.wire;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.ByteOrder;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.function.BiConsumer;

/** Writes CBOR (RFC 8949), one byte string for one value (section 4.2.1). */
public final class CborWriter extends Writer {
  // Major types (RFC 8949, section 3.1), shifted to their place.
  static final int UNSIGNED = 0 << 5;
  static final int NEGATIVE = 1 << 5;
  static final int BYTES = 2 << 5;
  static final int TEXT = 3 << 5;
  static final int ARRAY = 4 << 5;
  static final int MAP = 5 << 5;
  static final int TAG = 6 << 5;
  static final int SIMPLE = 7 << 5;

  static final VarHandle INT = MethodHandles.byteArrayViewVarHandle(int[].class, ByteOrder.BIG_ENDIAN);
  static final VarHandle LONG = MethodHandles.byteArrayViewVarHandle(long[].class, ByteOrder.BIG_ENDIAN);

  /** Makes an empty writer. */
  public CborWriter() {
    this(256);
  }

  CborWriter(int capacity) {
    super(capacity);
  }

  /** Writes the head of an item; n is unsigned. */
  private void head(int major, long n) {
    ensure(9);
    if (n >= 0 && n < 24) {
      data[at++] = (byte) (major | (int) n);
    } else {
      longHead(major, n);
    }
  }

  private void longHead(int major, long n) {
    if (n >>> 8 == 0) {
      data[at] = (byte) (major | 24);
      data[at + 1] = (byte) n;
      at += 2;
    } else if (n >>> 16 == 0) {
      data[at] = (byte) (major | 25);
      data[at + 1] = (byte) (n >> 8);
      data[at + 2] = (byte) n;
      at += 3;
    } else if (n >>> 32 == 0) {
      data[at] = (byte) (major | 26);
      INT.set(data, at + 1, (int) n);
      at += 5;
    } else {
      data[at] = (byte) (major | 27);
      LONG.set(data, at + 1, n);
      at += 9;
    }
  }

  /**
   * Begins a message.
   *
   * @param entries how many fields are written, the unlisted ones not counted
   * @param unlisted those, or null
   * @return what {@link #endMessage} needs
   */
  public int beginMessage(int entries, UnlistedFields unlisted) {
    enter();
    int start = at;
    head(MAP, unlisted == null ? entries : entries + unlisted.numbered());
    return start;
  }

  /**
   * Ends a message, and puts its unlisted fields in their places.
   *
   * @param start what {@link #beginMessage} returned
   * @param unlisted those fields, or null
   */
  public void endMessage(int start, UnlistedFields unlisted) {
    leave();
    if (unlisted != null && unlisted.numbered() > 0) {
      unlisted.mergeCbor(this, start);
    }
  }

  /**
   * Begins a field.
   *
   * @param number its number
   */
  public void field(int number) {
    ensure(3);
    if (number < 24) {
      data[at++] = (byte) number;
    } else {
      head(UNSIGNED, number);
    }
  }

  /** Writes null, with which a patch clears a field. */
  public void nothing() {
    ensure(1);
    data[at++] = (byte) 0xf6;
  }

  /**
   * Writes a bool.
   *
   * @param v the value
   */
  public void bool(boolean v) {
    ensure(1);
    data[at++] = (byte) (v ? SIMPLE | 21 : SIMPLE | 20);
  }

  /**
   * Writes an int8.
   *
   * @param v the value, which must be in its range
   */
  public void int8(int v) {
    integer(within(v, Byte.MIN_VALUE, Byte.MAX_VALUE, "int8"));
  }

  /**
   * Writes an int16.
   *
   * @param v the value, which must be in its range
   */
  public void int16(int v) {
    integer(within(v, Short.MIN_VALUE, Short.MAX_VALUE, "int16"));
  }

  /**
   * Writes an int32.
   *
   * @param v the value
   */
  public void int32(int v) {
    integer(v);
  }

  /**
   * Writes an int64.
   *
   * @param v the value
   */
  public void int64(long v) {
    integer(v);
  }

  private void integer(long v) {
    if (v < 0) {
      head(NEGATIVE, ~v);
    } else {
      head(UNSIGNED, v);
    }
  }

  /**
   * Writes a uint8.
   *
   * @param v the value, which must be in its range
   */
  public void uint8(int v) {
    head(UNSIGNED, within(v, 0, 0xff, "uint8"));
  }

  /**
   * Writes a uint16.
   *
   * @param v the value, which must be in its range
   */
  public void uint16(int v) {
    head(UNSIGNED, within(v, 0, 0xffff, "uint16"));
  }

  /**
   * Writes a uint32.
   *
   * @param v the value, which must be in its range
   */
  public void uint32(long v) {
    head(UNSIGNED, within(v, 0, 0xffff_ffffL, "uint32"));
  }

  /**
   * Writes a uint64.
   *
   * @param v the value, whose bits are taken as unsigned
   */
  public void uint64(long v) {
    head(UNSIGNED, v);
  }

  /**
   * Writes a float32.
   *
   * @param v the value
   */
  public void float32(float v) {
    ensure(5);
    data[at] = (byte) (SIMPLE | 26);
    INT.set(data, at + 1, Float.floatToIntBits(v));
    at += 5;
  }

  /**
   * Writes a float64.
   *
   * @param v the value
   */
  public void float64(double v) {
    ensure(9);
    data[at] = (byte) (SIMPLE | 27);
    LONG.set(data, at + 1, Double.doubleToLongBits(v));
    at += 9;
  }

  /**
   * Writes a decimal (tag 4).
   *
   * @param v the value, of at most 34 digits
   */
  public void decimal(BigDecimal v) {
    BigDecimal d = Texts.decimal(v);
    ensure(12);
    data[at] = (byte) (TAG | 4);
    data[at + 1] = (byte) (ARRAY | 2);
    at += 2;
    integer(-d.scale());
    BigInteger mantissa = d.unscaledValue();
    if (mantissa.bitLength() < 64) {
      integer(mantissa.longValue());
      return;
    }
    boolean negative = mantissa.signum() < 0;
    BigInteger amount = negative ? mantissa.not() : mantissa;
    if (amount.bitLength() <= 64) {
      head(negative ? NEGATIVE : UNSIGNED, amount.longValue());
      return;
    }
    byte[] magnitude = amount.toByteArray();
    int from = magnitude[0] == 0 ? 1 : 0;
    head(TAG, negative ? 3 : 2);
    head(BYTES, magnitude.length - from);
    put(magnitude, from, magnitude.length - from);
  }

  /**
   * Writes a text.
   *
   * @param v the value
   */
  public void text(String v) {
    int length = v.length();
    ensure(9 + length);
    int start = at;
    if (length < 24) {
      data[at++] = (byte) (TEXT | length);
    } else {
      longHead(TEXT, length);
    }
    byte[] bytes = data;
    int to = at;
    for (int i = 0; i < length; i++) {
      char c = v.charAt(i);
      if (c >= 0x80) {
        at = start;
        longText(v);
        return;
      }
      bytes[to + i] = (byte) c;
    }
    at = to + length;
  }

  private void longText(String v) {
    if (Texts.loneSurrogate(v) >= 0) {
      throw PayloadException.writing("text with half of a surrogate pair");
    }
    byte[] utf8 = v.getBytes(StandardCharsets.UTF_8);
    head(TEXT, utf8.length);
    put(utf8, 0, utf8.length);
  }

  /**
   * Writes bytes.
   *
   * @param v the value
   */
  public void bytes(byte[] v) {
    head(BYTES, v.length);
    put(v, 0, v.length);
  }

  /**
   * Writes a uuid (tag 37).
   *
   * @param v the value
   */
  public void uuid(UUID v) {
    ensure(19);
    data[at] = (byte) (TAG | 24);
    data[at + 1] = 37;
    data[at + 2] = (byte) (BYTES | 16);
    LONG.set(data, at + 3, v.getMostSignificantBits());
    LONG.set(data, at + 11, v.getLeastSignificantBits());
    at += 19;
  }

  /**
   * Writes an instant (tag 1, or tag 1001 with a fraction).
   *
   * @param v the value, in the years 0001 to 9999
   */
  public void instant(Instant v) {
    Texts.checked(v);
    long seconds = v.getEpochSecond();
    int nanos = v.getNano();
    if (nanos == 0) {
      head(TAG, 1);
      integer(seconds);
      return;
    }
    head(TAG, 1001);
    time(seconds, nanos);
  }

  /** Writes seconds, and the coarsest exact fraction of a second. */
  private void time(long seconds, int nanos) {
    head(MAP, nanos == 0 ? 1 : 2);
    head(UNSIGNED, 1);
    integer(seconds);
    if (nanos == 0) {
      return;
    }
    if (nanos % 1_000_000 == 0) {
      integer(-3);
      integer(nanos / 1_000_000);
    } else if (nanos % 1_000 == 0) {
      integer(-6);
      integer(nanos / 1_000);
    } else {
      integer(-9);
      integer(nanos);
    }
  }

  /**
   * Writes a date (tag 100).
   *
   * @param v the value, in the years 0001 to 9999
   */
  public void date(LocalDate v) {
    long days = Texts.checked(v).toEpochDay();
    head(TAG, 100);
    integer(days);
  }

  /**
   * Writes a duration (tag 1002).
   *
   * @param v the value, of less than 2⁶³ nanoseconds
   */
  public void duration(Duration v) {
    Texts.checked(v);
    head(TAG, 1002);
    time(v.getSeconds(), v.getNano());
  }

  /**
   * Writes an any.
   *
   * @param v the value
   */
  public void any(Any v) {
    Object value = v.value();
    if (value == null) {
      nothing();
    } else if (value instanceof Boolean b) {
      bool(b);
    } else if (value instanceof Long n) {
      integer(n);
    } else if (value instanceof BigInteger n) {
      head(UNSIGNED, n.longValue());
    } else if (value instanceof Double d) {
      float64(d);
    } else if (value instanceof String s) {
      text(s);
    } else if (value instanceof List<?>) {
      list(v.items(), CborWriter::any);
    } else {
      map(Key.TEXT, v.entries(), CborWriter::any);
    }
  }

  /**
   * Writes the number of an enum's member.
   *
   * @param number its number
   * @param enumName the enum, for errors
   * @param name of the member, where its number is below 0 because only that is known
   */
  public void member(int number, String enumName, String name) {
    if (number < 0) {
      throw JsonWriter.withoutNumber("?" + name, enumName);
    }
    head(UNSIGNED, number);
  }

  /**
   * Writes a value.
   *
   * @param <T> its type
   * @param codec of its type
   * @param value what is written
   */
  public <T> void value(Codec<T> codec, T value) {
    codec.writeCbor(this, value);
  }

  /**
   * Writes a list.
   *
   * @param <T> the type of the items
   * @param list what is written
   * @param write writes an item
   */
  public <T> void list(List<T> list, BiConsumer<CborWriter, T> write) {
    head(ARRAY, list.size());
    enter();
    for (T item : list) {
      write.accept(this, item);
    }
    leave();
  }

  /**
   * Writes a list.
   *
   * @param <T> the type of the items
   * @param list what is written
   * @param codec of the items
   */
  public <T> void list(List<T> list, Codec<T> codec) {
    head(ARRAY, list.size());
    enter();
    for (T item : list) {
      codec.writeCbor(this, item);
    }
    leave();
  }

  /**
   * Writes a map, its keys in the order of their encoding.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param key how keys are written
   * @param map what is written
   * @param write writes a value
   */
  public <K, V> void map(Key<K> key, Map<K, V> map, BiConsumer<CborWriter, V> write) {
    head(MAP, map.size());
    enter();
    for (K each : key.sorted(map)) {
      key.writeCbor(this, each);
      write.accept(this, map.get(each));
    }
    leave();
  }

  /**
   * Begins an alternative of a union.
   *
   * @param number its number
   */
  public void beginUnion(int number) {
    enter();
    head(MAP, 1);
    head(UNSIGNED, number);
  }

  /** Ends a union. */
  public void endUnion() {
    leave();
  }

  /**
   * Writes an alternative that is not listed.
   *
   * @param union its union, for errors
   * @param alternative what was read
   */
  public void unlisted(String union, UnlistedField alternative) {
    if (alternative.number() == 0) {
      throw JsonWriter.alternativeWithoutNumber(alternative.name(), union);
    }
    beginUnion(alternative.number());
    put(alternative.raw(), 0, alternative.raw().length);
    endUnion();
  }
}
