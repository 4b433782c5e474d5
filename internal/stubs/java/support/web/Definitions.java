package faithfulcourier.web;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/** Is what a server says of itself. */
public final class Definitions {
  /** The errors that every server may answer with. */
  static final List<Page> COMMON =
      List.of(
          new Page(
              "invalid-request",
              400,
              "The request could not be read, or violates its definition. The member errors lists every violation with a"
                  + " JSON Pointer."),
          new Page(
              "unauthenticated",
              401,
              "The call needs credentials that the request did not show, or that are not good; WWW-Authenticate names"
                  + " them."),
          new Page("forbidden", 403, "The credentials are good, and not enough for this."),
          new Page("unknown-call", 404, "No call has this path."),
          new Page("wrong-method", 405, "The path is right and the method is not; Allow names the right one."),
          new Page("not-acceptable", 406, "Accept names neither application/cbor nor application/json."),
          new Page("too-large", 413, "The request is larger than this server takes, or has more elements."),
          new Page("unsupported-form", 415, "The body is neither application/cbor nor application/json, or is encoded."),
          new Page(
              "range-not-satisfiable",
              416,
              "The range that was asked for is not a part of the body; Content-Range says how long that is."),
          new Page("internal", 500, "The server failed. Its log says why."),
          new Page("not-implemented", 501, "The call is defined, but this server does not implement it."),
          new Page("overloaded", 503, "The server has too much to do; Retry-After says when to try again."),
          new Page("too-slow", 503, "The call took longer than the client or the server allows."),
          new Page("unavailable", 503, "The server is shutting down; Retry-After says when to try again."));

  /** Documents one error. */
  record Page(String name, int status, String documentation) {}

  final String name;
  final String version;
  final String digest;
  final Map<String, String> modules;
  final List<Page> errors;
  final String manual;

  private Definitions(Builder b) {
    name = b.name;
    version = b.version;
    digest = b.digest;
    modules = b.modules;
    errors = List.copyOf(b.errors);
    manual = b.manual;
  }

  /**
   * Begins.
   *
   * @param name of the project
   * @param version of the definitions
   * @param digest of the definitions
   * @return a builder
   */
  public static Builder of(String name, String version, String digest) {
    return new Builder(name, version, digest);
  }

  /** {@return the digest of the definitions} */
  public String digest() {
    return digest;
  }

  /** Is the first line of an error's documentation, or its name. */
  String title(String error) {
    for (Page page : errors) {
      if (page.name.equals(error) && !page.documentation.isEmpty()) {
        return page.documentation.lines().findFirst().orElse("");
      }
    }
    return error.substring(error.lastIndexOf('.') + 1);
  }

  /** Makes what a server says of itself. */
  public static final class Builder {
    private final String name;
    private final String version;
    private final String digest;
    private final Map<String, String> modules = new LinkedHashMap<>();
    private final List<Page> errors = new ArrayList<>();
    private String manual = "";

    private Builder(String name, String version, String digest) {
      this.name = name;
      this.version = version;
      this.digest = digest;
    }

    /**
     * Adds a module.
     *
     * @param module its name
     * @param text its canonical text
     * @return this
     */
    public Builder module(String module, String text) {
      modules.put(module, text);
      return this;
    }

    /**
     * Adds an error.
     *
     * @param error its full name
     * @param status its HTTP status
     * @param documentation what it means
     * @return this
     */
    public Builder error(String error, int status, String documentation) {
      errors.add(new Page(error, status, documentation));
      return this;
    }

    /**
     * Sets the manual.
     *
     * @param packed pages by their paths, as JSON in gzip in base64url
     * @return this
     */
    public Builder manual(String packed) {
      manual = packed;
      return this;
    }

    /**
     * Ends.
     *
     * @return what a server says of itself
     */
    public Definitions build() {
      return new Definitions(this);
    }
  }
}
