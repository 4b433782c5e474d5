package faithfulcourier.web;

/**
 * Is a call whose answer is the one that the caller has already, by the entity-tag in the field of its request that
 * travels in If-None-Match. For middleware and tries it is a success.
 */
public final class NotModifiedException extends CallException {
  private static final long serialVersionUID = 1L;

  private final String tag;

  NotModifiedException(String call, String tag) {
    super(call, call + ": not modified since " + tag, null);
    this.tag = tag;
  }

  /** {@return the entity-tag of the answer, as in the field of it that travels in ETag} */
  public String tag() {
    return tag;
  }
}
