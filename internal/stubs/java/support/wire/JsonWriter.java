package faithfulcourier.wire;

import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.ArrayDeque;
import java.util.Arrays;
import java.util.Base64;
import java.util.Deque;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.function.BiConsumer;

/** Writes JSON (RFC 8259), in UTF-8 and without blanks. */
public final class JsonWriter extends Writer {
  /** What is written instead of a secret where the text is for people and logs. */
  private static final byte[] SECRET = "\"(secret)\"".getBytes(StandardCharsets.US_ASCII);

  private static final long MOST_EXACT = (1L << 53) - 1;
  private static final byte[] HEX = "0123456789abcdef".getBytes(StandardCharsets.US_ASCII);
  private static final boolean[] PLAIN = new boolean[128];

  static {
    for (int c = 0x20; c < 0x80; c++) {
      PLAIN[c] = c != '"' && c != '\\';
    }
  }

  private boolean hides; // what is secret
  private boolean exact; // decimals by number, so that what is equal is written alike
  private boolean numbers; // whether what has no number fails, as in CBOR
  private int[] starts = new int[8]; // of the objects that are open; of arrays their complements

  /** Makes an empty writer. */
  public JsonWriter() {
    this(256);
  }

  JsonWriter(int capacity) {
    super(capacity);
  }

  /**
   * Makes a writer of texts for people and logs, without what is secret.
   *
   * @return the writer
   */
  public static JsonWriter forPeople() {
    JsonWriter w = new JsonWriter();
    w.hides = true;
    return w;
  }

  static JsonWriter comparing() {
    JsonWriter w = new JsonWriter(64);
    w.exact = true;
    return w;
  }

  static JsonWriter locating(boolean numbers) {
    JsonWriter w = new JsonWriter();
    w.numbers = numbers;
    return w;
  }

  /** {@return what was written} */
  @Override
  public String toString() {
    return new String(data, 0, at, StandardCharsets.UTF_8);
  }

  /** {@return whether the text is for people and logs, without what is secret} */
  public boolean hides() {
    return hides;
  }

  /** Is the path (RFC 6901) of what would be written next: where writing failed. */
  String path() {
    record Level(boolean list, String step) {}
    for (int i = 1; i <= depth(); i++) {
      int start = starts[i] < 0 ? ~starts[i] : starts[i];
      if (start < at) {
        data[start] = (byte) (starts[i] < 0 ? '[' : '{'); // where the first comma is
      }
    }
    Deque<Level> open = new ArrayDeque<>();
    for (int i = 0; i < at; i++) {
      byte c = data[i];
      if (c == '"') {
        int from = i;
        for (i++; i < at && data[i] != '"'; i++) {
          if (data[i] == '\\') {
            i++;
          }
        }
        if (i + 1 < at && data[i + 1] == ':' && !open.isEmpty()) {
          open.pop();
          open.push(new Level(false, new JsonReader(Arrays.copyOfRange(data, from, i + 1), 1).text()));
        }
      } else if (c == '{' || c == '[') {
        open.push(new Level(c == '[', c == '[' ? "0" : null));
      } else if (c == '}' || c == ']') {
        open.pop();
      } else if (c == ',' && !open.isEmpty()) {
        Level last = open.pop();
        open.push(last.list ? new Level(true, String.valueOf(Integer.parseInt(last.step) + 1)) : new Level(false, null));
      }
    }
    StringBuilder path = new StringBuilder();
    open.descendingIterator().forEachRemaining(l -> {
      if (l.step != null) {
        path.append('/').append(Violations.escaped(l.step));
      }
    });
    return path.toString();
  }

  void raw(char c) {
    ensure(1);
    data[at++] = (byte) c;
  }

  void ascii(CharSequence text) {
    ensure(text.length());
    for (int i = 0; i < text.length(); i++) {
      data[at++] = (byte) text.charAt(i);
    }
  }

  /** Writes a number from 0 up, without a sign. */
  void digits(long n) {
    ensure(20);
    if (n < 10) {
      data[at++] = (byte) ('0' + n);
      return;
    }
    int length = 1;
    for (long rest = n; rest >= 10; rest /= 10) {
      length++;
    }
    at += length;
    long rest = n;
    for (int i = at - 1; length > 0; length--, i--) {
      data[i] = (byte) ('0' + rest % 10);
      rest /= 10;
    }
  }

  private void number(long v) {
    if (v == Long.MIN_VALUE) {
      ascii("-9223372036854775808");
    } else if (v < 0) {
      raw('-');
      digits(-v);
    } else {
      digits(v);
    }
  }

  /**
   * Begins a message: every member is written with a comma before it, and the first comma becomes the bracket.
   *
   * @return what {@link #endMessage} needs
   */
  public int beginMessage() {
    return begin(at);
  }

