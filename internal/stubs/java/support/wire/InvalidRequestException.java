package faithfulcourier.wire;

import java.util.List;
import java.util.stream.Collectors;

/** Lists every violation of a message that violates its definitions. */
public final class InvalidRequestException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final transient List<Violation> violations;

  /**
   * Makes the exception.
   *
   * @param violations all that is wrong
   */
  public InvalidRequestException(List<Violation> violations) {
    super(
        violations.stream()
            .map(v -> (v.pointer() + " " + v.detail()).strip())
            .collect(Collectors.joining("; ")));
    this.violations = List.copyOf(violations);
  }

  /** {@return all that is wrong} */
  public List<Violation> violations() {
    return violations == null ? List.of() : violations;
  }
}
