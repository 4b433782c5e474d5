package faithfulcourier.wire;

import java.math.BigInteger;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.function.BiConsumer;
import java.util.function.BiFunction;
import java.util.function.Function;
import java.util.function.IntFunction;
import java.util.function.ToIntFunction;

/**
 * Reads, writes and orders the keys of a map.
 *
 * @param <K> the type of the keys
 */
public final class Key<K> {
  /** Keys that are texts. */
  public static final Key<String> TEXT =
      new Key<>(
          CborReader::text, CborWriter::text, (r, name) -> name, Function.identity(), Key::compareTexts, false);

  /** Keys that are of type int8. */
  public static final Key<Integer> INT8 =
      integer(CborReader::int8, CborWriter::int8, Byte.MIN_VALUE, Byte.MAX_VALUE);

  /** Keys that are of type int16. */
  public static final Key<Integer> INT16 =
      integer(CborReader::int16, CborWriter::int16, Short.MIN_VALUE, Short.MAX_VALUE);

  /** Keys that are of type int32. */
  public static final Key<Integer> INT32 =
      integer(CborReader::int32, CborWriter::int32, Integer.MIN_VALUE, Integer.MAX_VALUE);

  /** Keys that are of type uint8. */
  public static final Key<Integer> UINT8 = integer(CborReader::uint8, CborWriter::uint8, 0, 0xff);

  /** Keys that are of type uint16. */
  public static final Key<Integer> UINT16 = integer(CborReader::uint16, CborWriter::uint16, 0, 0xffff);

  /** Keys that are of type int64. */
  public static final Key<Long> INT64 =
      wide(
          CborReader::int64,
          CborWriter::int64,
          BigInteger.valueOf(Long.MIN_VALUE),
          BigInteger.valueOf(Long.MAX_VALUE),
          n -> Long.toString(n),
          Key::compareSigned);

  /** Keys that are of type uint32. */
  public static final Key<Long> UINT32 =
      wide(
          CborReader::uint32,
          CborWriter::uint32,
          BigInteger.ZERO,
          BigInteger.valueOf(0xffff_ffffL),
          n -> Long.toString(n),
          Long::compare);

  /** Keys that are of type uint64. */
  public static final Key<Long> UINT64 =
      wide(
          CborReader::uint64,
          CborWriter::uint64,
          BigInteger.ZERO,
          BigInteger.ONE.shiftLeft(64).subtract(BigInteger.ONE),
          Long::toUnsignedString,
          Long::compareUnsigned);

  private final Function<CborReader, K> readCbor;
  private final BiConsumer<CborWriter, K> writeCbor;
  private final BiFunction<JsonReader, String, K> readJson;
  private final Function<K, String> text;
  private final Comparator<K> order;
  private final boolean secret;
  private BiConsumer<JsonWriter, K> check = (w, k) -> {};

  private Key(
      Function<CborReader, K> readCbor,
      BiConsumer<CborWriter, K> writeCbor,
      BiFunction<JsonReader, String, K> readJson,
      Function<K, String> text,
      Comparator<K> order,
      boolean secret) {
    this.readCbor = readCbor;
    this.writeCbor = writeCbor;
    this.readJson = readJson;
    this.text = text;
    this.order = order;
    this.secret = secret;
  }

  private static Key<Integer> integer(
      Function<CborReader, Integer> read, BiConsumer<CborWriter, Integer> write, int low, int high) {
    BigInteger least = BigInteger.valueOf(low);
    BigInteger most = BigInteger.valueOf(high);
    return new Key<>(
        read,
        write,
        (r, name) -> digits(r, name, least, most).intValue(),
        String::valueOf,
        (a, b) -> compareSigned(a.longValue(), b.longValue()),
        false);
  }

  private static Key<Long> wide(
      Function<CborReader, Long> read,
      BiConsumer<CborWriter, Long> write,
      BigInteger low,
      BigInteger high,
      Function<Long, String> text,
      Comparator<Long> order) {
    return new Key<>(read, write, (r, name) -> digits(r, name, low, high).longValue(), text, order, false);
  }

  /** Reads canonical digits. */
  private static BigInteger digits(JsonReader r, String name, BigInteger low, BigInteger high) {
    BigInteger n = JsonReader.parsed(name, true);
    if (n == null || n.compareTo(low) < 0 || n.compareTo(high) > 0) {
      throw r.failure(r.at, "expected an integer of the key's type, found " + Texts.shortened(name));
    }
    return n;
  }

