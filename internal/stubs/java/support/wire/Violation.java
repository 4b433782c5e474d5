package faithfulcourier.wire;

import java.util.Objects;

/**
 * One way in which a request violates its definitions.
 *
 * @param pointer which field it is (RFC 6901), with names as JSON has them
 * @param detail a sentence for people
 * @param in "path", "query", "header" or "cookie", or an empty text for the body
 * @param unlisted whether it is a member or alternative that is not listed
 */
public record Violation(String pointer, String detail, String in, boolean unlisted) {
  /**
   * Makes a violation.
   *
   * @param pointer which field it is
   * @param detail a sentence for people
   * @param in where the field travels
   * @param unlisted whether it is a member or alternative that is not listed
   */
  public Violation {
    Objects.requireNonNull(pointer, "pointer");
    Objects.requireNonNull(detail, "detail");
    Objects.requireNonNull(in, "in");
  }

  /**
   * Makes a violation of a field in the body.
   *
   * @param pointer which field it is
   * @param detail a sentence for people
   */
  public Violation(String pointer, String detail) {
    this(pointer, detail, "", false);
  }

  /**
   * Makes a violation.
   *
   * @param pointer which field it is
   * @param detail a sentence for people
   * @param in where the field travels
   */
  public Violation(String pointer, String detail, String in) {
    this(pointer, detail, in, false);
  }

  /**
   * Is the violation of a field that travels elsewhere.
   *
   * @param place where it travels
   * @return the violation
   */
  public Violation in(String place) {
    return new Violation(pointer, detail, place, unlisted);
  }
}
