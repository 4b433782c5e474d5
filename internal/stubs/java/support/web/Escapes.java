package faithfulcourier.web;

import java.io.ByteArrayOutputStream;
import java.nio.ByteBuffer;
import java.nio.charset.CharacterCodingException;
import java.nio.charset.StandardCharsets;

/** Writes and reads text that travels outside of a body. */
final class Escapes {
  private static final String HEX = "0123456789ABCDEF";
  private static final String UNRESERVED = "-._~";

  private Escapes() {}

  /** Is text for a path segment or a query: all but letters, digits and -._~ is percent-encoded. */
  static String uri(String text) {
    return percent(text, c -> isAlphanumeric(c) || UNRESERVED.indexOf(c) >= 0);
  }

  private static boolean isAlphanumeric(int c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
  }

  private static String percent(String text, java.util.function.IntPredicate plain) {
    StringBuilder b = new StringBuilder(text.length());
    for (byte octet : text.getBytes(StandardCharsets.UTF_8)) {
      int c = octet & 0xff;
      if (plain.test(c)) {
        b.append((char) c);
      } else {
        b.append('%').append(HEX.charAt(c >> 4)).append(HEX.charAt(c & 15));
      }
    }
    return b.toString();
  }

  /** Is text for a header, with what can't be in one, or would not be seen at its ends, percent-encoded. */
  static String header(String text) {
    int from = 0;
    int to = text.length();
    while (from < to && text.charAt(from) == ' ') {
      from++;
    }
    while (to > from && text.charAt(to - 1) == ' ') {
      to--;
    }
    String inner = percent(text.substring(from, to), c -> c >= ' ' && c < 0x7f && c != '%');
    return "%20".repeat(from) + inner + "%20".repeat(text.length() - to);
  }

  /** Is text for a cookie, with what means something there percent-encoded (RFC 6265, section 4.1.1). */
  static String cookie(String text) {
    return percent(text, c -> c > ' ' && c < 0x7f && "%\",;\\".indexOf(c) < 0);
  }

  /** Tells what can travel in a header verbatim. */
  static boolean isPrintable(String text) {
    return text.chars().allMatch(c -> c >= ' ' && c <= '~') && text.strip().length() == text.length();
  }

  private static int hex(char c) {
    return c < 0x80 ? Character.digit(c, 16) : -1;
  }

  /** Is a text without its percent-encoding, or null where that is wrong; a plus is a blank in a query. */
  static String decoded(String text, boolean query) {
    if (text.indexOf('%') < 0 && (!query || text.indexOf('+') < 0) && text.chars().allMatch(c -> c < 0x80)) {
      return text;
    }
    ByteArrayOutputStream b = new ByteArrayOutputStream(text.length());
    for (int i = 0; i < text.length(); i++) {
      char c = text.charAt(i);
      if (c == '%') {
        int high = i + 2 < text.length() ? hex(text.charAt(i + 1)) : -1;
        int low = i + 2 < text.length() ? hex(text.charAt(i + 2)) : -1;
        if (high < 0 || low < 0) {
          return null;
        }
        b.write(high << 4 | low);
        i += 2;
      } else if (c == '+' && query) {
        b.write(' ');
      } else if (c < 0x80) {
        b.write(c);
      } else { // as libraries hand out octets of headers: each as a character
        byte[] octets = c < 0x100 ? new byte[] {(byte) c} : String.valueOf(c).getBytes(StandardCharsets.UTF_8);
        b.write(octets, 0, octets.length);
      }
    }
    try {
      return StandardCharsets.UTF_8.newDecoder().decode(ByteBuffer.wrap(b.toByteArray())).toString();
    } catch (CharacterCodingException e) {
      return "\ud800"; // which no reader takes
    }
  }
}