  /** Begins an object, or an array where its start is the complement. */
  private int begin(int start) {
    int depth = enter();
    if (depth >= starts.length) {
      starts = Arrays.copyOf(starts, MAX_DEPTH + 1);
    }
    starts[depth] = start;
    return at;
  }

  /**
   * Ends a message, and puts its unlisted fields in their places.
   *
   * @param start what {@link #beginMessage} returned
   * @param unlisted those fields, or null
   * @param fields those that the message declares
   */
  public void endMessage(int start, UnlistedFields unlisted, Fields fields) {
    if (unlisted != null) {
      if (hides) {
        member("(unlisted fields)");
        digits(unlisted.size());
      } else {
        unlisted.mergeJson(this, start, fields);
      }
    }
    end(start, '{', '}');
  }

  private void end(int start, char open, char closing) {
    leave();
    ensure(2);
    if (at == start) {
      at++;
    }
    data[start] = (byte) open;
    data[at++] = (byte) closing;
  }

  /**
   * Begins a field.
   *
   * @param fields those of the message
   * @param index of the field among them
   */
  public void field(Fields fields, int index) {
    byte[] head = fields.head(index);
    int length = head.length;
    ensure(length);
    System.arraycopy(head, 0, data, at, length);
    at += length;
  }

  /** Begins a member of an object. */
  void member(String name) {
    raw(',');
    text(name);
    raw(':');
  }

  /**
   * Writes any value as it is.
   *
   * @param json its text
   */
  public void rawValue(byte[] json) {
    put(json, 0, json.length);
  }

  /** Writes null, with which a patch clears a field. */
  public void nothing() {
    ascii("null");
  }

  /** Writes what stands for a secret. */
  public void secret() {
    put(SECRET, 0, SECRET.length);
  }

  /**
   * Writes a bool.
   *
   * @param v the value
   */
  public void bool(boolean v) {
    ascii(v ? "true" : "false");
  }

  /**
   * Writes an int8.
   *
   * @param v the value, which must be in its range
   */
  public void int8(int v) {
    number(within(v, Byte.MIN_VALUE, Byte.MAX_VALUE, "int8"));
  }

  /**
   * Writes an int16.
   *
   * @param v the value, which must be in its range
   */
  public void int16(int v) {
    number(within(v, Short.MIN_VALUE, Short.MAX_VALUE, "int16"));
  }

  /**
   * Writes an int32.
   *
   * @param v the value
   */
  public void int32(int v) {
    number(v);
  }

  /**
   * Writes an int64; one beyond 2⁵³−1 as a string.
   *
   * @param v the value
   */
  public void int64(long v) {
    if (v <= MOST_EXACT && v >= -MOST_EXACT) {
      number(v);
      return;
    }
    raw('"');
    number(v);
    raw('"');
  }

  /**
   * Writes a uint8.
   *
   * @param v the value, which must be in its range
   */
  public void uint8(int v) {
    digits(within(v, 0, 0xff, "uint8"));
  }

  /**
   * Writes a uint16.
   *
   * @param v the value, which must be in its range
   */
  public void uint16(int v) {
    digits(within(v, 0, 0xffff, "uint16"));
  }

  /**
   * Writes a uint32.
   *
   * @param v the value, which must be in its range
   */
  public void uint32(long v) {
    digits(within(v, 0, 0xffff_ffffL, "uint32"));
  }

  /**
   * Writes a uint64; one beyond 2⁵³−1 as a string.
   *
   * @param v the value, whose bits are taken as unsigned
   */
  public void uint64(long v) {
    if (v >= 0 && v <= MOST_EXACT) {
      digits(v);
      return;
    }
    raw('"');
    ascii(Long.toUnsignedString(v));
    raw('"');
  }

  /**
   * Writes a float32, by its float64 value.
   *
   * @param v the value
   */
  public void float32(float v) {
    float64(v);
  }

  /**
   * Writes a float64 as ECMAScript prints it, −0 as -0.
   *
   * @param v the value
   */
  public void float64(double v) {
    if (Double.isNaN(v)) {
      ascii("\"NaN\"");
    } else if (Double.isInfinite(v)) {
      ascii(v > 0 ? "\"Infinity\"" : "\"-Infinity\"");
    } else {
      Floats.write(this, v);
    }
  }

