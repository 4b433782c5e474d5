package faithfulcourier.web;

/**
 * Is the thread of a handler while that runs. It is interrupted for its own call alone: a moment later it may run another
 * one.
 */
final class HandlerThread {
  private Thread thread; // null before and after
  private boolean interrupted; // by us

  /** Begins on the current thread. */
  synchronized void begin() {
    thread = Thread.currentThread();
  }

  /** Ends on the thread that began: what interrupted the handler is forgotten, and nothing does any more. */
  synchronized void end() {
    thread = null;
    if (interrupted) {
      Thread.interrupted();
    }
  }

  synchronized boolean isCurrent() {
    return thread == Thread.currentThread();
  }

  /** Interrupts it, but not what waits for the other side: that would break the connection. */
  synchronized void interrupt(IdleWatch idle) {
    if (thread != null && !idle.isWaiting(thread)) {
      interrupted = true;
      thread.interrupt();
    }
  }
}
