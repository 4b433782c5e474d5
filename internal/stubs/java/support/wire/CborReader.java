package faithfulcourier.wire;

import static faithfulcourier.wire.CborWriter.ARRAY;
import static faithfulcourier.wire.CborWriter.BYTES;
import static faithfulcourier.wire.CborWriter.INT;
import static faithfulcourier.wire.CborWriter.LONG;
import static faithfulcourier.wire.CborWriter.MAP;
import static faithfulcourier.wire.CborWriter.NEGATIVE;
import static faithfulcourier.wire.CborWriter.SIMPLE;
import static faithfulcourier.wire.CborWriter.TAG;
import static faithfulcourier.wire.CborWriter.TEXT;
import static faithfulcourier.wire.CborWriter.UNSIGNED;

import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.function.Function;

/** Reads CBOR (RFC 8949), in every way in which it may be written. */
public final class CborReader extends Reader {
  private static final int INDEFINITE = 31;
  private static final byte BREAK = (byte) 0xff;
  private static final String[] MAJORS = {
    "an integer", "a negative integer", "a byte string", "a text", "an array", "a map", "a tag",
    "a simple value or float"
  };

  private int[] left = new int[8]; // of each message, list and map that is open; -1 where no length is known
  private int first; // the first byte of the last head

  CborReader(byte[] data, int budget) {
    super(data, budget);
  }

  /** Begins inside of what is nested already. */
  void nest(int levels) {
    depth = levels;
    left = new int[Writer.MAX_DEPTH + 2];
  }

  /** Refuses what comes after the payload. */
  void end() {
    if (at < data.length) {
      throw failure(at, "more bytes after the end");
    }
  }

  /** Reads a head (RFC 8949, section 3): its first byte stays in first; the argument, unsigned, is returned. */
  private long head() {
    if (at >= data.length) {
      throw failure(at, "the payload ends too early");
    }
    int b = data[at] & 0xff;
    first = b;
    int info = b & 31;
    if (info < 24) {
      at++;
      return info;
    }
    return longHead(b, info);
  }

  private long longHead(int b, int info) {
    int start = at++;
    int room = data.length - at;
    if (info == 24 && room >= 1) {
      int argument = data[at++] & 0xff;
      if ((b & 0xe0) == SIMPLE && argument < 32) {
        throw failure(start, "a simple value that is not well formed");
      }
      return argument;
    } else if (info == 25 && room >= 2) {
      at += 2;
      return (data[at - 2] & 0xffL) << 8 | (data[at - 1] & 0xffL);
    } else if (info == 26 && room >= 4) {
      at += 4;
      return (int) INT.get(data, at - 4) & 0xffff_ffffL;
    } else if (info == 27 && room >= 8) {
      at += 8;
      return (long) LONG.get(data, at - 8);
    } else if (info <= 27) {
      throw failure(data.length, "the payload ends too early");
    }
    int major = b & 0xe0;
    if (info != INDEFINITE || major == UNSIGNED || major == NEGATIVE || major == TAG) {
      throw failure(start, String.format("the reserved byte 0x%02x", b));
    }
    return 0;
  }

  private PayloadException wrong(int start, String expected) {
    return failure(start, "expected " + expected + ", found " + MAJORS[first >> 5]);
  }

  /** Opens an array or map. */
  private void open(int major, int perElement, String expected) {
    int start = at;
    long n = head();
    if ((first & 0xe0) != major) {
      throw wrong(start, expected);
    }
    enter(at);
    int count = -1;
    if ((first & 31) != INDEFINITE) {
      if (n < 0 || n > (data.length - at) / perElement) {
        throw failure(start, "a length of " + Long.toUnsignedString(n) + ", more than the payload contains");
      }
      count = (int) n;
      spend(count);
    }
    if (depth >= left.length) {
      left = Arrays.copyOf(left, Writer.MAX_DEPTH + 2);
    }
    left[depth] = count;
  }

  /** How many elements a list or map says that it has, as far as the payload can hold them. */
  private int room() {
    return Math.max(0, left[depth]);
  }

  /**
   * Begins a message.
   *
   * @param fields those that it declares
   */
  public void openMessage(Fields fields) {
    spend(1 + fields.size());
    open(MAP, 2, fields.message());
  }

