package faithfulcourier.web;

import faithfulcourier.wire.Violation;
import java.time.Duration;
import java.util.List;

/**
 * Refuses a request for a reason of the handler's or middleware's own: violations that only it can find, or any problem
 * (RFC 9457) with a status of 4xx or 5xx, such as 429. Its texts are for the caller, who gets them as a
 * <code>ProblemException</code>.
 */
public final class RefusalException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final transient Problem problem;
  private final transient Duration retryAfter;

  private RefusalException(Problem problem, Duration retryAfter) {
    super(problem.text(), null, false, false);
    this.problem = problem;
    this.retryAfter = retryAfter;
  }

  /**
   * Refuses a request as the definitions do: with 400.
   *
   * @param violations what is wrong
   * @return the exception, to be thrown
   */
  public static RefusalException of(List<Violation> violations) {
    return new RefusalException(Problem.of("", "", 400, "").with(List.copyOf(violations)), null);
  }

  /**
   * Refuses a request as the definitions do: with 400.
   *
   * @param violations what is wrong
   * @return the exception, to be thrown
   */
  public static RefusalException of(Violation... violations) {
    return of(List.of(violations));
  }

  /**
   * Refuses a request with a status.
   *
   * @param status 400 to 599
   * @param detail what is the matter this time, or an empty text
   * @return the exception, to be thrown
   */
  public static RefusalException of(int status, String detail) {
    return new RefusalException(Problem.of("", "", status, detail), null);
  }

  /**
   * Says which problem it is.
   *
   * @param type a URI
   * @param title what is always the same about it
   * @return the exception, to be thrown
   */
  public RefusalException type(String type, String title) {
    Problem p = problem;
    return new RefusalException(
        new Problem(type, title, p.status(), p.detail(), p.instance(), p.violations(), null), retryAfter);
  }

  /**
   * Says which occurrence it is.
   *
   * @param uri of this occurrence
   * @return the exception, to be thrown
   */
  public RefusalException instance(String uri) {
    Problem p = problem;
    return new RefusalException(
        new Problem(p.type(), p.title(), p.status(), p.detail(), uri, p.violations(), null), retryAfter);
  }

  /**
   * Says when to try again.
   *
   * @param pause after how long
   * @return the exception, to be thrown
   */
  public RefusalException retryAfter(Duration pause) {
    return new RefusalException(problem, pause);
  }

  Problem problem() {
    return problem;
  }

  Duration pause() {
    return retryAfter;
  }
}
