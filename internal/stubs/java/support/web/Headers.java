package faithfulcourier.web;

import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;

/** Are header fields (RFC 9110, section 5): names without case, each with one value or several. */
public final class Headers {
  private final Map<String, List<String>> fields = new TreeMap<>(String.CASE_INSENSITIVE_ORDER);

  /** Makes an empty set of fields. */
  public Headers() {}

  /**
   * Copies fields.
   *
   * @param other what is copied
   */
  public Headers(Headers other) {
    other.fields.forEach((name, values) -> fields.put(name, new ArrayList<>(values)));
  }

  /**
   * Sets a field to one value.
   *
   * @param name of the field
   * @param value of the field
   * @throws IllegalArgumentException if a name is not a token, or a value has controls in it, which no header can contain
   */
  public void set(String name, String value) {
    List<String> values = new ArrayList<>(1);
    values.add(checked(name, value));
    fields.put(name, values);
  }

  /**
   * Adds a value to a field.
   *
   * @param name of the field
   * @param value what is added
   * @throws IllegalArgumentException if a name is not a token, or a value has controls in it, which no header can contain
   */
  public void add(String name, String value) {
    fields.computeIfAbsent(name, n -> new ArrayList<>(1)).add(checked(name, value));
  }

  /** Adds a value as it came. */
  void came(String name, String value) {
    fields.computeIfAbsent(name, n -> new ArrayList<>(1)).add(value);
  }

  private static String checked(String name, String value) {
    if (name.isEmpty() || name.chars().anyMatch(c -> c <= ' ' || c >= 0x7f || "\"(),/:;<=>?@[\\]{}".indexOf(c) >= 0)) {
      throw new IllegalArgumentException("\"" + name + "\" is not the name of a header");
    }
    if (value.chars().anyMatch(c -> (c < ' ' && c != '\t') || c == 0x7f)) {
      throw new IllegalArgumentException("the value of the header \"" + name + "\" has control characters in it");
    }
    return value;
  }

  /**
   * Takes a field away.
   *
   * @param name of the field
   */
  public void remove(String name) {
    fields.remove(name);
  }

  /**
   * Is the first value of a field.
   *
   * @param name of the field
   * @return its value, or null where it is not there
   */
  public String first(String name) {
    List<String> values = fields.get(name);
    return values == null ? null : values.get(0);
  }

  /**
   * Are the values of a field.
   *
   * @param name of the field
   * @return its values, none where it is not there
   */
  public List<String> all(String name) {
    return Collections.unmodifiableList(fields.getOrDefault(name, List.of()));
  }

  /** {@return all fields by name} */
  public Map<String, List<String>> map() {
    return Collections.unmodifiableMap(fields);
  }
}
