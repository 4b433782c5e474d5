package faithfulcourier.wire;

import static java.nio.charset.StandardCharsets.ISO_8859_1;
import static java.nio.charset.StandardCharsets.UTF_8;

import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.math.BigInteger;
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
import java.util.function.BiFunction;
import java.util.function.Function;

/** Reads JSON (RFC 8259), in every way in which it may be written. */
public final class JsonReader extends Reader {
  /** What {@link #member} returns where the message is over. */
  public static final int END = -1;

  /** What {@link #member} returns for a name that the definitions do not list. */
  public static final int UNLISTED = -2;

  private static final double[] POWERS = {
    1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15
  };

  private boolean fresh; // nothing read yet of the innermost object or array

  // The string that was read last: its bytes, in the payload or apart from it.
  private byte[] string;
  private int from;
  private int to;
  private int nameStart; // of the current member, with its quote
  private String name; // of the current member where it was kept

  JsonReader(byte[] data, int budget) {
    super(data, budget);
  }

  /** Refuses what comes after the payload. */
  void end() {
    blanks();
    if (at < data.length) {
      throw failure(at, "more text after the end");
    }
  }

  private void blanks() {
    while (at < data.length) {
      byte c = data[at];
      if (c != ' ' && c != '\t' && c != '\r' && c != '\n') {
        return;
      }
      at++;
    }
  }

  /** Is the next byte that is not a blank, or 0. */
  private int peek() {
    if (at < data.length && data[at] > ' ') {
      return data[at];
    }
    blanks();
    return at < data.length ? data[at] : 0;
  }

  private PayloadException wrong(String expected) {
    int c = peek();
    String found;
    if (at >= data.length) {
      found = "the end";
    } else if (c == '{') {
      found = "an object";
    } else if (c == '[') {
      found = "an array";
    } else if (c == '"') {
      found = "a string";
    } else if (c == '-' || (c >= '0' && c <= '9')) {
      found = "a number";
    } else if (data.length - at >= 4 && c == 'n' && data[at + 1] == 'u') {
      found = "null";
    } else if (c > ' ' && c < 0x7f) {
      found = "'" + (char) c + "'";
    } else {
      found = String.format("the byte 0x%02x", c & 0xff);
    }
    return failure(at, "expected " + expected + ", found " + found);
  }

  private void begin(char open, String expected) {
    if (peek() != open) {
      throw wrong(expected);
    }
    at++;
    enter(at);
    fresh = true;
  }

  /**
   * Begins a message.
   *
   * @param fields those that it declares
   */
  public void openMessage(Fields fields) {
    spend(1 + fields.size());
    begin('{', fields.message());
  }

  void beginObject(String expected) {
    begin('{', expected);
  }

  /** Moves to the next element, or past the closing bracket. */
  private boolean following(char closing) {
    int c = peek();
    if (c == closing) {
      at++;
      fresh = false;
      depth--;
      return false;
    }
    if (fresh) {
      fresh = false;
    } else if (c == ',') {
      at++;
    } else {
      throw wrong("a comma or " + closing);
    }
    spend(1);
    return true;
  }

  /** Moves to the next member of an object; its name is the string that was read last. */
  boolean nextMember() {
    if (!following('}')) {
      return false;
    }
    if (peek() != '"') {
      throw wrong("a name in quotes");
    }
    nameStart = at;
    scan();
    if (peek() != ':') {
      throw wrong("a colon");
    }
    at++;
    return true;
  }

  /**
   * Moves to the next member of a message.
   *
   * @param fields those of the message
   * @param last what was returned before, {@link #END} at first: writers keep the order
   * @return the index of the field, {@link #UNLISTED} or {@link #END}
   */
  public int member(Fields fields, int last) {
    int next = last + 1;
    if ((next > 0 && next < fields.size()) || (last == END && fields.size() > 0)) {
      byte[] quoted = fields.quoted(next);
      int start = fresh ? at : at + 1;
      int past = start + quoted.length;
      if ((fresh || (at < data.length && data[at] == ','))
          && past < data.length
          && data[past] == ':'
          && Arrays.equals(quoted, 0, quoted.length, data, start, past)) {
        fresh = false;
        spend(1);
        at = past + 1;
        return next;
      }
    }
    if (!nextMember()) {
      return END;
    }
    int index = fields.indexOf(string, from, to);
    if (index < 0) {
      name = stringValue();
      return UNLISTED;
    }
    return index;
  }