  /**
   * Writes a decimal.
   *
   * @param v the value, of at most 34 digits
   */
  public void decimal(BigDecimal v) {
    BigDecimal d = Texts.decimal(v);
    if (exact && d.signum() == 0) {
      d = BigDecimal.ZERO;
    } else if (exact) {
      d = d.stripTrailingZeros();
    }
    raw('"');
    long digits = d.scale() > 0 && d.precision() < 19 ? d.unscaledValue().longValue() : -1;
    int scale = d.scale();
    if (digits >= 0 && scale < 10) {
      long unit = 1;
      for (int i = 0; i < scale; i++) {
        unit *= 10;
      }
      digits(digits / unit);
      raw('.');
      ensure(scale);
      long rest = digits % unit;
      at += scale;
      for (int i = 1; i <= scale; i++) {
        data[at - i] = (byte) ('0' + rest % 10);
        rest /= 10;
      }
    } else {
      ascii(d.toPlainString());
    }
    raw('"');
  }

  /**
   * Writes a text.
   *
   * @param v the value
   */
  public void text(String v) {
    int length = v.length();
    ensure(length + 2);
    byte[] bytes = data;
    int start = at;
    bytes[start] = '"';
    int to = start + 1;
    for (int i = 0; i < length; i++) {
      char c = v.charAt(i);
      if (c >= 0x80 || !PLAIN[c]) {
        escaped(v);
        return;
      }
      bytes[to + i] = (byte) c;
    }
    bytes[to + length] = '"';
    at = to + length + 1;
  }

  private void escaped(String v) {
    if (Texts.loneSurrogate(v) >= 0) {
      throw PayloadException.writing("text with half of a surrogate pair");
    }
    byte[] utf8 = v.getBytes(StandardCharsets.UTF_8);
    raw('"');
    for (byte c : utf8) {
      ensure(6);
      if (c < 0 || PLAIN[c]) {
        data[at++] = c;
        continue;
      }
      data[at++] = '\\';
      switch (c) {
        case '"', '\\' -> data[at++] = c;
        case '\b' -> data[at++] = 'b';
        case '\t' -> data[at++] = 't';
        case '\n' -> data[at++] = 'n';
        case '\f' -> data[at++] = 'f';
        case '\r' -> data[at++] = 'r';
        default -> {
          data[at++] = 'u';
          data[at++] = '0';
          data[at++] = '0';
          data[at++] = HEX[c >> 4];
          data[at++] = HEX[c & 15];
        }
      }
    }
    raw('"');
  }

  /**
   * Writes bytes as base64url without padding.
   *
   * @param v the value
   */
  public void bytes(byte[] v) {
    byte[] text = Base64.getUrlEncoder().withoutPadding().encode(v);
    raw('"');
    put(text, 0, text.length);
    raw('"');
  }

  /**
   * Writes a uuid.
   *
   * @param v the value
   */
  public void uuid(UUID v) {
    ensure(38);
    data[at++] = '"';
    hex(v.getMostSignificantBits() >>> 32, 8);
    data[at++] = '-';
    hex(v.getMostSignificantBits() >>> 16, 4);
    data[at++] = '-';
    hex(v.getMostSignificantBits(), 4);
    data[at++] = '-';
    hex(v.getLeastSignificantBits() >>> 48, 4);
    data[at++] = '-';
    hex(v.getLeastSignificantBits(), 12);
    data[at++] = '"';
  }

  private void hex(long bits, int digits) {
    for (int i = digits - 1; i >= 0; i--) {
      data[at++] = HEX[(int) (bits >>> (4 * i)) & 15];
    }
  }

  /**
   * Writes an instant (RFC 3339, in UTC).
   *
   * @param v the value, in the years 0001 to 9999
   */
  public void instant(Instant v) {
    Texts.checked(v);
    long seconds = v.getEpochSecond();
    int second = (int) Math.floorMod(seconds, 86_400L);
    ensure(32);
    data[at++] = '"';
    date((int) Math.floorDiv(seconds, 86_400L));
    data[at++] = 'T';
    two(second / 3600);
    data[at++] = ':';
    two(second / 60 % 60);
    data[at++] = ':';
    two(second % 60);
    int nanos = v.getNano();
    if (nanos != 0) {
      data[at++] = '.';
      for (int unit = 100_000_000; nanos != 0; unit /= 10) {
        data[at++] = (byte) ('0' + nanos / unit);
        nanos %= unit;
      }
    }
    data[at++] = 'Z';
    data[at++] = '"';
  }

  /** Writes a day, counted from 1970-01-01. Years begin in March here, so that leap days come last. */
  private void date(int day) {
    int days = day + 719_468; // since 0000-03-01
    int era = days / 146_097;
    int ofEra = days % 146_097;
    int yearOfEra = (ofEra - ofEra / 1460 + ofEra / 36_524 - ofEra / 146_096) / 365;
    int ofYear = ofEra - (365 * yearOfEra + yearOfEra / 4 - yearOfEra / 100);
    int month = (5 * ofYear + 2) / 153; // March is 0
    int year = era * 400 + yearOfEra + (month < 10 ? 0 : 1);
    date(year, month < 10 ? month + 3 : month - 9, ofYear - (153 * month + 2) / 5 + 1);
  }

