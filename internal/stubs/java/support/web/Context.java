package faithfulcourier.web;

import java.util.Map;
import java.util.Optional;
import java.util.concurrent.CancellationException;
import java.util.concurrent.ConcurrentHashMap;

/** Is what a handler, an authorizer and middleware know of a call beside its request. */
public final class Context {
  private final Call<?, ?, ?> call;
  private final Headers headers;
  private final Headers answerHeaders;
  private final String peer;
  private final Map<Class<?>, Object> values = new ConcurrentHashMap<>();
  private volatile boolean cancelled;
  volatile Object request;
  volatile Object answer;

  Context(Call<?, ?, ?> call, Headers headers, Headers answerHeaders, String peer) {
    this.call = call;
    this.headers = headers;
    this.answerHeaders = answerHeaders;
    this.peer = peer;
  }

  /** {@return the call; none for "/-/about", "/-/definitions" and "/-/manual"} */
  public Optional<Call<?, ?, ?>> call() {
    return Optional.ofNullable(call);
  }

  /** {@return the headers of the request, not to be changed} */
  public Headers headers() {
    return headers;
  }

  /** {@return the headers of the answer, to add to until it begins} */
  public Headers answerHeaders() {
    return answerHeaders;
  }

  /** {@return the address of who calls} */
  public String peer() {
    return peer;
  }

  /** {@return the request, or the head of a stream, once it was read, if there is one} */
  public Optional<Object> request() {
    return Optional.ofNullable(request);
  }

  /** {@return the answer, once the handler has returned it, if there is one} */
  public Optional<Object> answer() {
    return Optional.ofNullable(answer);
  }

  /**
   * Keeps something for those that come later, such as who calls.
   *
   * @param <T> its type
   * @param type its class, by which it is found
   * @param value what is kept
   */
  public <T> void put(Class<T> type, T value) {
    values.put(type, value);
  }

  /**
   * Finds what was kept.
   *
   * @param <T> its type
   * @param type its class
   * @return what was kept, if anything was
   */
  public <T> Optional<T> get(Class<T> type) {
    return Optional.ofNullable(type.cast(values.get(type)));
  }

  /**
   * {@return whether nobody waits for the answer any more} A handler's thread is interrupted then, too.
   */
  public boolean isCancelled() {
    return cancelled;
  }

  /** Throws a {@link CancellationException} if nobody waits for the answer any more. */
  public void checkCancelled() {
    if (cancelled) {
      throw new CancellationException("nobody waits for the answer any more");
    }
  }

  void cancel() {
    cancelled = true;
  }
}
