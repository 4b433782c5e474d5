package faithfulcourier.wire;

/** Says why a payload could not be read, or a value not be written. */
public final class PayloadException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final String detail;
  private final int offset;
  private final boolean tooLarge;
  private transient String path = "";

  PayloadException(String detail, int offset, boolean tooLarge) {
    super(detail);
    this.detail = detail;
    this.offset = offset;
    this.tooLarge = tooLarge;
  }

  /** {@return where it is in the payload (RFC 6901), or an empty text for all of it} */
  public String path() {
    return path == null ? "" : path;
  }

  /** {@return what is wrong there} */
  public String detail() {
    return detail;
  }

  /** {@return how many bytes lie before it, or -1 where something was being written} */
  public int offset() {
    return offset;
  }

  /** {@return whether the payload contains more than readers take} */
  public boolean isTooLarge() {
    return tooLarge;
  }

  @Override
  public String getMessage() {
    String where = path().isEmpty() ? "payload" : path();
    return offset < 0 ? where + ": " + detail : where + ": " + detail + " (byte " + offset + ")";
  }

  /**
   * Adds a step to the path, on the way up.
   *
   * @param step the name of a field, the index of an item or the key of an entry
   * @return this
   */
  public PayloadException inside(String step) {
    path = "/" + Violations.escaped(step) + path();
    return this;
  }

  /**
   * Adds the name of a field to the path, on the way up.
   *
   * @param fields those of the message
   * @param number of the field; one below 1 adds nothing
   * @return this
   */
  public PayloadException inside(Fields fields, int number) {
    if (number < 1) {
      return this;
    }
    int index = fields.indexOf(number);
    return inside(index < 0 ? "#" + number : fields.name(index));
  }

  /**
   * Adds the name of a field to the path, on the way up.
   *
   * @param fields those of the message
   * @param index of the field among them; one below 0 adds nothing
   * @return this
   */
  public PayloadException insideIndex(Fields fields, int index) {
    return index < 0 ? this : inside(fields.name(index));
  }

  PayloadException at(String place) {
    path = place;
    return this;
  }

  PayloadException moved(int to) {
    return new PayloadException(detail, to, tooLarge).at(path());
  }

  /**
   * Is how payloads are refused that contain more than readers take.
   *
   * @param detail what is too large
   * @return the exception, to be thrown
   */
  public static PayloadException tooLarge(String detail) {
    return new PayloadException(detail, 0, true);
  }

  /**
   * Is how values of one type are refused while they are written.
   *
   * @param detail what is wrong
   * @return the exception, to be thrown
   */
  public static PayloadException writing(String detail) {
    return new PayloadException(detail, -1, false);
  }
}
