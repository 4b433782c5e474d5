package faithfulcourier.web;

/** Is thrown by an authorizer that does not know who calls. */
public final class UnauthenticatedException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /**
   * Makes an exception.
   *
   * @param detail what is the matter, for the caller
   */
  public UnauthenticatedException(String detail) {
    super(detail, null, false, false);
  }
}
