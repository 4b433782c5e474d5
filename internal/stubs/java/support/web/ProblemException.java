package faithfulcourier.web;

import faithfulcourier.wire.Violation;
import java.util.List;

/**
 * Is an error that the call does not declare, as problem details (RFC 9457). Where an answer had none, as those of
 * proxies, the detail is how its body begins.
 */
public final class ProblemException extends CallException {
  private static final long serialVersionUID = 1L;

  private final transient Problem problem;

  ProblemException(String call, Problem problem) {
    super(call, call + ": " + problem.text(), null);
    this.problem = problem;
  }

  /** {@return a URI that tells which problem it is} */
  public String type() {
    return problem.type();
  }

  /** {@return what follows "/-/errors/" in the type, such as "invalid-request", or all of it} */
  public String problem() {
    return problem.name();
  }

  /** {@return what is always the same about it} */
  public String title() {
    return problem.title();
  }

  /** {@return the HTTP status} */
  public int status() {
    return problem.status();
  }

  /** {@return what is the matter this time, or an empty text} */
  public String detail() {
    return problem.detail();
  }

  /** {@return a URI of this occurrence, or an empty text} */
  public String instance() {
    return problem.instance();
  }

  /** {@return what is wrong with a request that was refused} */
  public List<Violation> violations() {
    return problem.violations();
  }
}
