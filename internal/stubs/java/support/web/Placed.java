package faithfulcourier.web;

import java.util.Locale;
import java.util.Set;

/**
 * Is a field of a request or an answer that travels outside of the body.
 *
 * @param number of the field
 * @param name of the field in JSON
 * @param in "path", "query", "header" or "cookie"
 * @param parameter how it is called there
 */
public record Placed(int number, String name, String in, String parameter) {
  private static final Set<String> VERBATIM =
      Set.of(
          "accept-language", "if-match", "if-none-match", "cache-control", "content-disposition", "content-language",
          "etag", "last-modified", "link", "location");

  /** Tells fields in headers that HTTP has a meaning for: they are sent as they are. */
  boolean isVerbatim() {
    return in.equals("header") && isVerbatim(parameter);
  }

  static boolean isVerbatim(String header) {
    return VERBATIM.contains(header.toLowerCase(Locale.ROOT));
  }
}
