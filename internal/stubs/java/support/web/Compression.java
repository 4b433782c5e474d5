package faithfulcourier.web;

import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.List;
import java.util.Locale;
import java.util.zip.GZIPInputStream;
import java.util.zip.GZIPOutputStream;

/** Writes and reads bodies in gzip (RFC 1952). */
final class Compression {
  /** How large a body is at least, in bytes, for which compression is worth while. */
  static final int FROM = 1 << 10;

  private Compression() {}

  static byte[] compressed(byte[] body) {
    ByteArrayOutputStream out = new ByteArrayOutputStream(body.length / 2 + 64);
    try (GZIPOutputStream gzip = new GZIPOutputStream(out)) {
      gzip.write(body);
    } catch (IOException e) {
      throw new UncheckedIOException(e); // into memory
    }
    return out.toByteArray();
  }

  /** Is what a body in gzip holds, at most one byte more than limit; null where it is not whole gzip. */
  static byte[] expanded(byte[] body, long limit) {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (GZIPInputStream gzip = new GZIPInputStream(new ByteArrayInputStream(body))) {
      byte[] buffer = new byte[8192];
      for (int n = gzip.read(buffer); n >= 0; n = gzip.read(buffer)) {
        out.write(buffer, 0, n);
        if (out.size() > limit) {
          return out.toByteArray();
        }
      }
    } catch (IOException e) {
      return null;
    }
    return isWhole(body) ? out.toByteArray() : null; // Java's own reader ignores what follows the last member
  }

  /** Tells whether a body is members of gzip and nothing else. */
  private static boolean isWhole(byte[] body) {
    int at = 0;
    while (at < body.length) {
      int header = headerLength(body, at);
      if (header < 0) {
        return false;
      }
      java.util.zip.Inflater inflater = new java.util.zip.Inflater(true);
      try {
        inflater.setInput(body, at + header, body.length - at - header);
        byte[] buffer = new byte[8192];
        while (!inflater.finished()) {
          if (inflater.inflate(buffer) == 0 && (inflater.needsInput() || inflater.needsDictionary())) {
            return false;
          }
        }
        at += header + (int) inflater.getBytesRead() + 8;
      } catch (java.util.zip.DataFormatException e) {
        return false;
      } finally {
        inflater.end();
      }
    }
    return at == body.length;
  }

  private static int headerLength(byte[] b, int at) {
    if (b.length - at < 18 || (b[at] & 0xff) != 0x1f || (b[at + 1] & 0xff) != 0x8b || b[at + 2] != 8) {
      return -1;
    }
    int flags = b[at + 3];
    int i = at + 10;
    if ((flags & 4) != 0) {
      i += 2 + (b[i] & 0xff) + ((b[i + 1] & 0xff) << 8);
    }
    for (int flag = 8; flag <= 16; flag *= 2) { // a name, a comment
      if ((flags & flag) != 0) {
        while (i < b.length && b[i] != 0) {
          i++;
        }
        i++;
      }
    }
    if ((flags & 2) != 0) {
      i += 2;
    }
    return i < b.length ? i - at : -1;
  }

  /** Tells the one content coding that is read. */
  static boolean isGzip(String coding) {
    String lower = coding.strip().toLowerCase(Locale.ROOT);
    return lower.equals("gzip") || lower.equals("x-gzip");
  }

  static boolean isPlain(String coding) {
    return coding == null || coding.isEmpty() || coding.strip().equalsIgnoreCase("identity");
  }

  /** Tells whether Accept-Encoding allows gzip (RFC 9110, section 12.5.3). */
  static boolean takesGzip(List<String> header) {
    double gzip = -1;
    double any = -1;
    for (String line : header) {
      for (String part : line.split(",", -1)) {
        String[] pieces = part.split(";", -1);
        double q = Media.parameterQ(pieces);
        if (isGzip(pieces[0])) {
          gzip = Math.max(gzip, q);
        } else if (pieces[0].strip().equals("*")) {
          any = Math.max(any, q);
        }
      }
    }
    return gzip > 0 || (gzip < 0 && any > 0);
  }
}
