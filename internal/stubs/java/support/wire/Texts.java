package faithfulcourier.wire;

import static java.nio.charset.StandardCharsets.ISO_8859_1;
import static java.nio.charset.StandardCharsets.UTF_8;

import java.math.BigDecimal;
import java.math.BigInteger;
import java.time.DateTimeException;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.UUID;

/** Checks scalars, and writes and reads them as the texts that JSON has. */
final class Texts {
  /** How many digits a decimal may have, and how many of them after the point. */
  static final int MAX_DIGITS = 34;

  static final String DECIMAL_TOO_LONG =
      "a decimal has at most " + MAX_DIGITS + " digits, and as many after the point";

  /** The first and the last second of the years 0001 to 9999. */
  static final long MIN_SECONDS = -62135596800L;

  static final long MAX_SECONDS = 253402300799L;

  static final long MIN_DAY = MIN_SECONDS / 86400;
  static final long MAX_DAY = (MAX_SECONDS + 1) / 86400 - 1;

  private static final long MOST_SECONDS = Long.MAX_VALUE / 1_000_000_000;
  private static final int MOST_NANOS = (int) (Long.MAX_VALUE % 1_000_000_000);

  private Texts() {}

  /** Is a text in UTF-8, strictly read. */
  static String utf8(byte[] data, int from, int length, int start) {
    int all = 0;
    for (int i = from; i < from + length; i++) {
      all |= data[i];
    }
    if (all >= 0) {
      return new String(data, from, length, ISO_8859_1);
    }
    if (!isUtf8(data, from, from + length)) {
      throw new PayloadException("text that is not UTF-8", start, false);
    }
    return new String(data, from, length, UTF_8);
  }

  /** Tells whether bytes are UTF-8 (RFC 3629). */
  static boolean isUtf8(byte[] data, int from, int to) {
    for (int i = from; i < to; ) {
      int length = utf8Length(data, i, to);
      if (length == 0) {
        return false;
      }
      i += length;
    }
    return true;
  }

  /** Is how many bytes the character at i takes, or 0 where there is none. */
  static int utf8Length(byte[] data, int i, int to) {
    int b = data[i] & 0xff;
    if (b < 0x80) {
      return 1;
    }
    int length = b < 0xc2 ? 0 : b < 0xe0 ? 2 : b < 0xf0 ? 3 : b < 0xf5 ? 4 : 0;
    if (length == 0 || to - i < length) {
      return 0;
    }
    int second = data[i + 1] & 0xff;
    int low = b == 0xe0 ? 0xa0 : b == 0xf0 ? 0x90 : 0x80;
    int high = b == 0xed ? 0x9f : b == 0xf4 ? 0x8f : 0xbf;
    if (second < low || second > high) {
      return 0;
    }
    for (int j = 2; j < length; j++) {
      if ((data[i + j] & 0xc0) != 0x80) {
        return 0;
      }
    }
    return length;
  }

  /** Is where a text has half of a surrogate pair, or -1. */
  static int loneSurrogate(String text) {
    for (int i = 0; i < text.length(); i++) {
      char c = text.charAt(i);
      if (Character.isSurrogate(c)) {
        if (Character.isLowSurrogate(c) || i + 1 == text.length() || !Character.isLowSurrogate(text.charAt(i + 1))) {
          return i;
        }
        i++;
      }
    }
    return -1;
  }

  static Instant checked(Instant v) {
    long seconds = v.getEpochSecond();
    if (seconds < MIN_SECONDS || seconds > MAX_SECONDS) {
      throw PayloadException.writing("an instant outside the years 0001 to 9999");
    }
    return v;
  }

  static LocalDate checked(LocalDate v) {
    if (v.getYear() < 1 || v.getYear() > 9999) {
      throw PayloadException.writing("a date outside the years 0001 to 9999");
    }
    return v;
  }

  static Duration checked(Duration v) {
    if (!fitsDuration(v.getSeconds(), v.getNano())) {
      throw PayloadException.writing("a duration of over 2⁶³ nanoseconds");
    }
    return v;
  }

  static boolean fitsDuration(long seconds, long nanos) {
    if (seconds == MOST_SECONDS) {
      return nanos <= MOST_NANOS;
    }
    if (seconds == -MOST_SECONDS - 1) {
      return nanos >= 1_000_000_000 - MOST_NANOS - 1;
    }
    return seconds < MOST_SECONDS && seconds >= -MOST_SECONDS;
  }

