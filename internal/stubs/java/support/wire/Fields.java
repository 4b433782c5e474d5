package faithfulcourier.wire;

import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/** Is what readers and writers know of a message's fields: their numbers and their names in JSON. */
public final class Fields {
  private final String message;
  private final int[] numbers;
  private final String[] names;
  private final byte[][] heads; // each name as a member of an object begins: ,"name":
  private final byte[][] quoted; // "name" with its quotes
  private final byte[] slots; // open addressing by hash; a field's index plus 1
  private final int[] wide; // the same where there are more than fit in a byte

  /**
   * Makes the table of a message.
   *
   * @param message its name, for errors
   * @param numbers of the fields, ascending
   * @param names of the fields in JSON, in the same order
   */
  public Fields(String message, int[] numbers, String... names) {
    this.message = message;
    this.numbers = numbers.clone();
    this.names = names.clone();
    heads = new byte[names.length][];
    quoted = new byte[names.length][];
    int size = Integer.highestOneBit(Math.max(1, names.length) * 4 - 1) * 2;
    boolean small = names.length < 127;
    slots = new byte[small ? size : 0];
    wide = new int[small ? 0 : size];
    for (int i = 0; i < names.length; i++) {
      JsonWriter w = new JsonWriter();
      w.text(names[i]);
      quoted[i] = w.toBytes();
      byte[] head = new byte[quoted[i].length + 2];
      head[0] = ',';
      System.arraycopy(quoted[i], 0, head, 1, quoted[i].length);
      head[head.length - 1] = ':';
      heads[i] = head;
      byte[] name = names[i].getBytes(StandardCharsets.UTF_8);
      int slot = hash(name, 0, name.length) & (size - 1);
      while (slot(slot) != 0) {
        slot = (slot + 1) & (size - 1);
      }
      if (small) {
        slots[slot] = (byte) (i + 1);
      } else {
        wide[slot] = i + 1;
      }
    }
  }

  String message() {
    return message;
  }

  int size() {
    return numbers.length;
  }

  int number(int index) {
    return numbers[index];
  }

  String name(int index) {
    return names[index];
  }

  byte[] head(int index) {
    return heads[index];
  }

  byte[] quoted(int index) {
    return quoted[index];
  }

  /** Is the place of a number among the fields, or below 0. */
  int indexOf(int number) {
    return Arrays.binarySearch(numbers, number);
  }

  /** Is the place of a name among the fields, or -1. */
  int indexOf(byte[] data, int from, int to) {
    int size = slots.length + wide.length;
    for (int slot = hash(data, from, to) & (size - 1); slot(slot) != 0; slot = (slot + 1) & (size - 1)) {
      byte[] name = quoted[slot(slot) - 1];
      if ((Arrays.equals(name, 1, name.length - 1, data, from, to) && !escapes(slot(slot) - 1))
          || (escapes(slot(slot) - 1)
              && names[slot(slot) - 1].equals(new String(data, from, to - from, StandardCharsets.UTF_8)))) {
        return slot(slot) - 1;
      }
    }
    return -1;
  }

  /** Tells whether a name is written with escapes in JSON. */
  private boolean escapes(int index) {
    byte[] name = quoted[index];
    for (int i = 1; i < name.length - 1; i++) {
      if (name[i] == '\\') {
        return true;
      }
    }
    return false;
  }

  private int slot(int slot) {
    return slots.length > 0 ? slots[slot] : wide[slot];
  }

  private static int hash(byte[] data, int from, int to) {
    int hash = to - from;
    for (int i = from; i < to; i++) {
      hash = hash * 31 + data[i];
    }
    return hash ^ hash >>> 15;
  }
}
