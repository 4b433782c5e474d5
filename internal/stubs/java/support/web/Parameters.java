package faithfulcourier.web;

import faithfulcourier.wire.Codec;
import faithfulcourier.wire.JsonWriter;
import faithfulcourier.wire.Violation;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.function.BiConsumer;

/** Is what is put into path, query, headers and cookies. */
public final class Parameters {
  static final String NOT_PRINTABLE = "must be printable ASCII, without spaces at either end";
  static final String NOT_A_SEGMENT = "must not be empty, . or .., in a path";

  final Map<String, String> path = new HashMap<>();
  final List<String> query = new ArrayList<>();
  final Map<String, String> headers = new LinkedHashMap<>();
  final Map<String, String> cookies = new LinkedHashMap<>();
  final List<Violation> violations = new ArrayList<>();

  Parameters() {}

  /**
   * Adds a value.
   *
   * @param <T> its type
   * @param in "path", "query", "header" or "cookie"
   * @param name of the parameter
   * @param value the value
   * @param write writes it as JSON
   */
  public <T> void put(String in, String name, T value, BiConsumer<JsonWriter, T> write) {
    JsonWriter w = new JsonWriter();
    write.accept(w, value);
    put(in, name, plain(w.toString()));
  }

  /**
   * Adds a value.
   *
   * @param <T> its type
   * @param in "path", "query", "header" or "cookie"
   * @param name of the parameter
   * @param value the value
   * @param codec of its type
   */
  public <T> void put(String in, String name, T value, Codec<T> codec) {
    put(in, name, plain(codec.toJson(value)));
  }

  /** Is JSON without its quotes. */
  private static String plain(String json) {
    return json.startsWith("\"") ? (String) faithfulcourier.wire.Any.CODEC.fromJson(json).value() : json;
  }

  private void put(String in, String name, String text) {
    switch (in) {
      case "path" -> {
        if (text.isEmpty() || text.equals(".") || text.equals("..")) {
          violations.add(new Violation("/" + name, NOT_A_SEGMENT, "path"));
        }
        path.put(name, Escapes.uri(text));
      }
      case "query" -> query(name, text);
      case "header" -> {
        if (!Placed.isVerbatim(name)) {
          headers.put(name, Escapes.header(text));
        } else if (Escapes.isPrintable(text)) {
          headers.put(name, text);
        } else {
          violations.add(new Violation("", "the header \"" + name + "\" " + NOT_PRINTABLE, "header"));
        }
      }
      default -> cookies.put(name, Escapes.cookie(text));
    }
  }

  void query(String name, String text) {
    query.add(Escapes.uri(name) + "=" + Escapes.uri(text));
  }
}