  /**
   * Tells whether another entry of the message, list or map follows; if not, it is over.
   *
   * @return whether there is one
   */
  public boolean more() {
    int n = left[depth];
    if (n > 0) {
      left[depth] = n - 1;
      return true;
    }
    if (n < 0 && (at >= data.length || data[at] != BREAK)) {
      spend(1);
      return true;
    }
    if (n < 0) {
      at++;
    }
    depth--;
    return false;
  }

  /**
   * Reads the number of a field.
   *
   * @return 1 to 65535
   */
  public int fieldNumber() {
    if (at < data.length) {
      int b = data[at];
      if (b > 0 && b < 24) {
        at++;
        return b;
      }
    }
    int start = at;
    long n = head();
    if ((first & 0xe0) != UNSIGNED || n < 1 || n > 65535) {
      throw failure(start, "expected a field number from 1 to 65535");
    }
    return (int) n;
  }

  /**
   * Reads a bool.
   *
   * @return the value
   */
  public boolean bool() {
    int start = at;
    head();
    if (first != (SIMPLE | 20) && first != (SIMPLE | 21)) {
      throw wrong(start, "bool");
    }
    return first == (SIMPLE | 21);
  }

  /**
   * Reads an int8.
   *
   * @return the value
   */
  public int int8() {
    return (int) signed(Byte.MAX_VALUE, "int8");
  }

  /**
   * Reads an int16.
   *
   * @return the value
   */
  public int int16() {
    return (int) signed(Short.MAX_VALUE, "int16");
  }

  /**
   * Reads an int32.
   *
   * @return the value
   */
  public int int32() {
    return (int) signed(Integer.MAX_VALUE, "int32");
  }

  /**
   * Reads an int64.
   *
   * @return the value
   */
  public long int64() {
    return signed(Long.MAX_VALUE, "int64");
  }

  private long signed(long high, String expected) {
    int start = at;
    long n = head();
    if ((first & 0xe0) > NEGATIVE) {
      throw wrong(start, expected);
    }
    if (n < 0 || n > high) {
      throw outOfRange(start, n, expected);
    }
    return (first & 0xe0) == NEGATIVE ? ~n : n;
  }

  private PayloadException outOfRange(int start, long n, String expected) {
    BigInteger amount = new BigInteger(Long.toUnsignedString(n));
    return failure(
        start, "expected " + expected + ", found " + ((first & 0xe0) == NEGATIVE ? amount.not() : amount));
  }

  /**
   * Reads a uint8.
   *
   * @return the value
   */
  public int uint8() {
    return (int) unsigned(0xff, "uint8");
  }

  /**
   * Reads a uint16.
   *
   * @return the value
   */
  public int uint16() {
    return (int) unsigned(0xffff, "uint16");
  }

  /**
   * Reads a uint32.
   *
   * @return the value
   */
  public long uint32() {
    return unsigned(0xffff_ffffL, "uint32");
  }

  /**
   * Reads a uint64.
   *
   * @return the value, whose bits are unsigned
   */
  public long uint64() {
    int start = at;
    long n = head();
    if ((first & 0xe0) != UNSIGNED) {
      throw wrong(start, "uint64");
    }
    return n;
  }

  private long unsigned(long high, String expected) {
    int start = at;
    long n = head();
    if ((first & 0xe0) != UNSIGNED) {
      throw wrong(start, expected);
    }
    if (n < 0 || n > high) {
      throw outOfRange(start, n, expected);
    }
    return n;
  }

  /**
   * Reads the number of an enum's member.
   *
   * @return 0 to 65535
   */
  public int member() {
    return (int) unsigned(0xffff, "the number of a member, 0 to 65535");
  }

  /**
   * Reads a float64, of any width, or an integer that it can represent.
   *
   * @return the value
   */
  public double float64() {
    int start = at;
    long n = head();
    if (first == (SIMPLE | 27)) {
      return Double.longBitsToDouble(n);
    } else if (first == (SIMPLE | 26)) {
      return Float.intBitsToFloat((int) n);
    } else if (first == (SIMPLE | 25)) {
      return float16((int) n);
    }
    int major = first & 0xe0;
    if (major != UNSIGNED && major != NEGATIVE) {
      throw wrong(start, "float64");
    }
    BigInteger exact = new BigInteger(Long.toUnsignedString(n));
    if (major == NEGATIVE) {
      exact = exact.not();
    }
    double x = exact.doubleValue();
    if (!new BigDecimal(x).toBigInteger().equals(exact)) {
      throw failure(start, "expected float64, found an integer that it can't represent");
    }
    return x;
  }

