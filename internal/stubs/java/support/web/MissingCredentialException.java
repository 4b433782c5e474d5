package faithfulcourier.web;

import java.util.Collection;

/** Is a call for which the client lacks credentials: nothing was sent. */
public final class MissingCredentialException extends CallException {
  private static final long serialVersionUID = 1L;

  private final String needs;

  MissingCredentialException(String call, String needs, Collection<String> given) {
    super(
        call,
        call + " needs " + needs + "; the credentials that the client was given: "
            + (given.isEmpty() ? "none" : "\"" + String.join("\", \"", given) + "\""),
        null);
    this.needs = needs;
  }

  /** {@return which credentials the call needs, such as "crew | door"} */
  public String needs() {
    return needs;
  }
}
