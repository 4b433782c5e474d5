package faithfulcourier.web;

/** Is thrown by an authorizer or a handler that knows who calls, and says no. */
public final class ForbiddenException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /**
   * Makes an exception.
   *
   * @param detail what is the matter, for the caller
   */
  public ForbiddenException(String detail) {
    super(detail, null, false, false);
  }
}