  /**
   * Reads a float32, rounded to the nearest, or an integer that it can represent.
   *
   * @return the value
   */
  public float float32() {
    int start = at;
    double x = float64();
    boolean isFloat = (data[start] & 0xe0) == SIMPLE;
    float narrow = (float) x;
    if ((!isFloat && narrow != x) || (Float.isInfinite(narrow) && !Double.isInfinite(x))) {
      throw failure(start, "expected float32, found a number that it can't represent");
    }
    return narrow;
  }

  /** Widens a half-precision float (RFC 8949, appendix D). */
  private static double float16(int bits) {
    int mantissa = bits & 1023;
    int exponent = bits >> 10 & 31;
    double x;
    if (exponent == 0) {
      x = Math.scalb((double) mantissa, -24);
    } else if (exponent == 31) {
      x = mantissa == 0 ? Double.POSITIVE_INFINITY : Double.NaN;
    } else {
      x = Math.scalb((double) (mantissa + 1024), exponent - 25);
    }
    return (bits & 0x8000) != 0 ? -x : x;
  }

  /**
   * Reads a decimal (tag 4).
   *
   * @return the value, with its scale
   */
  public BigDecimal decimal() {
    int start = at;
    long n = head();
    if ((first & 0xe0) != TAG || n != 4) {
      throw wrong(start, "decimal");
    }
    n = head();
    boolean indefinite = (first & 31) == INDEFINITE;
    if ((first & 0xe0) != ARRAY || (!indefinite && n != 2)) {
      throw wrong(start, "an array of exponent and mantissa");
    }
    int from = at;
    n = head();
    if ((first & 0xe0) > NEGATIVE) {
      throw wrong(from, "an exponent");
    }
    long exponent = n < 0 ? Long.MAX_VALUE : n; // only zero can have one beyond an int64
    if ((first & 0xe0) == NEGATIVE) {
      exponent = ~exponent;
    }
    BigDecimal read = null;
    from = at;
    n = head();
    int major = first & 0xe0;
    if (major <= NEGATIVE && n >= 0 && exponent <= 0 && exponent >= -Texts.MAX_DIGITS) {
      read = BigDecimal.valueOf(major == NEGATIVE ? ~n : n, (int) -exponent);
    } else {
      read = Texts.scaled(mantissa(from, n), exponent, start);
    }
    if (indefinite) {
      if (at >= data.length || data[at] != BREAK) {
        throw failure(at, "expected the end of exponent and mantissa");
      }
      at++;
    }
    return read;
  }

  /** Reads an integer or a bignum (RFC 8949, section 3.4.3) whose head was read. */
  private BigInteger mantissa(int start, long n) {
    int major = first & 0xe0;
    if (major <= NEGATIVE) {
      BigInteger amount = new BigInteger(Long.toUnsignedString(n));
      return major == NEGATIVE ? amount.not() : amount;
    }
    if (major == TAG && (n == 2 || n == 3)) {
      byte[] magnitude = chunks(BYTES, "the bytes of a bignum");
      int zeros = 0;
      while (zeros < magnitude.length && magnitude[zeros] == 0) {
        zeros++;
      }
      if (magnitude.length - zeros > 512) { // far over 34 digits
        throw failure(start, Texts.DECIMAL_TOO_LONG);
      }
      BigInteger amount = new BigInteger(1, magnitude);
      return n == 3 ? amount.not() : amount;
    }
    throw wrong(start, "a mantissa");
  }