  /** Is a decimal with a scale of 0 to 34 and at most 34 digits. */
  static BigDecimal decimal(BigDecimal v) {
    if (v.scale() >= 0 && v.scale() <= MAX_DIGITS && v.precision() <= MAX_DIGITS) {
      return v;
    }
    try {
      return scaled(v.unscaledValue(), -(long) v.scale(), -1);
    } catch (PayloadException e) {
      throw PayloadException.writing(e.detail());
    }
  }

  /** Brings a mantissa and an exponent into the range of decimals, where that is exact. */
  static BigDecimal scaled(BigInteger mantissa, long exponent, int start) {
    if (mantissa.signum() == 0) {
      return new BigDecimal(BigInteger.ZERO, (int) Math.min(Math.max(0, -Math.max(exponent, -MAX_DIGITS)), MAX_DIGITS));
    }
    if (exponent < -(1 << 20) || exponent > 1 << 20) {
      throw new PayloadException("a decimal with the exponent " + exponent, start, false);
    }
    BigDecimal v = new BigDecimal(mantissa, (int) -exponent);
    if (v.precision() > 2000 || exponent > MAX_DIGITS || v.precision() + Math.max(0, exponent) > 2000) {
      throw new PayloadException(DECIMAL_TOO_LONG, start, false);
    }
    try {
      if (v.scale() < 0) {
        v = v.setScale(0);
      } else if (v.scale() > MAX_DIGITS) {
        v = v.setScale(MAX_DIGITS);
      }
    } catch (ArithmeticException e) {
      throw new PayloadException(DECIMAL_TOO_LONG, start, false);
    }
    if (v.precision() > MAX_DIGITS) {
      throw new PayloadException(DECIMAL_TOO_LONG, start, false);
    }
    return v;
  }

  /** Reads the text of a JSON number (RFC 8259, section 6); -0 is refused. */
  static BigDecimal decimal(String text, int start) {
    int i = text.startsWith("-") ? 1 : 0;
    int point = -1;
    int from = i;
    StringBuilder digits = new StringBuilder();
    for (; i < text.length() && text.charAt(i) != 'e' && text.charAt(i) != 'E'; i++) {
      char c = text.charAt(i);
      if (c >= '0' && c <= '9') {
        digits.append(c);
      } else if (c == '.' && point < 0 && i > from) {
        point = i;
      } else {
        throw notDecimal(text, start);
      }
    }
    int fraction = point < 0 ? 0 : i - point - 1;
    if (digits.length() == 0
        || (point >= 0 && fraction == 0)
        || (digits.charAt(0) == '0' && digits.length() - fraction > 1)) {
      throw notDecimal(text, start);
    }
    long exponent = 0;
    if (i < text.length()) {
      int sign = i + 1 < text.length() && (text.charAt(i + 1) == '+' || text.charAt(i + 1) == '-') ? 1 : 0;
      String amount = text.substring(i + 1 + sign);
      if (!isDigits(amount)) {
        throw notDecimal(text, start);
      }
      String significant = amount.replaceFirst("^0+(?=.)", "");
      if (significant.length() > 7) {
        throw new PayloadException(DECIMAL_TOO_LONG + ", found " + shortened(text), start, false);
      }
      exponent = Long.parseLong(significant);
      if (exponent > 1 << 20) {
        throw new PayloadException(DECIMAL_TOO_LONG + ", found " + shortened(text), start, false);
      }
      if (text.charAt(i + 1) == '-') {
        exponent = -exponent;
      }
    }
    int zeros = 0; // in front, which count for nothing
    while (zeros < digits.length() - 1 && digits.charAt(zeros) == '0') {
      zeros++;
    }
    String significant = digits.substring(zeros);
    if (significant.equals("0")) {
      if (from == 1) {
        throw new PayloadException("a decimal has no -0, found " + shortened(text), start, false);
      }
    } else if (significant.length() > 2000) {
      String trimmed = significant.replaceFirst("0+$", "");
      if (trimmed.length() > MAX_DIGITS) {
        throw new PayloadException(DECIMAL_TOO_LONG + ", found " + shortened(text), start, false);
      }
      exponent += significant.length() - trimmed.length();
      significant = trimmed;
    }
    BigInteger mantissa = new BigInteger(significant);
    try {
      return scaled(from == 1 ? mantissa.negate() : mantissa, exponent - fraction, start);
    } catch (PayloadException e) {
      throw new PayloadException(e.detail() + ", found " + shortened(text), start, false);
    }
  }

  private static PayloadException notDecimal(String text, int start) {
    return new PayloadException(
        "a decimal is written as in \"12.50\", found " + shortened(text), start, false);
  }

  static String shortened(String text) {
    return text.length() > 40 ? text.substring(0, text.offsetByCodePoints(0, Math.min(40, text.codePointCount(0, text.length())))) + "…" : text;
  }