  private void date(int year, int month, int day) {
    two(year / 100);
    two(year % 100);
    data[at++] = '-';
    two(month);
    data[at++] = '-';
    two(day);
  }

  private void two(int n) {
    data[at++] = (byte) ('0' + n / 10);
    data[at++] = (byte) ('0' + n % 10);
  }

  /**
   * Writes a date.
   *
   * @param v the value, in the years 0001 to 9999
   */
  public void date(LocalDate v) {
    Texts.checked(v);
    ensure(12);
    data[at++] = '"';
    date(v.getYear(), v.getMonthValue(), v.getDayOfMonth());
    data[at++] = '"';
  }

  /**
   * Writes a duration, in seconds.
   *
   * @param v the value, of less than 2⁶³ nanoseconds
   */
  public void duration(Duration v) {
    raw('"');
    ascii(Texts.text(Texts.checked(v)));
    raw('"');
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
      number(n);
    } else if (value instanceof BigInteger n) {
      ascii(n.toString());
    } else if (value instanceof Double d) {
      int start = at;
      Floats.write(this, d);
      for (int i = start; i < at; i++) {
        if (data[i] == '.' || data[i] == 'e') {
          return;
        }
      }
      ascii(".0");
    } else if (value instanceof String s) {
      text(s);
    } else if (value instanceof List<?>) {
      list(v.items(), JsonWriter::any);
    } else {
      map(Key.TEXT, v.entries(), JsonWriter::any);
    }
  }

  /**
   * Writes an enum's member.
   *
   * @param number its number, or below 0 where only its name is known
   * @param name its name in JSON, or null where only its number is known
   * @param listed whether the enum lists it
   * @param enumName the enum, for errors
   */
  public void member(int number, String name, boolean listed, String enumName) {
    if (name == null) {
      digits(number);
    } else if (numbers && number < 0) {
      throw withoutNumber("?" + name, enumName);
    } else {
      text(name);
    }
  }

  static PayloadException withoutNumber(String name, String enumName) {
    return PayloadException.writing(
        "\"" + name + "\" is not listed in " + enumName + ", and binary payloads contain numbers");
  }

  static PayloadException alternativeWithoutNumber(String name, String union) {
    return PayloadException.writing(
        "the alternative \"" + name + "\" is not listed in " + union + ", and binary payloads contain numbers");
  }

  boolean needsNumbers() {
    return numbers;
  }

  /**
   * Writes a value.
   *
   * @param <T> its type
   * @param codec of its type
   * @param value what is written
   */
  public <T> void value(Codec<T> codec, T value) {
    codec.writeJson(this, value);
  }

  /**
   * Writes a list.
   *
   * @param <T> the type of the items
   * @param list what is written
   * @param write writes an item
   */
  public <T> void list(List<T> list, BiConsumer<JsonWriter, T> write) {
    int start = begin(~at);
    for (T item : list) {
      raw(',');
      write.accept(this, item);
    }
    end(start, '[', ']');
  }

  /**
   * Writes a list.
   *
   * @param <T> the type of the items
   * @param list what is written
   * @param codec of the items
   */
  public <T> void list(List<T> list, Codec<T> codec) {
    list(list, codec::writeJson);
  }

  /**
   * Writes a map, its keys in the order of their encoding in CBOR.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param key how keys are written
   * @param map what is written
   * @param write writes a value
   */
  public <K, V> void map(Key<K> key, Map<K, V> map, BiConsumer<JsonWriter, V> write) {
    int start = begin(at);
    for (K each : key.sorted(map)) {
      key.writeJson(this, each);
      write.accept(this, map.get(each));
    }
    end(start, '{', '}');
  }

  /**
   * Begins an alternative of a union.
   *
   * @param fields the alternatives
   * @param index of this one among them
   * @return what {@link #endUnion} needs
   */
  public int beginUnion(Fields fields, int index) {
    int start = begin(at);
    field(fields, index);
    return start;
  }

  /**
   * Ends a union.
   *
   * @param start what {@link #beginUnion} returned
   */
  public void endUnion(int start) {
    end(start, '{', '}');
  }

  /**
   * Writes an alternative that is not listed.
   *
   * @param union its union, for errors
   * @param alternative what was read
   */
  public void unlisted(String union, UnlistedField alternative) {
    if (hides) {
      ascii("\"(unlisted)\"");
      return;
    }
    if (alternative.number() == 0 && numbers) {
      throw alternativeWithoutNumber(alternative.name(), union);
    }
    int start = begin(at);
    if (alternative.number() > 0) {
      member("#" + alternative.number());
      bytes(alternative.raw());
    } else {
      member(alternative.name());
      put(alternative.raw(), 0, alternative.raw().length);
    }
    end(start, '{', '}');
  }
}