  /**
   * Reads a text.
   *
   * @return the value
   */
  public String text() {
    int start = at;
    if (at < data.length) {
      int length = (data[at] & 0xff) ^ TEXT;
      if (length < 24 && length <= data.length - at - 1) {
        at += 1 + length;
        return Texts.utf8(data, at - length, length, start);
      }
    }
    long n = head();
    if ((first & 0xe0) != TEXT) {
      throw wrong(start, "text");
    }
    if ((first & 31) != INDEFINITE) {
      int length = checkedLength(start, n);
      at += length;
      return Texts.utf8(data, at - length, length, start);
    }
    at = start;
    byte[] all = chunks(TEXT, "text");
    return Texts.utf8(all, 0, all.length, start);
  }

  private int checkedLength(int start, long n) {
    if (n < 0 || n > data.length - at) {
      throw failure(start, "a length of " + Long.toUnsignedString(n) + ", more than the payload contains");
    }
    return (int) n;
  }

  /**
   * Reads bytes.
   *
   * @return a new array
   */
  public byte[] bytes() {
    return chunks(BYTES, "bytes");
  }

  /** Reads a string of definite length, or the chunks of an indefinite one (RFC 8949, section 3.2.3). */
  private byte[] chunks(int major, String expected) {
    int start = at;
    long n = head();
    if ((first & 0xe0) != major) {
      throw wrong(start, expected);
    }
    if ((first & 31) != INDEFINITE) {
      int length = checkedLength(start, n);
      at += length;
      return Arrays.copyOfRange(data, at - length, at);
    }
    ByteArrayOutputStream all = new ByteArrayOutputStream();
    while (true) {
      if (at < data.length && data[at] == BREAK) {
        at++;
        return all.toByteArray();
      }
      if (at < data.length && (data[at] & 0xff) == (major | INDEFINITE)) {
        throw failure(at, "a chunk of indefinite length");
      }
      int from = at;
      byte[] chunk = chunks(major, expected);
      if (major == TEXT) {
        Texts.utf8(chunk, 0, chunk.length, from);
      }
      all.write(chunk, 0, chunk.length);
    }
  }

  /**
   * Reads a uuid (tag 37).
   *
   * @return the value
   */
  public UUID uuid() {
    int start = at;
    if (data.length - at >= 19
        && data[at] == (byte) (TAG | 24)
        && data[at + 1] == 37
        && data[at + 2] == (byte) (BYTES | 16)) {
      at += 19;
      return new UUID((long) LONG.get(data, at - 16), (long) LONG.get(data, at - 8));
    }
    long n = head();
    if ((first & 0xe0) != TAG || n != 37) {
      throw wrong(start, "uuid");
    }
    byte[] b = chunks(BYTES, "the 16 bytes of a uuid");
    if (b.length != 16) {
      throw failure(start, "expected the 16 bytes of a uuid, found " + b.length);
    }
    return new UUID((long) LONG.get(b, 0), (long) LONG.get(b, 8));
  }

  /**
   * Reads an instant (tag 1 with whole seconds, or tag 1001; RFC 9581).
   *
   * @return the value
   */
  public Instant instant() {
    int start = at;
    long n = head();
    if ((first & 0xe0) != TAG || (n != 1 && n != 1001)) {
      throw wrong(start, "instant");
    }
    long nanos = 0;
    long seconds;
    if (n == 1) {
      seconds = int64();
    } else {
      seconds = extendedTime();
      nanos = fraction;
    }
    if (seconds < Texts.MIN_SECONDS || seconds > Texts.MAX_SECONDS) {
      throw failure(start, "an instant outside the years 0001 to 9999");
    }
    return Instant.ofEpochSecond(seconds, nanos);
  }

  private long fraction; // of extendedTime, in nanoseconds

  /** Reads seconds, which it returns, and at most one fraction. */
  private long extendedTime() {
    int start = at;
    long count = head();
    boolean indefinite = (first & 31) == INDEFINITE;
    if ((first & 0xe0) != MAP || count < 0 || count > 2) {
      throw failure(start, "expected seconds and at most one fraction");
    }
    long seconds = 0;
    boolean hasSeconds = false;
    fraction = 0;
    for (int i = 0; indefinite || i < count; i++) {
      if (indefinite && at < data.length && data[at] == BREAK) {
        at++;
        break;
      }
      long key = int64();
      long v = int64();
      int unit = key == -3 ? 1_000_000 : key == -6 ? 1_000 : key == -9 ? 1 : 0;
      if (key == 1 && !hasSeconds) {
        seconds = v;
        hasSeconds = true;
      } else if (unit != 0 && fraction == 0 && v >= 1 && v <= 999_999_999 / unit) {
        fraction = v * unit;
      } else {
        throw failure(start, "expected seconds and at most one fraction of 1 to 999…");
      }
    }
    if (!hasSeconds) {
      throw failure(start, "expected seconds and at most one fraction");
    }
    return seconds;
  }

