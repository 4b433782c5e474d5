package faithfulcourier.web;

import java.time.Duration;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.function.Consumer;

/** Changes how one call is made. */
public final class CallOptions {
  final Duration timeout; // null for the client's
  final Headers headers;
  final Map<String, String> credentials;
  final Consumer<Headers> answered;

  private CallOptions(Duration timeout, Headers headers, Map<String, String> credentials, Consumer<Headers> answered) {
    this.timeout = timeout;
    this.headers = headers;
    this.credentials = credentials;
    this.answered = answered;
  }

  /**
   * Is what changes nothing.
   *
   * @return the options
   */
  public static CallOptions none() {
    return new CallOptions(null, new Headers(), Map.of(), null);
  }

  /**
   * Limits the time of the call and of everything that it waits for.
   *
   * @param limit how long
   * @return options with it
   */
  public CallOptions timeout(Duration limit) {
    return new CallOptions(limit, headers, credentials, answered);
  }

  /**
   * Sets a header of the request.
   *
   * @param name of the header
   * @param value of the header
   * @return options with it
   */
  public CallOptions header(String name, String value) {
    Headers more = new Headers(headers);
    more.set(name, value);
    return new CallOptions(timeout, more, credentials, answered);
  }

  /**
   * Gives the call the value of a credential.
   *
   * @param name of the credential, with or without its module
   * @param value what is shown
   * @return options with it
   */
  public CallOptions credential(String name, String value) {
    Map<String, String> more = new LinkedHashMap<>(credentials);
    more.put(name, value);
    return new CallOptions(timeout, headers, more, answered);
  }

  /**
   * Has the headers of the answer told, once it begins; of a refusal, too.
   *
   * @param into is given the headers
   * @return options with it
   */
  public CallOptions answered(Consumer<Headers> into) {
    return new CallOptions(timeout, headers, credentials, into);
  }
}
