package faithfulcourier.wire;

import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.HashSet;
import java.util.List;
import java.util.Objects;
import java.util.Set;

/** Are the fields of a message that its definitions do not list, in order: by number, then names as read. */
public final class UnlistedFields {
  private static final byte[] CBOR_NULL = {(byte) 0xf6};

  private final List<UnlistedField> list;
  private final int numbered;

  private UnlistedFields(List<UnlistedField> list) {
    this.list = list;
    int count = 0;
    for (UnlistedField f : list) {
      if (f.number() > 0) {
        count++;
      }
    }
    numbered = count;
  }

  /** Puts what was read in order, once, at the end: many fields must not cost more than their length. */
  static UnlistedFields settled(List<UnlistedField> read, int at) {
    if (read == null || read.isEmpty()) {
      return null;
    }
    List<UnlistedField> list = new ArrayList<>(read);
    list.sort((a, b) -> Integer.compare(rank(a), rank(b)));
    Set<String> names = new HashSet<>();
    for (int i = 0; i < list.size(); i++) {
      UnlistedField f = list.get(i);
      boolean twice = f.number() == 0 ? !names.add(f.name()) : i > 0 && list.get(i - 1).number() == f.number();
      if (twice) {
        throw new PayloadException("an unlisted field comes twice", at, false);
      }
    }
    return new UnlistedFields(list);
  }

  private static int rank(UnlistedField f) {
    return f.number() == 0 ? 1 << 16 : f.number();
  }

  /** {@return how many there are} */
  public int size() {
    return list.size();
  }

  int numbered() {
    return numbered;
  }

  /** {@return the fields, in order} */
  public List<UnlistedField> fields() {
    return Collections.unmodifiableList(list);
  }

  /** Puts fields among those of the message that begins at start, in the order of their numbers. */
  void mergeCbor(CborWriter w, int start) {
    byte[] written = Arrays.copyOfRange(w.data, start, w.at);
    CborReader r = new CborReader(written, Integer.MAX_VALUE);
    int known = r.mapHead() - numbered;
    w.at = start + r.at;
    int next = 0;
    for (; known > 0; known--) {
      int from = r.at;
      int number = r.fieldNumber();
      next = putBelow(w, next, number);
      r.skip();
      w.put(written, from, r.at - from);
    }
    putBelow(w, next, 1 << 16);
  }

  private int putBelow(CborWriter w, int next, int limit) {
    int i = next;
    for (; i < numbered && list.get(i).number() < limit; i++) {
      w.field(list.get(i).number());
      w.put(list.get(i).raw(), 0, list.get(i).raw().length);
    }
    return i;
  }

  /** Puts numbers among the members of the object that begins at start, and names after them. */
  void mergeJson(JsonWriter w, int start, Fields fields) {
    byte[] closed = Arrays.copyOf(Arrays.copyOfRange(w.data, start, w.at), Math.max(w.at - start, 1) + 1);
    closed[0] = '{'; // where the first comma is
    closed[closed.length - 1] = '}';
    JsonReader r = new JsonReader(closed, Integer.MAX_VALUE);
    w.at = start;
    int next = 0;
    r.beginObject("an object");
    while (r.nextMember()) {
      int index = r.indexIn(fields);
      int from = r.nameStart();
      next = numbersBelow(w, next, index < 0 ? 0 : fields.number(index));
      r.skip();
      w.put(new byte[] {','}, 0, 1);
      w.put(closed, from, r.at - from);
    }
    numbersBelow(w, next, 1 << 16);
    for (UnlistedField f : list) {
      if (f.number() == 0) {
        w.member(f.name());
        w.put(f.raw(), 0, f.raw().length);
      }
    }
  }

  private int numbersBelow(JsonWriter w, int next, int limit) {
    int i = next;
    for (; i < numbered && list.get(i).number() < limit; i++) {
      w.member("#" + list.get(i).number());
      w.bytes(list.get(i).raw());
    }
    return i;
  }

  /**
   * Is what a message has after a patch was applied: null takes a field away, all else takes its place.
   *
   * @param kept what the message has, or null
   * @param changes what the patch has, or null
   * @return what it has then, or null
   */
  public static UnlistedFields applied(UnlistedFields kept, UnlistedFields changes) {
    if (changes == null) {
      return kept;
    }
    List<UnlistedField> list = new ArrayList<>(kept == null ? List.of() : kept.list);
    for (UnlistedField c : changes.list) {
      int i = 0;
      while (i < list.size() && !list.get(i).sameField(c)) {
        i++;
      }
      if (i < list.size() && c.clears()) {
        list.remove(i);
      } else if (i < list.size()) {
        list.set(i, c);
      } else if (!c.clears()) {
        list.add(c);
      }
    }
    return settled(list, 0);
  }

  /**
   * Is what a patch has of fields that are not the same in two messages.
   *
   * @param a what the one has, or null
   * @param b what the other has, or null
   * @return the changes, or null
   */
  public static UnlistedFields between(UnlistedFields a, UnlistedFields b) {
    List<UnlistedField> before = a == null ? List.of() : a.list;
    List<UnlistedField> after = b == null ? List.of() : b.list;
    List<UnlistedField> changes = new ArrayList<>();
    for (UnlistedField f : before) {
      if (after.stream().noneMatch(f::sameField)) {
        byte[] gone = f.number() == 0 ? "null".getBytes(StandardCharsets.US_ASCII) : CBOR_NULL;
        changes.add(new UnlistedField(f.number(), f.name(), gone));
      }
    }
    for (UnlistedField f : after) {
      if (!before.contains(f)) {
        changes.add(f);
      }
    }
    return settled(changes, 0);
  }

  @Override
  public boolean equals(Object other) {
    return other instanceof UnlistedFields o
        && list.size() == o.list.size()
        && Objects.equals(list.subList(0, numbered), o.list.subList(0, o.numbered))
        && new HashSet<>(list).equals(new HashSet<>(o.list)); // names in any order, as in all of JSON
  }

  @Override
  public int hashCode() {
    return new HashSet<>(list).hashCode();
  }

  @Override
  public String toString() {
    return list.toString();
  }
}