  /**
   * Reads a date (tag 100; RFC 8943).
   *
   * @return the value
   */
  public LocalDate date() {
    int start = at;
    long n = head();
    if ((first & 0xe0) != TAG || n != 100) {
      throw wrong(start, "date");
    }
    long days = int64();
    if (days < Texts.MIN_DAY || days > Texts.MAX_DAY) {
      throw failure(start, "a date outside the years 0001 to 9999");
    }
    return LocalDate.ofEpochDay(days);
  }

  /**
   * Reads a duration (tag 1002; RFC 9581).
   *
   * @return the value
   */
  public Duration duration() {
    int start = at;
    long n = head();
    if ((first & 0xe0) != TAG || n != 1002) {
      throw wrong(start, "duration");
    }
    long seconds = extendedTime();
    if (!Texts.fitsDuration(seconds, fraction)) {
      throw failure(start, "a duration of over 2⁶³ nanoseconds");
    }
    return Duration.ofSeconds(seconds, fraction);
  }

  /**
   * Tells whether null comes next.
   *
   * @return whether it does
   */
  public boolean isNull() {
    return at < data.length && data[at] == (byte) 0xf6;
  }

  /**
   * Reads null, with which a patch clears a field, if it comes next.
   *
   * @param required whether the field can't be cleared
   * @return whether it was there
   */
  public boolean clears(boolean required) {
    if (!isNull()) {
      return false;
    }
    if (required) {
      throw failure(at, "found null: the field is required, and can't be cleared");
    }
    at++;
    return true;
  }

  /**
   * Reads an any.
   *
   * @return the value
   */
  public Any any() {
    int start = at;
    long n = head();
    switch (first & 0xe0) {
      case UNSIGNED:
        return n < 0 ? new Any(new BigInteger(Long.toUnsignedString(n))) : new Any(n);
      case NEGATIVE:
        if (n >= 0) {
          return new Any(~n);
        }
        break;
      case TEXT:
        at = start;
        return new Any(text());
      case ARRAY:
        at = start;
        return new Any(list(CborReader::any));
      case MAP:
        at = start;
        return new Any(map(Key.TEXT, CborReader::any));
      case SIMPLE:
        switch (first & 31) {
          case 20, 21:
            return new Any(first == (SIMPLE | 21));
          case 22:
            return Any.NULL;
          case 25, 26, 27:
            at = start;
            double x = float64();
            if (!Double.isNaN(x) && !Double.isInfinite(x)) {
              return new Any(x);
            }
            break;
          default:
        }
        break;
      default:
    }
    throw wrong(start, "null, a bool, an integer, a finite float, text, a list or a map with text keys");
  }

  /**
   * Reads a value.
   *
   * @param <T> its type
   * @param codec of its type
   * @return what was read
   */
  public <T> T value(Codec<T> codec) {
    return codec.readCbor(this);
  }

  /**
   * Reads a list.
   *
   * @param <T> the type of the items
   * @param read reads an item
   * @return a list that nobody can change
   */
  public <T> List<T> list(Function<CborReader, T> read) {
    open(ARRAY, 1, "a list");
    List<T> list = new ArrayList<>(Math.min(room(), 1024));
    try {
      while (more()) {
        list.add(read.apply(this));
      }
    } catch (PayloadException e) {
      throw e.inside(String.valueOf(list.size()));
    }
    return Collections.unmodifiableList(list);
  }

  /**
   * Reads a list.
   *
   * @param <T> the type of the items
   * @param codec of the items
   * @return a list that nobody can change
   */
  public <T> List<T> list(Codec<T> codec) {
    return list(codec::readCbor);
  }