  /** Reads RFC 3339 with any offset and up to 9 digits of fraction; null is none. */
  static Instant instant(byte[] s, int from, int to) {
    int n = to - from;
    if (n < 20 || s[from + 4] != '-' || s[from + 7] != '-' || s[from + 10] != 'T' || s[from + 13] != ':'
        || s[from + 16] != ':') {
      return null;
    }
    int century = two(s, from);
    int year = two(s, from + 2);
    int month = two(s, from + 5);
    int day = two(s, from + 8);
    int hour = two(s, from + 11);
    int minute = two(s, from + 14);
    int second = two(s, from + 17);
    if (century < 0 || year < 0 || month < 1 || month > 12 || day < 1 || hour < 0 || hour > 23 || minute < 0
        || minute > 59 || second < 0 || second > 59) {
      return null;
    }
    year += century * 100;
    if (day > daysOf(year, month)) {
      return null;
    }
    int i = from + 19;
    int nanos = 0;
    if (s[i] == '.') {
      int unit = 100_000_000;
      int begin = ++i;
      for (; i < to && s[i] >= '0' && s[i] <= '9'; i++) {
        nanos += (s[i] - '0') * unit;
        unit /= 10;
      }
      if (i == begin || i > begin + 9) {
        return null;
      }
    }
    int offset = 0;
    if (i == to - 6 && (s[i] == '+' || s[i] == '-') && s[i + 3] == ':') {
      int hours = two(s, i + 1);
      int minutes = two(s, i + 4);
      if (hours < 0 || hours > 23 || minutes < 0 || minutes > 59) {
        return null;
      }
      offset = hours * 3600 + minutes * 60;
      if (s[i] == '-') {
        offset = -offset;
      }
    } else if (i != to - 1 || s[i] != 'Z') {
      return null;
    }
    long seconds = daysBefore(year, month, day) * 86_400L + hour * 3600L + minute * 60L + second - offset;
    return seconds < MIN_SECONDS || seconds > MAX_SECONDS ? null : Instant.ofEpochSecond(seconds, nanos);
  }

  private static int two(byte[] s, int i) {
    int high = s[i] - '0';
    int low = s[i + 1] - '0';
    return high < 0 || high > 9 || low < 0 || low > 9 ? -1 : high * 10 + low;
  }

