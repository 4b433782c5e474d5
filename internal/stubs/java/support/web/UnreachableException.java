package faithfulcourier.web;

/** Is a call that got no answer. */
public final class UnreachableException extends CallException {
  private static final long serialVersionUID = 1L;

  /** Tells why there is no answer. */
  public enum Reason {
    /** There was no connection. */
    REFUSED("refused"),
    /** The connection broke. */
    LOST("lost"),
    /** It took too long. */
    TIMED_OUT("timed out"),
    /** The caller gave it up. */
    CANCELLED("cancelled");

    private final String text;

    Reason(String text) {
      this.text = text;
    }

    @Override
    public String toString() {
      return text;
    }
  }

  private final Reason reason;

  UnreachableException(String call, Reason reason, String detail, Throwable cause) {
    super(call, call + ": no answer, " + reason + (detail.isEmpty() ? "" : ": " + detail), cause);
    this.reason = reason;
  }

  /** {@return why there is no answer} */
  public Reason reason() {
    return reason;
  }
}