  /**
   * Reads a map.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param key how keys are read
   * @param read reads a value
   * @return a map that nobody can change, in the order in which it was read
   */
  public <K, V> Map<K, V> map(Key<K> key, Function<CborReader, V> read) {
    open(MAP, 2, "a map");
    Map<K, V> map = new LinkedHashMap<>(Math.min(room(), 1024) * 4 / 3 + 1);
    while (more()) {
      K k = key.readCbor(this);
      V v;
      try {
        v = read.apply(this);
      } catch (PayloadException e) {
        throw e.inside(key.text(k));
      }
      if (map.put(k, v) != null) {
        throw twice();
      }
    }
    return Collections.unmodifiableMap(map);
  }

  /**
   * Begins a union.
   *
   * @param name of the union, for errors
   * @return the number of its alternative
   */
  public int openUnion(String name) {
    int start = at;
    long n = head();
    boolean indefinite = (first & 31) == INDEFINITE;
    if ((first & 0xe0) != MAP) {
      throw wrong(start, "a map of one entry for " + name);
    }
    if (!indefinite && n != 1) {
      throw failure(start, "expected one alternative of " + name + ", found " + Long.toUnsignedString(n));
    }
    enter(start);
    if (depth >= left.length) {
      left = Arrays.copyOf(left, Writer.MAX_DEPTH + 2);
    }
    left[depth] = indefinite ? -1 : 0;
    if (indefinite && at < data.length && data[at] == BREAK) {
      throw failure(start, "expected one alternative of " + name + ", found none");
    }
    return fieldNumber();
  }

  /** Ends a union. */
  public void closeUnion() {
    if (left[depth] < 0) {
      if (at >= data.length || data[at] != BREAK) {
        throw failure(at, "expected one alternative, found a second one");
      }
      at++;
    }
    depth--;
  }

  /**
   * Keeps an entry whose number the definitions do not list.
   *
   * @param list what was kept before, or null
   * @param number the entry's number
   * @return the list, with one more
   */
  public List<UnlistedField> unlisted(List<UnlistedField> list, int number) {
    List<UnlistedField> kept = list == null ? new ArrayList<>(2) : list;
    kept.add(unlistedAlternative(number));
    return kept;
  }

  /**
   * Keeps an alternative whose number is not listed.
   *
   * @param number the alternative's number
   * @return what was read
   */
  public UnlistedField unlistedAlternative(int number) {
    int start = at;
    skip();
    return new UnlistedField(number, "", Arrays.copyOfRange(data, start, at));
  }

  /**
   * Puts the unlisted fields of a message in order, and refuses what came twice.
   *
   * @param list what was kept, or null
   * @return the fields, or null
   */
  public UnlistedFields settled(List<UnlistedField> list) {
    return UnlistedFields.settled(list, at);
  }

  /** Reads the head of a map of definite length. */
  int mapHead() {
    return (int) head();
  }

  /** Begins an element of a stream, and tells whether its length is indefinite. */
  boolean openElement() {
    long n = head();
    boolean indefinite = (first & 31) == INDEFINITE;
    if ((first & 0xe0) != MAP || (!indefinite && n != 1)) {
      throw failure(0, "expected a map of one entry as the element of a stream");
    }
    return indefinite;
  }

  long elementNumber() {
    long n = head();
    if ((first & 0xe0) != UNSIGNED) {
      throw failure(1, "expected the number of an element");
    }
    return n;
  }

  void closeElement() {
    if (at >= data.length || data[at] != BREAK) {
      throw failure(at, "expected the end of an element");
    }
    at++;
  }

  /** Passes over one well-formed item. */
  void skip() {
    int start = at;
    head();
    while ((first & 0xe0) == TAG) {
      start = at;
      head();
    }
    int major = first & 0xe0;
    switch (major) {
      case BYTES:
        at = start;
        chunks(BYTES, "bytes");
        break;
      case TEXT:
        at = start;
        text();
        break;
      case ARRAY, MAP:
        at = start;
        open(major, major == MAP ? 2 : 1, "a value");
        while (more()) {
          skip();
          if (major == MAP) {
            skip();
          }
        }
        break;
      case SIMPLE:
        if (first == 0xff) {
          throw failure(start, "a break where a value is due");
        }
        break;
      default:
    }
  }
}
