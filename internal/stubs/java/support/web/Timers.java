package faithfulcourier.web;

import java.util.concurrent.ExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.ScheduledThreadPoolExecutor;
import java.util.concurrent.SynchronousQueue;
import java.util.concurrent.ThreadFactory;
import java.util.concurrent.ThreadPoolExecutor;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicInteger;

/** Runs what is due later, and what may wait, on threads that keep no program alive. */
final class Timers {
  private static final ScheduledThreadPoolExecutor CLOCK = new ScheduledThreadPoolExecutor(1, daemons("faithful-clock"));
  private static final ExecutorService WORK = pool(daemons("faithful-work"));

  private static final long TICK_MILLIS = 1000;
  private static final AtomicBoolean TICKING = new AtomicBoolean();

  static {
    CLOCK.setRemoveOnCancelPolicy(true);
  }

  private Timers() {}

  private static ThreadFactory daemons(String name) {
    AtomicInteger number = new AtomicInteger();
    return run -> {
      Thread thread = new Thread(run, name + "-" + number.incrementAndGet());
      thread.setDaemon(true);
      return thread;
    };
  }

  /** Makes a pool of as many threads as there is work for; those that have none soon end. */
  static ExecutorService pool(ThreadFactory threads) {
    return new ThreadPoolExecutor(0, Integer.MAX_VALUE, 1, TimeUnit.SECONDS, new SynchronousQueue<>(), threads);
  }

  /** Makes a pool for handlers, which may wait. */
  static ExecutorService handlers() {
    AtomicInteger number = new AtomicInteger();
    return pool(run -> new Thread(run, "faithful-call-" + number.incrementAndGet()));
  }

  /**
   * Runs something once, after some milliseconds. It may wait. Most of it is cancelled long before: a tick that is due sooner
   * keeps the clock's thread from being woken for it.
   */
  static ScheduledFuture<?> after(long millis, Runnable action) {
    if (millis > TICK_MILLIS && TICKING.compareAndSet(false, true)) {
      tickLater();
    }
    return CLOCK.schedule(() -> WORK.execute(action), millis, TimeUnit.MILLISECONDS);
  }

  private static void tickLater() {
    ScheduledFuture<?> unused = CLOCK.schedule(Timers::tick, TICK_MILLIS, TimeUnit.MILLISECONDS);
  }

  private static void tick() {
    if (CLOCK.getQueue().isEmpty()) {
      TICKING.set(false);
    } else {
      tickLater();
    }
  }

  /** Runs something again and again. It must not wait. */
  static ScheduledFuture<?> every(long millis, Runnable action) {
    return CLOCK.scheduleWithFixedDelay(action, millis, millis, TimeUnit.MILLISECONDS);
  }

  static ExecutorService work() {
    return WORK;
  }
}
