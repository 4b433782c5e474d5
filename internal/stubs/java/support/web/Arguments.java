package faithfulcourier.web;

import faithfulcourier.wire.Codec;
import faithfulcourier.wire.JsonReader;
import faithfulcourier.wire.JsonWriter;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.Violation;
import faithfulcourier.wire.Violations;
import java.util.ArrayList;
import java.util.List;
import java.util.function.Consumer;
import java.util.function.Function;

/** Is what is found in path, query, headers and cookies. */
public final class Arguments {
  /** How the JSON of a type relates to its text outside of a body. */
  public enum Shape {
    /** The text is JSON as it is. */
    BARE,
    /** It is JSON without its quotes. */
    QUOTED,
    /** The one where it looks like a number, and else the other. */
    BARE_NUMBER
  }

  private final List<Placed> placed;
  private final Function<Placed, List<String>> values;
  final List<Violation> violations = new ArrayList<>();

  Arguments(List<Placed> placed, Function<Placed, List<String>> values) {
    this.placed = placed;
    this.values = values;
  }

  /**
   * Reads the field of a parameter.
   *
   * @param <T> its type
   * @param index of the field among those that travel outside of the body
   * @param optional whether it may be absent
   * @param shape how its text relates to JSON
   * @param read reads its JSON
   * @param set is given the value, if there is one
   */
  public <T> void scalar(int index, boolean optional, Shape shape, Function<JsonReader, T> read, Consumer<T> set) {
    Placed p = placed.get(index);
    List<String> found = values.apply(p);
    if (found.isEmpty()) {
      if (!optional) {
        refuse(p, "is required");
      }
    } else if (found.size() > 1) {
      refuse(p, "comes more than once");
    } else {
      read(p, found.get(0), shape, read, set);
    }
  }

  /**
   * Reads each value of a parameter that is repeated.
   *
   * @param <T> the type of the items
   * @param index of the field among those that travel outside of the body
   * @param shape how the text of an item relates to JSON
   * @param read reads an item's JSON
   * @param set is given the list, which is empty where nothing came
   */
  public <T> void list(int index, Shape shape, Function<JsonReader, T> read, Consumer<List<T>> set) {
    List<T> list = new ArrayList<>();
    for (String value : values.apply(placed.get(index))) {
      read(placed.get(index), value, shape, read, list::add);
    }
    set.accept(list);
  }

  private <T> void read(Placed p, String value, Shape shape, Function<JsonReader, T> read, Consumer<T> set) {
    String text = value;
    if (p.in().equals("path") && (text.isEmpty() || text.equals(".") || text.equals(".."))) {
      refuse(p, Parameters.NOT_A_SEGMENT);
      return;
    } else if (p.isVerbatim() && !Escapes.isPrintable(text)) {
      refuse(p, Parameters.NOT_PRINTABLE);
      return;
    } else if (p.in().equals("cookie") || (p.in().equals("header") && !p.isVerbatim())) {
      text = Escapes.decoded(text, false);
      if (text == null) {
        refuse(p, "has a % that is not followed by two hexadecimal digits");
        return;
      }
    }
    boolean quoted = shape == Shape.QUOTED;
    if (shape == Shape.BARE_NUMBER) {
      int first = text.startsWith("-") ? 1 : 0;
      quoted = text.length() == first || text.charAt(first) < '0' || text.charAt(first) > '9';
    }
    if (!quoted && text.chars().anyMatch(c -> c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '"')) {
      refuse(p, "expected a value without blanks and quotes");
      return;
    }
    T result;
    try {
      String json = text;
      if (quoted) {
        JsonWriter w = new JsonWriter();
        w.text(text);
        json = w.toString();
      }
      result = new One<>(read).fromJson(json);
    } catch (PayloadException e) {
      refuse(p, e.detail());
      return;
    }
    set.accept(result);
  }

  /** Reads one value by a function. */
  private static final class One<T> extends Reading<T> {
    private final Function<JsonReader, T> read;

    One(Function<JsonReader, T> read) {
      this.read = read;
    }

    @Override
    protected T readJson(JsonReader r) {
      return read.apply(r);
    }
  }

  /** Is a codec that only reads JSON. */
  abstract static class Reading<T> extends Codec<T> {
    @Override
    protected void writeCbor(faithfulcourier.wire.CborWriter w, T value) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected T readCbor(faithfulcourier.wire.CborReader r) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected void writeJson(JsonWriter w, T value) {
      throw new UnsupportedOperationException();
    }

    @Override
    protected void violations(Violations v, T value) {}
  }

  private void refuse(Placed p, String detail) {
    violations.add(new Violation(pointer(p.name()), detail, p.in()));
  }

  static String pointer(String name) {
    return "/" + name.replace("~", "~0").replace("/", "~1");
  }

  /** Refuses fields that travel outside of the body and came in it too. */
  void rest(Iterable<faithfulcourier.wire.UnlistedField> unlisted) {
    for (Placed p : placed) {
      for (faithfulcourier.wire.UnlistedField u : unlisted) {
        if (u.number() == p.number() || (u.number() == 0 && u.name().equals(p.name()))) {
          refuse(p, "travels in the " + p.in() + ", and must not come in the body too");
        }
      }
    }
  }

  /** Says of each violation of a whole message where its field travels. */
  static List<Violation> located(List<Violation> list, List<Placed> placed) {
    List<Violation> located = new ArrayList<>(list.size());
    for (Violation v : list) {
      int end = v.pointer().indexOf('/', 1);
      String first = end < 0 ? v.pointer() : v.pointer().substring(0, end);
      Violation found = v;
      for (Placed p : placed) {
        if (pointer(p.name()).equals(first)) {
          found = v.in(p.in());
        }
      }
      located.add(found);
    }
    return located;
  }
}
