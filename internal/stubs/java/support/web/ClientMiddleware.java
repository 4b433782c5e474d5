package faithfulcourier.web;

import java.net.URI;
import java.util.concurrent.CompletableFuture;

/** Runs around every HTTP request of a client. */
@FunctionalInterface
public interface ClientMiddleware {
  /**
   * Is what is sent.
   *
   * @param call which call it is of
   * @param uri where it goes
   * @param headers of the request, which may be changed
   */
  record Outgoing(Call<?, ?, ?> call, URI uri, Headers headers) {}

  /**
   * Is what came.
   *
   * @param status HTTP
   * @param headers of the answer
   */
  record Incoming(int status, Headers headers) {}

  /** Sends the request. */
  @FunctionalInterface
  interface Next {
    /**
     * Sends it.
     *
     * @param request what is sent
     * @return what came
     */
    CompletableFuture<Incoming> send(Outgoing request);
  }

  /**
   * Runs around a request.
   *
   * @param request what is sent
   * @param next sends it
   * @return what came
   */
  CompletableFuture<Incoming> around(Outgoing request, Next next);
}