  /** Is the place of the current member among fields, or -1. */
  int indexIn(Fields fields) {
    return fields.indexOf(string, from, to);
  }

  int nameStart() {
    return nameStart;
  }

  /** Is the text that was read last. */
  String stringValue() {
    return string == data ? new String(string, from, to - from, ISO_8859_1) : new String(string, from, to - from, UTF_8);
  }

  /** Reads the string here: without escapes and in ASCII it stays in the payload. */
  private void scan() {
    byte[] bytes = data;
    int start = at + 1;
    int i = start;
    while (i < bytes.length) {
      byte c = bytes[i];
      if (c == '"') {
        string = bytes;
        from = start;
        to = i;
        at = i + 1;
        return;
      }
      if (c == '\\' || c < 0x20) { // what is not ASCII is below 0
        break;
      }
      i++;
    }
    scanLong(start, i);
  }

  private void scanLong(int start, int plain) {
    ByteArrayOutputStream b = new ByteArrayOutputStream(plain - start + 32);
    b.write(data, start, plain - start);
    int i = plain;
    while (i < data.length) {
      byte c = data[i];
      if (c == '"') {
        at = i + 1;
        string = b.toByteArray();
        from = 0;
        to = string.length;
        return;
      } else if (c == '\\') {
        i = escape(b, i + 1);
      } else if (c >= 0 && c < 0x20) {
        throw failure(i, "a control character in a string");
      } else {
        int length = Texts.utf8Length(data, i, data.length);
        if (length == 0) {
          throw failure(i, "text that is not UTF-8");
        }
        b.write(data, i, length);
        i += length;
      }
    }
    throw failure(start - 1, "a string that is not closed");
  }

  private int escape(ByteArrayOutputStream b, int at) {
    int i = at;
    if (i >= data.length) {
      throw failure(i, "an escape that is not well formed");
    }
    byte c = data[i];
    int plain = "\"\\/bfnrt".indexOf(c);
    if (plain >= 0) {
      b.write("\"\\/\b\f\n\r\t".charAt(plain));
      return i + 1;
    }
    int code = hex4(i);
    i += 5;
    if (code >= 0xd800 && code < 0xdc00 && i < data.length && data[i] == '\\') {
      int low = hex4(i + 1);
      i += 6;
      code = low >= 0xdc00 && low < 0xe000 ? Character.toCodePoint((char) code, (char) low) : -1;
    }
    if (code < 0 || (code >= 0xd800 && code < 0xe000)) {
      throw failure(Math.min(i, data.length), "an escape that is not well formed");
    }
    byte[] utf8 = Character.toString(code).getBytes(UTF_8);
    b.write(utf8, 0, utf8.length);
    return i;
  }

  /** Reads u and four hexadecimal digits, or -1. */
  private int hex4(int i) {
    if (i + 5 > data.length || data[i] != 'u') {
      return -1;
    }
    int code = 0;
    for (int j = i + 1; j < i + 5; j++) {
      int digit = Texts.hex(data[j]);
      if (digit < 0) {
        return -1;
      }
      code = code << 4 | digit;
    }
    return code;
  }

  /**
   * Reads null if it comes next.
   *
   * @return whether it did
   */
  public boolean isNull() {
    if (peek() != 'n') {
      return false;
    }
    word("null");
    return true;
  }

  /**
   * Reads null, with which a patch clears a field, if it comes next.
   *
   * @param required whether the field can't be cleared
   * @return whether it was there
   */
  public boolean clears(boolean required) {
    if (required && peek() == 'n') {
      throw failure(at, "found null: the field is required, and can't be cleared");
    }
    return isNull();
  }

  private void word(String word) {
    for (int i = 0; i < word.length(); i++) {
      if (at + i >= data.length || data[at + i] != word.charAt(i)) {
        throw wrong(word);
      }
    }
    at += word.length();
  }

  /**
   * Reads a bool.
   *
   * @return the value
   */
  public boolean bool() {
    int c = peek();
    if (c == 't') {
      word("true");
      return true;
    }
    if (c != 'f') {
      throw wrong("bool");
    }
    word("false");
    return false;
  }

  /**
   * Reads an int8: a number, or its canonical digits as a string.
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

  /**
   * Reads a uint8.
   *
   * @return the value
   */
  public int uint8() {
    return (int) integer(0, 0xff, "uint8");
  }

