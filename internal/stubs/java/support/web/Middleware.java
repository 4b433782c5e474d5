package faithfulcourier.web;

/** Runs around every handler. */
@FunctionalInterface
public interface Middleware {
  /** Runs the rest. */
  @FunctionalInterface
  interface Next {
    /**
     * Runs it.
     *
     * @throws Exception what it failed with
     */
    void run() throws Exception;
  }

  /**
   * Runs around a handler.
   *
   * @param context of the call
   * @param next runs the rest
   * @throws Exception what the call fails with
   */
  void around(Context context, Next next) throws Exception;
}
