package faithfulcourier.web;

import java.io.IOException;
import java.io.InputStream;
import java.io.InterruptedIOException;
import java.net.SocketTimeoutException;
import java.net.http.HttpResponse.BodySubscriber;
import java.nio.ByteBuffer;
import java.util.ArrayDeque;
import java.util.Deque;
import java.util.List;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionStage;
import java.util.concurrent.Flow;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.Condition;
import java.util.concurrent.locks.ReentrantLock;

/**
 * Is the body of an answer as it comes, two pieces ahead of who reads it. The JDK's own goes on waiting when its thread is
 * interrupted, and has no limit of silence.
 */
final class AnswerBody extends BlockInput implements BodySubscriber<InputStream> {
  private static final int AHEAD = 2;

  private final long patienceMillis;
  private final ReentrantLock lock = new ReentrantLock();
  private final Condition changed = lock.newCondition();
  private final Deque<List<ByteBuffer>> came = new ArrayDeque<>();
  private final Deque<ByteBuffer> current = new ArrayDeque<>(); // of who reads alone
  private Flow.Subscription subscription;
  private Throwable failure;
  private boolean complete;
  private boolean closed;

  AnswerBody(long patienceMillis) {
    this.patienceMillis = patienceMillis;
  }

  @Override
  public CompletionStage<InputStream> getBody() {
    return CompletableFuture.completedStage(this);
  }

  @Override
  public void onSubscribe(Flow.Subscription s) {
    boolean over;
    lock.lock();
    try {
      subscription = s;
      over = closed;
    } finally {
      lock.unlock();
    }
    if (over) {
      s.cancel();
    } else {
      s.request(AHEAD);
    }
  }

  @Override
  public void onNext(List<ByteBuffer> buffers) {
    tell(() -> came.add(buffers));
  }

  @Override
  public void onError(Throwable error) {
    tell(() -> failure = error);
  }

  @Override
  public void onComplete() {
    tell(() -> complete = true);
  }

  private void tell(Runnable change) {
    lock.lock();
    try {
      change.run();
      changed.signalAll();
    } finally {
      lock.unlock();
    }
  }

  @Override
  public int read(byte[] buffer, int offset, int length) throws IOException {
    if (length == 0) {
      return 0;
    }
    while (current.isEmpty()) {
      List<ByteBuffer> next = taken();
      if (next == null) {
        return -1;
      }
      current.addAll(next);
      current.removeIf(piece -> !piece.hasRemaining());
      subscription.request(1);
    }
    ByteBuffer first = current.peek();
    int n = Math.min(length, first.remaining());
    first.get(buffer, offset, n);
    if (!first.hasRemaining()) {
      current.remove();
    }
    return n;
  }

  /** Waits for the next piece; null at the end. */
  private List<ByteBuffer> taken() throws IOException {
    long left = patienceMillis > 0 ? TimeUnit.MILLISECONDS.toNanos(patienceMillis) : Long.MAX_VALUE;
    lock.lock();
    try {
      while (true) {
        if (closed) {
          throw new IOException("the body was closed");
        } else if (!came.isEmpty()) {
          return came.poll();
        } else if (failure != null) {
          throw new IOException(failure.getMessage(), failure);
        } else if (complete) {
          return null;
        } else if (left <= 0) {
          throw new SocketTimeoutException("nothing came for too long");
        }
        left = changed.awaitNanos(left);
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      InterruptedIOException interrupted = new InterruptedIOException("the thread was interrupted");
      interrupted.initCause(e);
      throw interrupted;
    } finally {
      lock.unlock();
    }
  }

  @Override
  public void close() {
    Flow.Subscription s;
    lock.lock();
    try {
      closed = true;
      s = complete || failure != null ? null : subscription;
      changed.signalAll();
    } finally {
      lock.unlock();
    }
    if (s != null) {
      s.cancel(); // which closes the connection, as the rest of it is not read
    }
  }
}
