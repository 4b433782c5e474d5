package faithfulcourier.web;

/** Is what a call failed with, save with an error that it declares. */
public abstract class CallException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final String call;

  /**
   * Makes an exception.
   *
   * @param call the full name of the call
   * @param message what is wrong
   * @param cause why, or null
   */
  protected CallException(String call, String message, Throwable cause) {
    super(message, cause);
    this.call = call;
  }

  /** {@return the full name of the call} */
  public String call() {
    return call;
  }
}