  /**
   * Reads a uint16.
   *
   * @return the value
   */
  public int uint16() {
    return (int) integer(0, 0xffff, "uint16");
  }

  /**
   * Reads a uint32.
   *
   * @return the value
   */
  public long uint32() {
    return integer(0, 0xffff_ffffL, "uint32");
  }

  /**
   * Reads a uint64.
   *
   * @return the value, whose bits are unsigned
   */
  public long uint64() {
    return integer(0, -1, "uint64");
  }

  private long signed(long high, String expected) {
    return integer(high + 1, high, expected);
  }

  /** Reads an integer from -low to high; both are unsigned. */
  private long integer(long low, long high, String expected) {
    int c = peek();
    int start = at;
    boolean minus = c == '-';
    int first = minus ? at + 1 : at;
    long value = 0;
    int i = first;
    int last = Math.min(data.length, first + 18); // digits, which can't overflow
    for (; i < last && data[i] >= '0' && data[i] <= '9'; i++) {
      value = value * 10 + data[i] - '0';
    }
    if (i > first
        && (i == first + 1 || data[first] != '0')
        && i < data.length
        && (data[i] == ',' || data[i] == '}' || data[i] == ']')
        && Long.compareUnsigned(value, minus ? low : high) <= 0) {
      at = i;
      return minus ? -value : value;
    }
    boolean quoted = c == '"';
    String text;
    if (quoted) {
      scan();
      text = stringValue();
    } else {
      text = number(expected);
    }
    BigInteger n = parsed(text, quoted);
    if (n == null || n.negate().compareTo(unsigned(low)) > 0 || n.compareTo(unsigned(high)) > 0) {
      String found = Texts.shortened(text);
      throw failure(start, "expected " + expected + ", found " + (quoted ? "\"" + found + "\"" : found));
    }
    return n.longValue();
  }

  private static BigInteger unsigned(long n) {
    return n >= 0 ? BigInteger.valueOf(n) : new BigInteger(Long.toUnsignedString(n));
  }

  /** Reads digits without a fraction or exponent; null is none. "-0" is 0 as a number and none as a string. */
  static BigInteger parsed(String text, boolean quoted) {
    boolean minus = text.startsWith("-");
    String digits = minus ? text.substring(1) : text;
    if (!Texts.isDigits(digits)
        || digits.length() > 20
        || (digits.charAt(0) == '0' && (digits.length() > 1 || (quoted && minus)))) {
      return null;
    }
    BigInteger n = new BigInteger(digits);
    return minus ? n.negate() : n;
  }

  /** Is the text of a number (RFC 8259, section 6). */
  private String number(String expected) {
    int c = peek();
    if (c != '-' && (c < '0' || c > '9')) {
      throw wrong(expected);
    }
    int start = at;
    int i = c == '-' ? at + 1 : at;
    boolean ok;
    if (i < data.length && data[i] == '0') {
      i++;
      ok = true;
    } else {
      int begin = i;
      i = digits(i);
      ok = i > begin;
    }
    if (ok && i < data.length && data[i] == '.') {
      int begin = ++i;
      i = digits(i);
      ok = i > begin;
    }
    if (ok && i < data.length && (data[i] == 'e' || data[i] == 'E')) {
      i++;
      if (i < data.length && (data[i] == '+' || data[i] == '-')) {
        i++;
      }
      int begin = i;
      i = digits(i);
      ok = i > begin;
    }
    if (!ok || (i < data.length && data[i] >= '0' && data[i] <= '9')) {
      throw failure(start, "a number that is not well formed");
    }
    at = i;
    return new String(data, start, i - start, ISO_8859_1);
  }

  private int digits(int from) {
    int i = from;
    while (i < data.length && data[i] >= '0' && data[i] <= '9') {
      i++;
    }
    return i;
  }

  /**
   * Reads a float64: a number, "NaN", "Infinity" or "-Infinity".
   *
   * @return the value
   */
  public double float64() {
    if (peek() == '"') {
      return notFinite("float64");
    }
    int start = at;
    double exact = exactFloat();
    if (at > start) {
      return exact;
    }
    String text = number("float64");
    double x = Double.parseDouble(text);
    if (Double.isInfinite(x)) {
      throw failure(start, Texts.shortened(text) + " is too large for a float64");
    }
    return x;
  }