  /**
   * Makes keys that are members of an enum.
   *
   * @param <E> the enum
   * @param byNumber makes a member of its number
   * @param byName makes a member of its name
   * @param number is a member's number, or below 0
   * @param name is a member's name in JSON, or its number
   * @param enumName of the enum, for errors
   * @return the keys
   */
  public static <E> Key<E> member(
      IntFunction<E> byNumber,
      Function<String, E> byName,
      ToIntFunction<E> number,
      Function<E, String> name,
      String enumName) {
    Key<E> key =
        new Key<>(
            r -> byNumber.apply(r.member()),
            (w, e) -> w.member(number.applyAsInt(e), enumName, name.apply(e)),
            (r, text) -> {
              if (!Texts.isDigits(text) || (text.length() > 1 && text.charAt(0) == '0')) {
                return byName.apply(text);
              }
              if (text.length() > 5 || Integer.parseInt(text) > 0xffff) {
                throw r.failure(r.at, "expected a number from 0 to 65535, found " + Texts.shortened(text));
              }
              return byNumber.apply(Integer.parseInt(text));
            },
            name,
            (a, b) -> {
              int x = number.applyAsInt(a);
              int y = number.applyAsInt(b);
              if (x >= 0 && y >= 0) {
                return Integer.compare(x, y);
              }
              return x >= 0 ? -1 : y >= 0 ? 1 : compareTexts(name.apply(a), name.apply(b));
            },
            false);
    key.check =
        (w, e) -> {
          if (w.needsNumbers() && number.applyAsInt(e) < 0) {
            throw JsonWriter.withoutNumber("?" + name.apply(e), enumName);
          }
        };
    return key;
  }

  /**
   * Makes keys of a type over these.
   *
   * @param <N> the type
   * @param make makes a key
   * @param value is what it is made of
   * @param hidden whether it is secret
   * @return the keys
   */
  public <N> Key<N> as(Function<K, N> make, Function<N, K> value, boolean hidden) {
    return new Key<>(
        r -> make.apply(readCbor.apply(r)),
        (w, n) -> writeCbor.accept(w, value.apply(n)),
        (r, name) -> make.apply(readJson.apply(r, name)),
        n -> text.apply(value.apply(n)),
        (a, b) -> order.compare(value.apply(a), value.apply(b)),
        hidden);
  }

  K readCbor(CborReader r) {
    return readCbor.apply(r);
  }

  void writeCbor(CborWriter w, K key) {
    writeCbor.accept(w, key);
  }

  K readJson(JsonReader r, String name) {
    return readJson.apply(r, name);
  }

  /** Writes a comma, the key and a colon. */
  void writeJson(JsonWriter w, K key) {
    w.member(secret && w.hides() ? "(secret)" : text(key));
    check.accept(w, key);
  }

  String text(K key) {
    return text.apply(key);
  }

  /** Are the keys of a map in the order of their encoding (RFC 8949, section 4.2.1). */
  <V> Collection<K> sorted(Map<K, V> map) {
    if (map.size() < 2) {
      return map.keySet();
    }
    List<K> keys = new ArrayList<>(map.keySet()); // its entries would be wrapped, each in an object
    keys.sort(order);
    return keys;
  }

  /** Compares texts by their length in UTF-8, and then bytewise. */
  private static int compareTexts(String a, String b) {
    if (isAscii(a) && isAscii(b)) {
      return a.length() == b.length() ? a.compareTo(b) : Integer.compare(a.length(), b.length());
    }
    byte[] x = a.getBytes(StandardCharsets.UTF_8);
    byte[] y = b.getBytes(StandardCharsets.UTF_8);
    return x.length == y.length ? Arrays.compareUnsigned(x, y) : Integer.compare(x.length, y.length);
  }

  private static boolean isAscii(String s) {
    for (int i = 0; i < s.length(); i++) {
      if (s.charAt(i) >= 0x80) {
        return false;
      }
    }
    return true;
  }

  /** Compares integers: those from 0 up, then -1, -2…. */
  private static int compareSigned(long a, long b) {
    if (a < 0 != b < 0) {
      return a < 0 ? 1 : -1;
    }
    return a < 0 ? Long.compare(b, a) : Long.compare(a, b);
  }
}
