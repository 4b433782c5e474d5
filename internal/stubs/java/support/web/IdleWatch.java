package faithfulcourier.web;

import java.io.IOException;
import java.net.SocketTimeoutException;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ScheduledFuture;

/** Interrupts a thread that waits for the other side for too long: an idle limit on reads and writes that have none. */
final class IdleWatch implements AutoCloseable {
  /** Reads or writes. */
  interface Operation {
    int run() throws IOException;
  }

  private static final Set<IdleWatch> ALL = ConcurrentHashMap.newKeySet();

  static {
    ScheduledFuture<?> unused = Timers.every(25, () -> ALL.forEach(IdleWatch::look));
  }

  private final long limitNanos;
  private Thread waiting; // null where nobody waits
  private long since;
  private boolean fired;

  IdleWatch(long limitMillis) {
    limitNanos = limitMillis * 1_000_000;
    ALL.add(this);
  }

  private synchronized void look() {
    if (waiting != null && System.nanoTime() - since > limitNanos && !fired) {
      fired = true;
      waiting.interrupt();
    }
  }

  private synchronized void begin() {
    waiting = Thread.currentThread();
    since = System.nanoTime();
  }

  /** Tells whether the thread was interrupted for its waiting; that is forgotten then. */
  private synchronized boolean end() {
    waiting = null;
    boolean was = fired;
    fired = false;
    if (was) {
      Thread.interrupted();
    }
    return was;
  }

  /** Runs an operation within the limit. */
  int within(Operation operation) throws IOException {
    begin();
    try {
      int n = operation.run();
      end();
      return n;
    } catch (IOException | RuntimeException e) {
      if (end()) {
        SocketTimeoutException late = new SocketTimeoutException("nothing came or went for too long");
        late.initCause(e);
        throw late;
      }
      throw e;
    }
  }

  /** Tells whether a thread waits for the other side right now. */
  synchronized boolean isWaiting(Thread who) {
    return waiting == who;
  }

  @Override
  public void close() {
    ALL.remove(this);
  }
}