  /**
   * Reads a float32, rounded straight from the digits.
   *
   * @return the value
   */
  public float float32() {
    if (peek() == '"') {
      return (float) notFinite("float32");
    }
    int start = at;
    String text = number("float32");
    float x = Float.parseFloat(text);
    if (Float.isInfinite(x)) {
      throw failure(start, Texts.shortened(text) + " is too large for a float32");
    }
    return x;
  }

  private double notFinite(String expected) {
    int start = at;
    scan();
    switch (stringValue()) {
      case "NaN":
        return Double.NaN;
      case "Infinity":
        return Double.POSITIVE_INFINITY;
      case "-Infinity":
        return Double.NEGATIVE_INFINITY;
      default:
        throw failure(start, "expected " + expected + ", found a string");
    }
  }

  /**
   * Reads a number of up to 15 digits without an exponent: it is exact as an integer over an exact power of ten, so that
   * one division rounds it right. Of others nothing is read.
   */
  private double exactFloat() {
    int i = at;
    boolean minus = i < data.length && data[i] == '-';
    if (minus) {
      i++;
    }
    int begin = i;
    int point = -1;
    long mantissa = 0;
    for (; i < data.length && i - begin < 17; i++) {
      byte c = data[i];
      if (c >= '0' && c <= '9') {
        mantissa = mantissa * 10 + c - '0';
      } else if (c == '.' && point < 0) {
        point = i;
      } else {
        break;
      }
    }
    int length = i - begin;
    int fraction = point < 0 ? 0 : i - point - 1;
    if (length == 0
        || length > 16
        || mantissa >= 1_000_000_000_000_000L
        || point == begin
        || (point >= 0 && fraction == 0)
        || fraction > 15
        || (data[begin] == '0' && length > 1 && data[begin + 1] != '.')
        || (i < data.length && data[i] != ',' && data[i] != '}' && data[i] != ']')) {
      return 0;
    }
    at = i;
    double x = mantissa / POWERS[fraction];
    return minus ? -x : x;
  }

  /**
   * Reads a decimal: a string, or a number by its digits.
   *
   * @return the value, with its scale
   */
  public BigDecimal decimal() {
    boolean quoted = peek() == '"';
    int start = at;
    if (!quoted) {
      return Texts.decimal(number("decimal"), start);
    }
    scan();
    BigDecimal simple = simpleDecimal();
    return simple == null ? Texts.decimal(stringValue(), start) : simple;
  }

  /** Reads the string that was read last where it has at most 18 digits and a point; null is none. */
  private BigDecimal simpleDecimal() {
    int length = to - from;
    if (length == 0 || length > 18 || (string[from] == '0' && length > 1 && string[from + 1] != '.')) {
      return null;
    }
    long mantissa = 0;
    int point = -1;
    for (int i = from; i < to; i++) {
      byte c = string[i];
      if (c >= '0' && c <= '9') {
        mantissa = mantissa * 10 + c - '0';
      } else if (c == '.' && point < 0 && i > from && i < to - 1) {
        point = i;
      } else {
        return null;
      }
    }
    return BigDecimal.valueOf(mantissa, point < 0 ? 0 : to - point - 1);
  }

  /**
   * Reads a text.
   *
   * @return the value
   */
  public String text() {
    expectString("text");
    return stringValue();
  }

  private void expectString(String expected) {
    if (peek() != '"') {
      throw wrong(expected);
    }
    scan();
  }

  /**
   * Reads base64url or base64 (RFC 4648), padded or not.
   *
   * @return a new array
   */
  public byte[] bytes() {
    int start = at;
    expectString("bytes as base64url");
    byte[] bytes = Texts.base64(string, from, to);
    if (bytes == null) {
      throw failure(start, "expected bytes as base64url");
    }
    return bytes;
  }

  /**
   * Reads a uuid.
   *
   * @return the value
   */
  public UUID uuid() {
    int start = at;
    expectString("uuid");
    UUID uuid = Texts.uuid(string, from, to);
    if (uuid == null) {
      throw failure(start, "expected a uuid as 8-4-4-4-12 hexadecimal digits");
    }
    return uuid;
  }

  /**
   * Reads an instant (RFC 3339).
   *
   * @return the value
   */
  public Instant instant() {
    int start = at;
    expectString("instant");
    Instant instant = Texts.instant(string, from, to);
    if (instant == null) {
      throw failure(start, "expected an instant such as 2026-07-15T09:30:00Z");
    }
    return instant;
  }

