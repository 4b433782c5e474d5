package faithfulcourier.wire;

import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.Collections;
import java.util.Iterator;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Objects;
import java.util.function.UnaryOperator;

/** Compares and copies values by what they mean: decimals by number, floats with one NaN and one zero, bytes by content. */
public final class Values {
  private Values() {}

  /**
   * Compares two floats.
   *
   * @param a one
   * @param b the other
   * @return whether they are the same number, or both are none
   */
  public static boolean same(double a, double b) {
    return a == b || (Double.isNaN(a) && Double.isNaN(b));
  }

  /**
   * Compares two values, which may be null.
   *
   * @param a one
   * @param b the other
   * @return whether they are the same
   */
  public static boolean same(Object a, Object b) {
    if (a == b) {
      return true;
    } else if (a instanceof BigDecimal x && b instanceof BigDecimal y) {
      return x.compareTo(y) == 0;
    } else if (a instanceof Double x && b instanceof Double y) {
      return same(x.doubleValue(), y.doubleValue());
    } else if (a instanceof Float x && b instanceof Float y) {
      return same(x.doubleValue(), y.doubleValue());
    } else if (a instanceof byte[] x && b instanceof byte[] y) {
      return Arrays.equals(x, y);
    } else if (a instanceof List<?> x && b instanceof List<?> y) {
      return sameLists(x, y);
    } else if (a instanceof Map<?, ?> x && b instanceof Map<?, ?> y) {
      return sameMaps(x, y);
    }
    return Objects.equals(a, b);
  }

  private static boolean sameLists(List<?> a, List<?> b) {
    if (a.size() != b.size()) {
      return false;
    }
    Iterator<?> others = b.iterator();
    for (Object item : a) {
      if (!same(item, others.next())) {
        return false;
      }
    }
    return true;
  }

  private static boolean sameMaps(Map<?, ?> a, Map<?, ?> b) {
    if (a.size() != b.size()) {
      return false;
    }
    for (Map.Entry<?, ?> entry : a.entrySet()) {
      Object other = b.get(entry.getKey());
      if (other == null || !same(entry.getValue(), other)) {
        return false;
      }
    }
    return true;
  }

  /**
   * Hashes a value, so that those that are the same have the same hash.
   *
   * @param v the value, or null
   * @return its hash
   */
  public static int hash(Object v) {
    if (v instanceof BigDecimal d) {
      return d.signum() == 0 ? 0 : d.stripTrailingZeros().hashCode();
    } else if (v instanceof Double d) {
      return d == 0 ? 0 : d.hashCode();
    } else if (v instanceof Float f) {
      return f == 0 ? 0 : f.hashCode();
    } else if (v instanceof byte[] b) {
      return Arrays.hashCode(b);
    } else if (v instanceof Collection<?> list) {
      int hash = 1;
      for (Object item : list) {
        hash = hash * 31 + hash(item);
      }
      return hash;
    } else if (v instanceof Map<?, ?> map) {
      int hash = 0;
      for (Map.Entry<?, ?> entry : map.entrySet()) {
        hash += hash(entry.getKey()) ^ hash(entry.getValue());
      }
      return hash;
    }
    return Objects.hashCode(v);
  }

  /**
   * Hashes several values.
   *
   * @param values each of them, or null
   * @return their hash
   */
  public static int hashAll(Object... values) {
    int hash = 1;
    for (Object v : values) {
      hash = hash * 31 + hash(v);
    }
    return hash;
  }

  /**
   * Copies bytes.
   *
   * @param v the bytes, or null
   * @return a copy
   */
  public static byte[] copy(byte[] v) {
    return v == null ? null : v.clone();
  }

  /**
   * Copies a list into one that nobody can change.
   *
   * @param <T> the type of the items
   * @param list what is copied, or null
   * @return the copy
   * @throws NullPointerException if an item is null
   */
  public static <T> List<T> copy(List<T> list) {
    return list == null ? null : List.copyOf(list);
  }

  /**
   * Copies a list, and what is in it, into one that nobody can change.
   *
   * @param <T> the type of the items
   * @param list what is copied, or null
   * @param each copies an item
   * @return the copy
   * @throws NullPointerException if an item is null
   */
  public static <T> List<T> copy(List<T> list, UnaryOperator<T> each) {
    if (list == null) {
      return null;
    }
    List<T> copied = new ArrayList<>(list.size());
    for (T item : list) {
      copied.add(each.apply(Objects.requireNonNull(item, "an element is null")));
    }
    return Collections.unmodifiableList(copied);
  }

  /**
   * Copies a map into one that nobody can change, in the same order.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param map what is copied, or null
   * @return the copy
   * @throws NullPointerException if a key or value is null
   */
  public static <K, V> Map<K, V> copy(Map<K, V> map) {
    return copy(map, UnaryOperator.identity());
  }

  /**
   * Copies a map, and its values, into one that nobody can change, in the same order.
   *
   * @param <K> the type of the keys
   * @param <V> the type of the values
   * @param map what is copied, or null
   * @param each copies a value
   * @return the copy
   * @throws NullPointerException if a key or value is null
   */
  public static <K, V> Map<K, V> copy(Map<K, V> map, UnaryOperator<V> each) {
    if (map == null) {
      return null;
    }
    Map<K, V> copied = new LinkedHashMap<>();
    map.forEach(
        (key, value) ->
            copied.put(
                Objects.requireNonNull(key, "a key is null"),
                each.apply(Objects.requireNonNull(value, "a value is null"))));
    return Collections.unmodifiableMap(copied);
  }
}
