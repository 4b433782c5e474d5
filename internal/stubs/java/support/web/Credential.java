package faithfulcourier.web;

/**
 * Is what a caller may have to show.
 *
 * @param name its full name: module and credential
 * @param kind "header", "query" or "cookie" for a key, "bearer" or "basic"
 * @param key of a key: the name of the header, parameter or cookie
 */
public record Credential(String name, String kind, String key) {
  /** Tells whether a name, with or without its module, is the credential's. */
  boolean is(String other) {
    return name.equals(other) || (other.indexOf('.') < 0 && name.endsWith("." + other));
  }

  String shortName() {
    return name.substring(name.lastIndexOf('.') + 1);
  }
}
