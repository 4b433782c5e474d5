package faithfulcourier.wire;

/** Is an error that definitions declare. It has no stack: it is an answer, and no fault of the program. */
public abstract class DeclaredException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /**
   * Makes an error.
   *
   * @param message its name and what it means
   */
  protected DeclaredException(String message) {
    super(message, null, false, false);
  }

  /** {@return the full name of the error in the definitions} */
  public abstract String errorName();

  /** {@return the HTTP status that the definitions give the error} */
  public abstract int errorStatus();

  /** {@return its fields as CBOR} */
  public abstract byte[] toCbor();

  /** {@return its fields as JSON} */
  public abstract String toJson();
}
