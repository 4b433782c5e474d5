package faithfulcourier.wire;

import java.math.BigInteger;
import java.util.ArrayList;
import java.util.Collections;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Objects;

/** Is a value of the scalar any. */
public final class Any {
  /** Reads and writes any value. */
  public static final Codec<Any> CODEC =
      new Codec<>() {
        @Override
        protected void writeCbor(CborWriter w, Any value) {
          w.any(value);
        }

        @Override
        protected Any readCbor(CborReader r) {
          return r.any();
        }

        @Override
        protected void writeJson(JsonWriter w, Any value) {
          w.any(value);
        }

        @Override
        protected Any readJson(JsonReader r) {
          return r.any();
        }

        @Override
        protected void violations(Violations v, Any value) {}
      };

  /** The value null. */
  public static final Any NULL = new Any(null);

  private final Object value;

  Any(Object value) {
    this.value = value;
  }

  /**
   * Makes an any.
   *
   * @param v null, a Boolean, any integer from -2⁶³ to 2⁶⁴−1, a finite float, a text, an any, or a list or a map with
   *     texts as keys of these
   * @return the any
   * @throws IllegalArgumentException if it can't contain the value
   */
  public static Any of(Object v) {
    if (v == null) {
      return NULL;
    } else if (v instanceof Any a) {
      return a;
    } else if (v instanceof Boolean || v instanceof String || v instanceof Long) {
      return new Any(v);
    } else if (v instanceof Integer || v instanceof Short || v instanceof Byte) {
      return new Any(((Number) v).longValue());
    } else if (v instanceof BigInteger n) {
      if (n.bitLength() > 64 || (n.signum() < 0 && n.bitLength() > 63)) {
        throw new IllegalArgumentException("an any can't contain " + n);
      }
      return n.bitLength() > 63 ? new Any(n) : new Any(n.longValue());
    } else if (v instanceof Double || v instanceof Float) {
      double x = ((Number) v).doubleValue();
      if (Double.isNaN(x) || Double.isInfinite(x)) {
        throw new IllegalArgumentException("an any can't contain " + x);
      }
      return new Any(x);
    } else if (v instanceof List<?> list) {
      List<Any> items = new ArrayList<>();
      list.forEach(item -> items.add(of(item)));
      return new Any(Collections.unmodifiableList(items));
    } else if (v instanceof Map<?, ?> map) {
      Map<String, Any> entries = new LinkedHashMap<>();
      map.forEach(
          (key, item) -> {
            if (!(key instanceof String text)) {
              throw new IllegalArgumentException("the keys of maps in an any are texts");
            }
            entries.put(text, of(item));
          });
      return new Any(Collections.unmodifiableMap(entries));
    }
    throw new IllegalArgumentException("an any can't contain a " + v.getClass().getName());
  }

  /**
   * Is a value of a field that may be absent: null is.
   *
   * @param v the value, or null
   * @return the value, or null where it is null
   */
  public static Any present(Any v) {
    return v == null || v.value == null ? null : v;
  }

  /** {@return whether it is null} */
  public boolean isNull() {
    return value == null;
  }

  /**
   * {@return null, a Boolean, a Long, a BigInteger beyond Long, a finite Double, a String, a list of any or a map of texts
   * to any}
   */
  public Object value() {
    return value;
  }

  /** {@return the items, if it is a list, else none} */
  public List<Any> items() {
    if (!(value instanceof List<?> list)) {
      return List.of();
    }
    List<Any> items = new ArrayList<>(list.size());
    list.forEach(item -> items.add((Any) item));
    return items;
  }

  /** {@return the entries, if it is a map, else none} */
  public Map<String, Any> entries() {
    if (!(value instanceof Map<?, ?> map)) {
      return Map.of();
    }
    Map<String, Any> entries = new LinkedHashMap<>();
    map.forEach((key, item) -> entries.put((String) key, (Any) item));
    return entries;
  }

  @Override
  public boolean equals(Object other) {
    if (!(other instanceof Any o)) {
      return false;
    }
    if (value instanceof Double a && o.value instanceof Double b) {
      return a.doubleValue() == b.doubleValue();
    }
    return Objects.equals(value, o.value);
  }

  @Override
  public int hashCode() {
    return value instanceof Double d && d == 0 ? 0 : Objects.hashCode(value);
  }

  @Override
  public String toString() {
    JsonWriter w = new JsonWriter();
    w.any(this);
    return w.toString();
  }
}