  /**
   * Reads a date.
   *
   * @return the value
   */
  public LocalDate date() {
    int start = at;
    expectString("date");
    LocalDate date = Texts.date(stringValue());
    if (date == null) {
      throw failure(start, "expected a date such as 2026-07-15");
    }
    return date;
  }

  /**
   * Reads a duration (ISO 8601).
   *
   * @return the value
   */
  public Duration duration() {
    int start = at;
    expectString("duration");
    Duration duration = Texts.duration(stringValue());
    if (duration == null) {
      throw failure(start, "expected a duration such as PT1.5S");
    }
    return duration;
  }

  /**
   * Reads any value.
   *
   * @return the value
   */
  public Any any() {
    int c = peek();
    switch (c) {
      case 'n':
        word("null");
        return Any.NULL;
      case 't', 'f':
        return new Any(bool());
      case '"':
        return new Any(text());
      case '[':
        return new Any(list(JsonReader::any));
      case '{':
        return new Any(map(Key.TEXT, JsonReader::any));
      default:
        return anyNumber();
    }
  }

  private Any anyNumber() {
    int start = at;
    String text = number("a JSON value");
    if (text.indexOf('.') >= 0 || text.indexOf('e') >= 0 || text.indexOf('E') >= 0) {
      double x = Double.parseDouble(text);
      if (Double.isInfinite(x)) {
        throw failure(start, Texts.shortened(text) + " is too large for a float64");
      }
      return new Any(x);
    }
    BigInteger n = parsed(text, false);
    if (n == null || (n.signum() < 0 && n.bitLength() > 63) || n.bitLength() > 64) {
      throw failure(start, Texts.shortened(text) + " is neither an int64 nor a uint64");
    }
    return n.bitLength() > 63 ? new Any(n) : new Any(n.longValue());
  }

  /**
   * Reads an enum's member.
   *
   * @param <E> the enum
   * @param enumName of the enum, for errors
   * @param byNumber makes a member of its number
   * @param byName makes a member of its name
   * @return the member
   */
  public <E> E member(
      String enumName, java.util.function.IntFunction<E> byNumber, Function<String, E> byName) {
    if (peek() == '"') {
      scan();
      return byName.apply(stringValue());
    }
    return byNumber.apply((int) integer(0, 0xffff, enumName));
  }

  /**
   * Reads a value.
   *
   * @param <T> its type
   * @param codec of its type
   * @return what was read
   */
  public <T> T value(Codec<T> codec) {
    return codec.readJson(this);
  }

