package faithfulcourier.wire;

import java.math.BigDecimal;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.BiConsumer;
import java.util.regex.Pattern;

/** Collects what is wrong with a message, each with its place. */
public final class Violations {
  private final List<Violation> found = new ArrayList<>();
  private String path = "";

  /** Makes an empty collection. */
  public Violations() {}

  /** {@return what was found, in the order of the fields} */
  public List<Violation> found() {
    return List.copyOf(found);
  }

  /** Throws an {@link InvalidRequestException} if anything was found. */
  public void orThrow() {
    if (!found.isEmpty()) {
      throw new InvalidRequestException(found);
    }
  }

  /**
   * Adds a violation.
   *
   * @param step from here to the value, such as "/seats"
   * @param detail what is wrong with it
   */
  public void refuse(String step, String detail) {
    found.add(new Violation(path + step, detail));
  }

  /**
   * Adds the violation of a member or alternative that is not listed.
   *
   * @param step from here to the value
   * @param listed the names of those that are
   */
  public void refuseUnlisted(String step, String listed) {
    found.add(new Violation(path + step, "must be one of " + listed, "", true));
  }

  /**
   * Looks into a value.
   *
   * @param <T> its type
   * @param step from here to the value
   * @param codec of its type
   * @param value may be null, which is fine
   */
  public <T> void value(String step, Codec<T> codec, T value) {
    if (value != null) {
      inside(step, value, (v, inner) -> codec.violations(v, inner));
    }
  }

  /**
   * Looks into a value.
   *
   * @param <T> its type
   * @param step from here to the value
   * @param value may be null, which is fine
   * @param look adds what is wrong with it
   */
  public <T> void inside(String step, T value, BiConsumer<Violations, T> look) {
    if (value == null) {
      return;
    }
    String before = path;
    path = before + step;
    look.accept(this, value);
    path = before;
  }

  /**
   * Looks into the items of a list.
   *
   * @param <T> the type of the items
   * @param step from here to the list
   * @param list may be null, which is fine
   * @param look adds what is wrong with an item
   */
  public <T> void list(String step, List<T> list, BiConsumer<Violations, T> look) {
    if (list == null) {
      return;
    }
    String before = path;
    for (int i = 0; i < list.size(); i++) {
      path = before + step + "/" + i;
      look.accept(this, list.get(i));
    }
    path = before;
  }

  /**
   * Looks into the entries of a map, in the order in which they are written.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param step from here to the map
   * @param key how keys are written
   * @param map may be null, which is fine
   * @param lookAtKey adds what is wrong with a key, or null
   * @param lookAtValue adds what is wrong with a value, or null
   */
  public <K, V> void map(
      String step,
      Key<K> key,
      Map<K, V> map,
      BiConsumer<Violations, K> lookAtKey,
      BiConsumer<Violations, V> lookAtValue) {
    if (map == null) {
      return;
    }
    String before = path;
    for (K each : key.sorted(map)) {
      path = before + step + "/" + escaped(key.text(each));
      if (lookAtKey != null) {
        lookAtKey.accept(this, each);
      }
      if (lookAtValue != null) {
        lookAtValue.accept(this, map.get(each));
      }
    }
    path = before;
  }

  /**
   * Adds a violation for each item of a list that is equal to one before it.
   *
   * @param <T> the type of the items
   * @param step from here to the list
   * @param list to look at
   * @param write writes an item as JSON, by which items are compared
   */
  public <T> void unique(String step, List<T> list, BiConsumer<JsonWriter, T> write) {
    Map<String, Integer> first = new HashMap<>();
    for (int i = 0; i < list.size(); i++) {
      JsonWriter w = JsonWriter.comparing();
      write.accept(w, list.get(i));
      Integer before = first.putIfAbsent(w.toString(), i);
      if (before != null) {
        refuse(step + "/" + i, "must be unique, and is equal to element " + before);
      }
    }
  }

  /**
   * Tells whether a text matches a pattern.
   *
   * @param pattern of the definitions
   * @param text to look at
   * @return whether it is found in the text
   */
  public static boolean matches(Pattern pattern, String text) {
    return Patterns.matches(pattern, text);
  }

  /**
   * Counts the characters of a text as definitions do: in code points.
   *
   * @param text to look at
   * @return how many there are
   */
  public static int characters(String text) {
    return text.codePointCount(0, text.length());
  }

  /**
   * Is a float as JSON has it, for people.
   *
   * @param v the value
   * @return its text
   */
  public static String shown(double v) {
    JsonWriter w = new JsonWriter();
    w.float64(v);
    return unquoted(w);
  }

  /**
   * Is a decimal, as JSON has it, for people.
   *
   * @param v the value
   * @return its text
   */
  public static String shown(BigDecimal v) {
    return v.toPlainString();
  }

  /**
   * Is an instant as JSON has it, for people.
   *
   * @param v the value
   * @return its text
   */
  public static String shown(Instant v) {
    JsonWriter w = new JsonWriter();
    w.instant(v);
    return unquoted(w);
  }

  /**
   * Is a date as JSON has it, for people.
   *
   * @param v the value
   * @return its text
   */
  public static String shown(LocalDate v) {
    return v.toString();
  }

  /**
   * Is a duration as JSON has it, for people.
   *
   * @param v the value
   * @return its text
   */
  public static String shown(Duration v) {
    return Texts.text(v);
  }

  private static String unquoted(JsonWriter w) {
    return w.toString().replace("\"", "");
  }

  static String escaped(String step) {
    return step.indexOf('~') < 0 && step.indexOf('/') < 0 ? step : step.replace("~", "~0").replace("/", "~1");
  }
}
