package faithfulcourier.web;

/** Is thrown by a call that is not written yet: it is answered with 501. */
public final class NotImplementedCallException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /** Makes an exception. */
  public NotImplementedCallException() {
    super("not implemented", null, false, false);
  }
}
