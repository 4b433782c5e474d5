package faithfulcourier.web;

import java.util.Optional;

/**
 * Is the trace that a thread is in (W3C Trace Context): calls that a client makes there pass it on. Servers set it for
 * handlers.
 *
 * @param parent the header traceparent
 * @param state the header tracestate, or an empty text
 */
public record Trace(String parent, String state) {
  private static final ThreadLocal<Trace> CURRENT = new ThreadLocal<>();

  /** {@return the trace that this thread is in, if it is in one} */
  public static Optional<Trace> current() {
    return Optional.ofNullable(CURRENT.get());
  }

  /**
   * Puts this thread into a trace, until what is returned is closed.
   *
   * @param trace the trace, or null for none
   * @return puts the thread back where it was
   */
  public static Scope enter(Trace trace) {
    Trace before = CURRENT.get();
    set(trace);
    return () -> set(before);
  }

  private static void set(Trace trace) {
    if (trace == null) {
      CURRENT.remove();
    } else {
      CURRENT.set(trace);
    }
  }

  /** Ends a thread's stay in a trace. */
  public interface Scope extends AutoCloseable {
    @Override
    void close();
  }
}
