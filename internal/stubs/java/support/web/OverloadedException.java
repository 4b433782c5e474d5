package faithfulcourier.web;

import java.time.Duration;

/** Is thrown by a handler or middleware that has too much to do: it is answered with 503, and when to try again. */
public final class OverloadedException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final Duration retryAfter;

  /**
   * Makes an exception.
   *
   * @param retryAfter when to try again
   */
  public OverloadedException(Duration retryAfter) {
    super("the server has too much to do", null, false, false);
    this.retryAfter = retryAfter;
  }

  long seconds() {
    return Math.max(0, retryAfter.plusNanos(999_999_999).toSeconds());
  }
}
