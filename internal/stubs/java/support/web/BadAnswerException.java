package faithfulcourier.web;

/** Is a call whose answer could not be understood. */
public final class BadAnswerException extends CallException {
  private static final long serialVersionUID = 1L;

  private final int status;

  BadAnswerException(String call, int status, String detail, Throwable cause) {
    super(call, call + ": the answer with status " + status + " was not understood: " + detail, cause);
    this.status = status;
  }

  /** {@return the HTTP status of the answer} */
  public int status() {
    return status;
  }
}