  private static int daysOf(int year, int month) {
    if (month == 2) {
      return year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) ? 29 : 28;
    }
    return month == 4 || month == 6 || month == 9 || month == 11 ? 30 : 31;
  }

  /** Is how many days lie between 1970-01-01 and a day. */
  private static long daysBefore(int year, int month, int day) {
    int y = month <= 2 ? year - 1 : year; // years begin in March, so that leap days come last
    int era = Math.floorDiv(y, 400);
    int ofEra = y - era * 400;
    int ofYear = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146_097L + ofEra * 365L + ofEra / 4 - ofEra / 100 + ofYear - 719_468;
  }

  /** Reads YYYY-MM-DD; null is none. */
  static LocalDate date(String text) {
    if (text.length() != 10 || text.charAt(4) != '-' || text.charAt(7) != '-') {
      return null;
    }
    for (int i = 0; i < 10; i++) {
      if (i != 4 && i != 7 && (text.charAt(i) < '0' || text.charAt(i) > '9')) {
        return null;
      }
    }
    int year = Integer.parseInt(text.substring(0, 4));
    try {
      return year < 1
          ? null
          : LocalDate.of(year, Integer.parseInt(text.substring(5, 7)), Integer.parseInt(text.substring(8)));
    } catch (DateTimeException e) {
      return null;
    }
  }

  /** Writes a duration in seconds, such as PT90S. */
  static String text(Duration v) {
    BigInteger nanos =
        BigInteger.valueOf(v.getSeconds())
            .multiply(BigInteger.valueOf(1_000_000_000))
            .add(BigInteger.valueOf(v.getNano()));
    BigInteger[] parts = nanos.abs().divideAndRemainder(BigInteger.valueOf(1_000_000_000));
    StringBuilder b = new StringBuilder(nanos.signum() < 0 ? "-PT" : "PT").append(parts[0]);
    int fraction = parts[1].intValue();
    if (fraction != 0) {
      b.append('.');
      for (int unit = 100_000_000; fraction != 0; unit /= 10) {
        b.append((char) ('0' + fraction / unit));
        fraction %= unit;
      }
    }
    return b.append('S').toString();
  }

  /** Reads ISO 8601: days, hours, minutes and seconds in order; null is none. */
  static Duration duration(String text) {
    String s = text.startsWith("-") ? text.substring(1) : text;
    if (s.length() < 3 || s.charAt(0) != 'P') {
      return null;
    }
    String units = "DHMS";
    int[] seconds = {86400, 3600, 60, 1};
    int next = 0;
    boolean inTime = false;
    boolean any = false;
    BigInteger total = BigInteger.ZERO;
    for (int i = 1; i < s.length(); ) {
      if (s.charAt(i) == 'T' && !inTime && i + 1 < s.length()) {
        inTime = true;
        i++;
        continue;
      }
      int from = i;
      while (i < s.length() && isDigit(s.charAt(i))) {
        i++;
      }
      boolean large = i - from > 19 && !s.substring(from, i - 19).chars().allMatch(c -> c == '0');
      if (i == from || i == s.length() || large) {
        return null;
      }
      BigInteger amount = new BigInteger(s.substring(from, i));
      int nanos = 0;
      boolean fraction = s.charAt(i) == '.';
      if (fraction) {
        int begin = ++i;
        int unit = 100_000_000;
        for (; i < s.length() && isDigit(s.charAt(i)); i++) {
          nanos += (s.charAt(i) - '0') * unit;
          unit /= 10;
        }
        if (i == begin || i > begin + 9 || i == s.length()) {
          return null;
        }
      }
      int unit = units.indexOf(s.charAt(i), next);
      if (unit < 0 || (unit == 0 && inTime) || (unit > 0 && !inTime) || (fraction && unit != 3)) {
        return null;
      }
      total =
          total
              .add(amount.multiply(BigInteger.valueOf(seconds[unit] * 1_000_000_000L)))
              .add(BigInteger.valueOf(nanos));
      next = unit + 1;
      any = true;
      i++;
    }
    if (!s.equals(text)) {
      total = total.negate();
    }
    if (!any || total.bitLength() > 63) {
      return null;
    }
    return Duration.ofNanos(total.longValue());
  }

  /** Tells whether a text has digits alone, and one at least. */
  static boolean isDigits(String s) {
    for (int i = 0; i < s.length(); i++) {
      if (!isDigit(s.charAt(i))) {
        return false;
      }
    }
    return !s.isEmpty();
  }

  private static boolean isDigit(char c) {
    return c >= '0' && c <= '9';
  }

  /** Reads 8-4-4-4-12 hexadecimal digits; null is none. */
  static UUID uuid(byte[] s, int from, int to) {
    if (to - from != 36) {
      return null;
    }
    long high = 0;
    long low = 0;
    int digits = 0;
    for (int i = 0; i < 36; i++) {
      byte c = s[from + i];
      if (i == 8 || i == 13 || i == 18 || i == 23) {
        if (c != '-') {
          return null;
        }
        continue;
      }
      int digit = hex(c);
      if (digit < 0) {
        return null;
      }
      if (digits++ < 16) {
        high = high << 4 | digit;
      } else {
        low = low << 4 | digit;
      }
    }
    return new UUID(high, low);
  }

  static int hex(int c) {
    if (c >= '0' && c <= '9') {
      return c - '0';
    }
    int lower = c | 0x20;
    return lower >= 'a' && lower <= 'f' ? lower - 'a' + 10 : -1;
  }

  /** Reads base64url or base64 (RFC 4648), padded or not; null is neither. */
  static byte[] base64(byte[] s, int from, int to) {
    int end = to;
    while (end > from && s[end - 1] == '=') {
      end--;
    }
    int padding = to - end;
    int length = end - from;
    if ((padding > 0 && ((to - from) % 4 != 0 || padding > 2)) || length % 4 == 1) {
      return null;
    }
    byte[] out = new byte[length * 3 / 4];
    int bits = 0;
    int have = 0;
    int at = 0;
    for (int i = from; i < end; i++) {
      int digit = base64Digit(s[i]);
      if (digit < 0) {
        return null;
      }
      bits = bits << 6 | digit;
      have += 6;
      if (have >= 8) {
        have -= 8;
        out[at++] = (byte) (bits >> have);
      }
    }
    return (bits & (1 << have) - 1) == 0 ? out : null;
  }

  private static int base64Digit(byte c) {
    if (c >= 'A' && c <= 'Z') {
      return c - 'A';
    } else if (c >= 'a' && c <= 'z') {
      return c - 'a' + 26;
    } else if (c >= '0' && c <= '9') {
      return c - '0' + 52;
    } else if (c == '-' || c == '+') {
      return 62;
    }
    return c == '_' || c == '/' ? 63 : -1;
  }
}
