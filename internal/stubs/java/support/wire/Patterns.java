package faithfulcourier.wire;

import java.util.concurrent.atomic.AtomicReference;
import java.util.regex.Pattern;

/** Finds patterns in texts of any length: java.util.regex calls itself once for each turn of a loop. */
final class Patterns {
  private static final long LARGE_STACK = 1L << 30;

  private Patterns() {}

  static boolean matches(Pattern pattern, String text) {
    try {
      return pattern.matcher(text).find();
    } catch (StackOverflowError e) {
      return withLargeStack(pattern, text);
    }
  }

  /** Is for the rare text whose loops need more stack than a thread has. */
  private static synchronized boolean withLargeStack(Pattern pattern, String text) {
    AtomicReference<Boolean> found = new AtomicReference<>(false);
    Runnable look =
        () -> {
          try {
            found.set(pattern.matcher(text).find());
          } catch (StackOverflowError e) {
            found.set(false);
          }
        };
    Thread thread = new Thread(null, look, "faithful-pattern", LARGE_STACK);
    thread.start();
    boolean interrupted = false;
    while (true) {
      try {
        thread.join();
        break;
      } catch (InterruptedException e) {
        interrupted = true;
      }
    }
    if (interrupted) {
      Thread.currentThread().interrupt();
    }
    return found.get();
  }
}
