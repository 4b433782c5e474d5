package faithfulcourier.web;

/**
 * Is one call with what serves it.
 *
 * @param <H> the head of a request that is a stream
 * @param <Q> the request, or an element of it
 * @param <A> the answer, or an element of it
 */
public final class Route<H, Q, A> {
  /**
   * Serves a call; of what it is given only that is there which the call has.
   *
   * @param <H> the head of a request that is a stream
   * @param <Q> the request, or an element of it
   * @param <A> the answer, or an element of it
   */
  @FunctionalInterface
  public interface Handler<H, Q, A> {
    /**
     * Serves a call.
     *
     * @param head of a stream, or null
     * @param request the request, or null
     * @param elements of a stream, or null
     * @param answers takes those of an answer that is a stream, or null
     * @param context of the call
     * @return the answer, or null
     * @throws Exception what the call fails with
     */
    A serve(H head, Q request, Elements<Q> elements, Answers<A> answers, Context context) throws Exception;
  }

  final Call<H, Q, A> call;
  final boolean implemented;
  final Handler<H, Q, A> handler;

  /**
   * Makes a route.
   *
   * @param call what both sides know of it
   * @param implemented whether it has a handler that is not the one which answers 501
   * @param handler serves it
   */
  public Route(Call<H, Q, A> call, boolean implemented, Handler<H, Q, A> handler) {
    this.call = call;
    this.implemented = implemented;
    this.handler = handler;
  }

  /**
   * Tells whether an implementation has a method of its own for a call. Where that can't be found out, as in a native
   * image that was not told of it, it has one.
   *
   * @param base the class with a method for each call
   * @param implementation an instance of it
   * @param name of the method
   * @param parameters of the method
   * @return whether it is written
   */
  public static boolean isImplemented(Class<?> base, Object implementation, String name, Class<?>... parameters) {
    try {
      return implementation.getClass().getMethod(name, parameters).getDeclaringClass() != base;
    } catch (NoSuchMethodException e) {
      return true;
    }
  }

  boolean answers() {
    return call.answer != null && !call.answerStream;
  }
}
