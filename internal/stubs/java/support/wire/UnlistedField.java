package faithfulcourier.wire;

import java.util.Arrays;

/**
 * Is a field or alternative that the definitions do not list: a number with its CBOR, or a name with its JSON. It is
 * preserved, and written again as it was read.
 */
public final class UnlistedField {
  private final int number;
  private final String name;
  private final byte[] raw;

  UnlistedField(int number, String name, byte[] raw) {
    this.number = number;
    this.name = name;
    this.raw = raw;
  }

  /** {@return its number, or 0 where only its name is known} */
  public int number() {
    return number;
  }

  /** {@return its name in JSON, or an empty text where only its number is known} */
  public String name() {
    return name;
  }

  byte[] raw() {
    return raw;
  }

  boolean sameField(UnlistedField other) {
    return number == other.number && name.equals(other.name);
  }

  /** Tells whether a patch clears it. */
  boolean clears() {
    return number == 0 ? raw.length == 4 && raw[0] == 'n' : raw.length == 1 && raw[0] == (byte) 0xf6;
  }

  @Override
  public boolean equals(Object other) {
    return other instanceof UnlistedField o && sameField(o) && Arrays.equals(raw, o.raw);
  }

  @Override
  public int hashCode() {
    return (number * 31 + name.hashCode()) * 31 + Arrays.hashCode(raw);
  }

  @Override
  public String toString() {
    return number == 0 ? name : "#" + number;
  }
}
