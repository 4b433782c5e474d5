package faithfulcourier.web;

import faithfulcourier.wire.Codec;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.StreamElement;
import java.io.IOException;
import java.util.Arrays;
import java.util.concurrent.CancellationException;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.locks.ReentrantLock;

/** Writes elements, each as soon as it is there. */
final class StreamWriter<T> implements AutoCloseable {
  /** Writes the bytes of an element. */
  interface Sink {
    void write(byte[] element) throws IOException;
  }

  private final ReentrantLock lock = new ReentrantLock();
  private final Codec<T> codec;
  private final Encoding encoding;
  private final boolean sequence; // whether JSON comes after 0x1e, as in RFC 7464
  private final int limit;
  private final Sink sink;
  private final ScheduledFuture<?> heartbeats;
  private volatile boolean begun;
  private volatile boolean ended;
  private volatile IOException failed;
  private volatile long last = System.nanoTime();
  private volatile boolean beating;

  StreamWriter(Codec<T> codec, Encoding encoding, boolean sequence, int limit, long heartbeatMillis, Sink sink) {
    this.codec = codec;
    this.encoding = encoding;
    this.sequence = sequence && encoding == Encoding.JSON;
    this.limit = limit;
    this.sink = sink;
    heartbeats = Timers.every(Math.max(1, heartbeatMillis / 8), () -> beat(heartbeatMillis));
  }

  private void beat(long millis) {
    if (ended || failed != null) {
      heartbeats.cancel(false);
    } else if (!beating && System.nanoTime() - last >= millis * 1_000_000) {
      beating = true;
      Timers.work()
          .execute(
              () -> {
                try {
                  if (lock.tryLock()) { // else something is written right now
                    try {
                      put(StreamElement.heartbeat(encoding), false);
                    } finally {
                      lock.unlock();
                    }
                  }
                } catch (IOException | RuntimeException e) {
                  // Whoever writes next is told.
                } finally {
                  beating = false;
                }
              });
    }
  }

  private void put(byte[] element, boolean ends) throws IOException {
    lock.lock();
    try {
      if (failed != null) {
        throw new IOException("nothing more can be written", failed);
      } else if (ended) {
        throw new IllegalStateException("the stream has ended");
      }
      byte[] written = element;
      if (sequence) {
        written = Arrays.copyOf(element, element.length + 2);
        System.arraycopy(element, 0, written, 1, element.length);
        written[0] = 0x1e;
        written[written.length - 1] = '\n';
      }
      if (written.length > limit + 16) {
        throw new IllegalArgumentException(
            "an element of " + written.length + " bytes, more than the " + limit + " that a stream may contain");
      }
      begun = true;
      ended = ends;
      try {
        sink.write(written);
      } catch (IOException e) {
        failed = e;
        throw e;
      }
      last = System.nanoTime();
    } finally {
      lock.unlock();
    }
  }

  /** Writes a value; what can't be written leaves the stream as it was. */
  void value(T value) throws IOException {
    put(StreamElement.value(codec, value, encoding), false);
  }

  void end() throws IOException {
    put(StreamElement.end(encoding), true);
  }

  void problem(Problem problem) throws IOException {
    put(StreamElement.problem(Problem.CODEC.toJson(problem), encoding), true);
  }

  boolean hasBegun() {
    return begun;
  }

  boolean hasEnded() {
    return ended;
  }

  /** Tells whether nothing more can be written, once what is being written has been. */
  boolean isBroken() {
    lock.lock();
    try {
      return failed != null;
    } finally {
      lock.unlock();
    }
  }

  static CancellationException gone(IOException why) {
    CancellationException gone = new CancellationException("the reader has left");
    gone.initCause(why);
    return gone;
  }

  @Override
  public void close() {
    heartbeats.cancel(false);
  }
}