  /**
   * Reads a list.
   *
   * @param <T> the type of the items
   * @param read reads an item
   * @return a list that nobody can change
   */
  public <T> List<T> list(Function<JsonReader, T> read) {
    begin('[', "a list");
    List<T> list = new ArrayList<>();
    while (following(']')) {
      try {
        list.add(read.apply(this));
      } catch (PayloadException e) {
        throw e.inside(String.valueOf(list.size()));
      }
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
    return list(codec::readJson);
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
  public <K, V> Map<K, V> map(Key<K> key, Function<JsonReader, V> read) {
    begin('{', "a map");
    Map<K, V> map = new LinkedHashMap<>();
    while (nextMember()) {
      K k = key.readJson(this, stringValue());
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
   * @param fields its alternatives
   * @return the index of this alternative, or {@link #UNLISTED}
   */
  public int openUnion(Fields fields) {
    blanks();
    int start = at;
    begin('{', fields.message());
    budget++; // a union is one value, whatever it is written as
    int index = member(fields, END);
    if (index == END) {
      throw failure(start, "expected one alternative of " + fields.message() + ", found none");
    }
    return index;
  }

  /** Ends a union. */
  public void closeUnion() {
    if (nextMember()) {
      throw failure(at, "expected one alternative, found a second one");
    }
  }

  /**
   * Reads an alternative whose name is not listed.
   *
   * @param <U> the union
   * @param byNumber reads one that was written by its number, as CBOR
   * @param unlisted makes one that these definitions do not list
   * @return the alternative
   */
  public <U> U unlistedAlternative(
      BiFunction<CborReader, Integer, U> byNumber, Function<UnlistedField, U> unlisted) {
    String alternative = name;
    int start = at;
    try {
      if (isNumbered(alternative)) {
        int number = numberOf(alternative);
        CborReader inner = inner(bytes());
        U value = absorbed(inner, start, () -> byNumber.apply(inner, number));
        return value;
      }
      return unlisted.apply(new UnlistedField(0, alternative, raw()));
    } catch (PayloadException e) {
      throw e.inside(alternative);
    }
  }

  private static boolean isNumbered(String name) {
    return name.length() > 1 && name.charAt(0) == '#' && Texts.isDigits(name.substring(1));
  }

  private int numberOf(String name) {
    if (name.length() > 6 || name.charAt(1) == '0' || Integer.parseInt(name.substring(1)) > 65535) {
      throw failure(at, "expected #1 to #65535, found " + Texts.shortened(name));
    }
    return Integer.parseInt(name.substring(1));
  }

  /** Is a reader of CBOR inside of this payload. */
  private CborReader inner(byte[] cbor) {
    CborReader inner = new CborReader(cbor, budget);
    inner.nest(depth);
    return inner;
  }

  private <T> T absorbed(CborReader inner, int start, java.util.function.Supplier<T> read) {
    T value;
    try {
      value = read.get();
      if (inner.at < inner.data.length) {
        throw failure(start, "more bytes after a CBOR item");
      }
    } catch (PayloadException e) {
      throw e.moved(start);
    }
    budget = inner.budget;
    return value;
  }

  /**
   * Reads a member whose name the definitions do not list. Where it is the number of a field that they do list, the field
   * is read.
   *
   * @param list what was kept before, or null
   * @param fields those of the message
   * @param patch whether the message is a patch, in which null may stand for a number
   * @param entry reads the field of a number from CBOR
   * @return the list, with one more where it was kept
   */
  public List<UnlistedField> unlisted(
      List<UnlistedField> list, Fields fields, boolean patch, BiFunction<CborReader, Integer, Boolean> entry) {
    String member = name;
    List<UnlistedField> kept = list == null ? new ArrayList<>(2) : list;
    if (!isNumbered(member)) {
      try {
        kept.add(new UnlistedField(0, member, raw()));
      } catch (PayloadException e) {
        throw e.inside(member);
      }
      return kept;
    }
    int start = at;
    int number;
    byte[] cbor;
    try {
      number = numberOf(member);
      cbor = patch && isNull() ? new byte[] {(byte) 0xf6} : bytes();
    } catch (PayloadException e) {
      throw e.inside(member);
    }
    CborReader inner = inner(cbor);
    if (fields.indexOf(number) >= 0) {
      absorbed(inner, start, () -> entry.apply(inner, number));
      return kept.isEmpty() ? list : kept;
    }
    try {
      absorbed(inner, start, () -> inner.unlisted(kept, number));
    } catch (PayloadException e) {
      throw e.inside(member);
    }
    return kept;
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

  /** Is any value, without the blanks between its tokens. */
  private byte[] raw() {
    ByteArrayOutputStream b = new ByteArrayOutputStream();
    raw(b);
    return b.toByteArray();
  }

  /**
   * Reads any value as it is.
   *
   * @return its text, without the blanks between its tokens
   */
  public byte[] rawValue() {
    return raw();
  }

  /** Passes over any value. */
  void skip() {
    raw(new ByteArrayOutputStream());
  }

  private void raw(ByteArrayOutputStream b) {
    int c = peek();
    int start = at;
    switch (c) {
      case '"':
        scan();
        break;
      case '{':
        b.write('{');
        begin('{', "an object");
        for (boolean first = true; nextMember(); first = false) {
          if (!first) {
            b.write(',');
          }
          int colon = at - 1;
          int end = nameEnd(colon);
          b.write(data, nameStart, end - nameStart);
          b.write(':');
          raw(b);
        }
        b.write('}');
        return;
      case '[':
        b.write('[');
        begin('[', "a list");
        for (boolean first = true; following(']'); first = false) {
          if (!first) {
            b.write(',');
          }
          raw(b);
        }
        b.write(']');
        return;
      case 't':
        word("true");
        break;
      case 'f':
        word("false");
        break;
      case 'n':
        word("null");
        break;
      default:
        number("a JSON value");
    }
    b.write(data, start, at - start);
  }

  /** Is where the name before a colon ends. */
  private int nameEnd(int colon) {
    int end = colon;
    while (data[end - 1] != '"') {
      end--;
    }
    return end;
  }
}
