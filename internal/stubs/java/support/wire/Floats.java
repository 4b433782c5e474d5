package faithfulcourier.wire;

import java.math.BigInteger;

/**
 * Writes floats as ECMAScript prints them: the shortest digits that are read as the same number. Java's own
 * Double.toString has more of them before version 19.
 */
final class Floats {
  private static final double[] POWERS = {
    1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15
  };
  private static final long LOW_63 = (1L << 63) - 1;

  private Floats() {}

  /** Writes a finite number. */
  static void write(JsonWriter w, double v) {
    if (v < 0 || (v == 0 && 1 / v < 0)) {
      w.raw('-');
    }
    double a = Math.abs(v);
    if (a == 0) {
      w.raw('0');
      return;
    }
    if (a < 9e15 && a == (long) a) {
      w.digits((long) a);
      return;
    }
    if (a >= 1e-6 && a < 1e9) { // of at most 15 digits, most of the time: then they are exact
      for (int k = 1; k <= 6; k++) {
        double scaled = a * POWERS[k];
        long digits = Math.round(scaled);
        if (digits < 1_000_000_000_000_000L && digits / POWERS[k] == a) {
          layOut(w, digits, -k);
          return;
        }
      }
    }
    shortest(w, a);
  }

  /**
   * Finds the shortest digits: the algorithm Schubfach (Raffaello Giulietti, "The Schubfach way to render doubles",
   * 2020), with its names.
   */
  private static void shortest(JsonWriter w, double v) {
    long bits = Double.doubleToRawLongBits(v);
    long fraction = bits & (1L << 52) - 1;
    int biased = (int) (bits >>> 52);
    long c = biased == 0 ? fraction : fraction | 1L << 52;
    int q = Math.max(biased, 1) - 1075;
    int out = (int) c & 1;
    long cb = c << 2;
    long cbr = cb + 2;
    long cbl;
    int k;
    if (c != 1L << 52 || biased <= 1) {
      cbl = cb - 2;
      k = (int) ((q * 661_971_961_083L) >> 41); // floor of the logarithm of 2^q to base 10
    } else {
      cbl = cb - 1;
      k = (int) ((q * 661_971_961_083L - 274_743_187_321L) >> 41); // the same of 3/4 of it
    }
    int h = q + log2OfTen(-k) + 2;
    long g1 = Tens.HIGH[k - Tens.LEAST];
    long g0 = Tens.LOW[k - Tens.LEAST];
    long vb = rop(g1, g0, cb << h);
    long vbl = rop(g1, g0, cbl << h);
    long vbr = rop(g1, g0, cbr << h);
    long s = vb >> 2;
    if (s >= 10) {
      long shorter = s / 10 * 10;
      long longer = shorter + 10;
      boolean down = vbl + out <= shorter << 2;
      boolean up = (longer << 2) + out <= vbr;
      if (down != up) {
        layOut(w, down ? shorter : longer, k);
        return;
      }
    }
    long t = s + 1;
    boolean down = vbl + out <= s << 2;
    boolean up = (t << 2) + out <= vbr;
    long nearer = vb - ((s + t) << 1);
    if (down != up) {
      layOut(w, down ? s : t, k);
    } else {
      layOut(w, nearer < 0 || (nearer == 0 && (s & 1) == 0) ? s : t, k);
    }
  }

  private static long rop(long g1, long g0, long cp) {
    long x1 = Math.multiplyHigh(g0, cp);
    long y0 = g1 * cp;
    long y1 = Math.multiplyHigh(g1, cp);
    long z = (y0 >>> 1) + x1;
    return y1 + (z >>> 63) | ((z & LOW_63) + LOW_63) >>> 63;
  }

  /** Are powers of ten, rounded up to 126 bits, in two halves each; made when the first is asked for. */
  private static final class Tens {
    private static final int LEAST = -324;
    private static final int MOST = 292;
    private static final long[] HIGH = new long[MOST - LEAST + 1];
    private static final long[] LOW = new long[MOST - LEAST + 1];

    static {
      for (int k = LEAST; k <= MOST; k++) {
        int shift = log2OfTen(-k) - 125;
        BigInteger n = BigInteger.TEN.pow(Math.max(-k, 0));
        BigInteger d = BigInteger.TEN.pow(Math.max(k, 0));
        BigInteger g = (shift >= 0 ? n.divide(d.shiftLeft(shift)) : n.shiftLeft(-shift).divide(d)).add(BigInteger.ONE);
        HIGH[k - LEAST] = g.shiftRight(63).longValue();
        LOW[k - LEAST] = g.and(BigInteger.valueOf(LOW_63)).longValue();
      }
    }

    private Tens() {}
  }

  /** Is the floor of the logarithm of a power of ten to base 2. */
  private static int log2OfTen(int power) {
    return (int) ((power * 913_124_641_741L) >> 38);
  }

  /** Writes digits times ten to a power as ECMAScript lays numbers out. */
  private static void layOut(JsonWriter w, long significant, int power) {
    long digits = significant;
    int k = power;
    while (digits % 10 == 0) {
      digits /= 10;
      k++;
    }
    String text = Long.toString(digits);
    int n = text.length() + k; // where the point is
    StringBuilder b = new StringBuilder(26);
    if (k >= 0 && n <= 21) {
      b.append(text).append("0".repeat(k));
    } else if (n > 0 && n <= 21) {
      b.append(text, 0, n).append('.').append(text, n, text.length());
    } else if (n > -6 && n <= 0) {
      b.append("0.").append("0".repeat(-n)).append(text);
    } else {
      b.append(text.charAt(0));
      if (text.length() > 1) {
        b.append('.').append(text, 1, text.length());
      }
      b.append('e').append(n > 0 ? '+' : '-').append(Math.abs(n - 1));
    }
    w.ascii(b);
  }
}
