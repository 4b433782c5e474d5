package faithfulcourier.web;

import faithfulcourier.wire.InvalidRequestException;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.Violation;
import java.io.IOException;
import java.net.http.HttpRequest.BodyPublisher;
import java.nio.ByteBuffer;
import java.util.List;
import java.util.Objects;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.Flow;
import java.util.concurrent.locks.Condition;
import java.util.concurrent.locks.ReentrantLock;

/**
 * Sends the elements of a request that is a stream. In the end {@link #finish} gets the answer; closing it without gives the
 * call up.
 *
 * @param <T> the type of the elements
 * @param <A> the answer
 */
public final class Sender<T, A> implements AutoCloseable {
  private static final long HEARTBEAT_MILLIS = 15_000;

  private final Client client;
  private final Call<?, T, A> call;
  private final Client.Attempt<A> attempt;
  private final Pipe pipe;
  private final StreamWriter<T> writer;
  private boolean finished;

  private Sender(Client client, Call<?, T, A> call, Client.Attempt<A> attempt) {
    this.client = client;
    this.call = call;
    this.attempt = attempt;
    pipe = new Pipe(client.idleTimeout().toMillis());
    writer =
        new StreamWriter<>(
            call.request.codec,
            client.encoding(),
            true,
            client.elementLimit(),
            HEARTBEAT_MILLIS,
            element -> {
              pipe.write(element);
              attempt.watching.sent.addAndGet(element.length);
            });
  }

  static <H, T, A> Sender<T, A> begin(Client client, Call<H, T, A> call, H head, CallOptions own) {
    Client.Attempt<A> attempt = client.new Attempt<A>(call, own);
    Sender<T, A> sender = new Sender<>(client, call, attempt);
    CompletableFuture<?> unused = attempt.whenComplete((answer, error) -> sender.pipe.answered());
    attempt.start(() -> sender.open(head));
    return sender;
  }

  private <H> CompletableFuture<A> open(H head) {
    Parameters p = new Parameters();
    @SuppressWarnings("unchecked") // the head of this call
    Call.Side<H> side = (Call.Side<H>) call.head;
    if (side != null) {
      Objects.requireNonNull(head, "the head is null; give an empty message instead");
      List<Violation> violations = Arguments.located(side.violations.apply(head), side.placed());
      side.travel.place(p, head);
      violations.addAll(p.violations);
      if (!violations.isEmpty()) {
        throw new InvalidRequestException(violations);
      }
    }
    return attempt
        .presented(p)
        .thenCompose(
            ready -> {
              Headers all = attempt.outgoing(p, client.encoding().mediaType());
              all.set("Content-Type", Media.of(client.encoding(), true));
              return attempt.sent(attempt.target(p), all, call.method(), pipe, attempt.collected());
            })
        .thenApply(r -> client.understand(call, r.status(), r.headers(), r.body(), attempt));
  }

  /**
   * Sends one element, and waits while the server is slow. Where the server has answered before the end, its error is thrown;
   * {@link #finish} throws it, too.
   *
   * @param element what is sent
   * @throws InvalidRequestException if the definitions refuse it: it was not sent, and the stream can go on
   */
  public void send(T element) {
    List<Violation> violations = call.request.violations.apply(Objects.requireNonNull(element, "element"));
    if (!violations.isEmpty()) {
      throw new InvalidRequestException(violations);
    }
    try {
      writer.value(element);
    } catch (PayloadException e) {
      throw new InvalidRequestException(List.of(new Violation(e.path(), e.detail())));
    } catch (IOException e) {
      if (Thread.currentThread().isInterrupted()) {
        close();
        throw new UnreachableException(
            call.name(), UnreachableException.Reason.CANCELLED, "the thread was interrupted", e);
      }
      finish(); // the server's answer says more than that nothing more can be written
      throw new UnreachableException(
          call.name(), UnreachableException.Reason.LOST, "the server has answered already", e);
    }
  }

  /**
   * Ends the stream and waits for what the server makes of it.
   *
   * @return the answer, or null
   */
  public A finish() {
    return Client.await(call, finishAsync());
  }

  /**
   * Ends the stream.
   *
   * @return what the server makes of it
   */
  public CompletableFuture<A> finishAsync() {
    if (!finished) {
      finished = true;
      writer.close();
      try {
        writer.end();
        pipe.complete();
      } catch (IOException e) {
        pipe.fail(e);
      }
    }
    return attempt;
  }

  /** Gives the call up, unless it was finished: the server sees a stream without its end. */
  @Override
  public void close() {
    if (!finished) {
      finished = true;
      writer.close();
      pipe.fail(new IOException("the call is given up"));
      attempt.cancel(true);
    }
  }

  /** Is the body of the request: elements go when the connection asks for more. */
  private static final class Pipe implements BodyPublisher, Flow.Subscription {
    private final ReentrantLock lock = new ReentrantLock();
    private final Condition changed = lock.newCondition();
    private final long patience;
    private Flow.Subscriber<? super ByteBuffer> subscriber;
    private long demand;
    private boolean over;
    private boolean complete;
    private IOException failed;

    Pipe(long patience) {
      this.patience = patience;
    }

    @Override
    public long contentLength() {
      return -1;
    }

    @Override
    public void subscribe(Flow.Subscriber<? super ByteBuffer> other) {
      other.onSubscribe(this);
      lock.lock();
      try {
        subscriber = other;
        changed.signalAll();
      } finally {
        lock.unlock();
      }
      if (complete) {
        other.onComplete();
      } else if (failed != null) {
        other.onError(failed);
      }
    }

    @Override
    public void request(long n) {
      lock.lock();
      try {
        demand = Math.max(demand + n, 0) < demand ? Long.MAX_VALUE : demand + n;
        changed.signalAll();
      } finally {
        lock.unlock();
      }
    }

    @Override
    public void cancel() {
      answered();
    }

    void write(byte[] element) throws IOException {
      Flow.Subscriber<? super ByteBuffer> to;
      lock.lock();
      try {
        long left = patience * 1_000_000;
        while (!over && (demand == 0 || subscriber == null)) {
          if (left <= 0) {
            throw new IOException("the server took nothing for too long");
          }
          left = changed.awaitNanos(left);
        }
        if (over) {
          throw new IOException("the server has answered already");
        }
        demand--;
        to = subscriber;
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IOException("the thread was interrupted", e);
      } finally {
        lock.unlock();
      }
      to.onNext(ByteBuffer.wrap(element));
    }

    /** Says that nobody takes more. */
    void answered() {
      lock.lock();
      try {
        over = true;
        changed.signalAll();
      } finally {
        lock.unlock();
      }
    }

    void complete() {
      complete = true;
      Flow.Subscriber<? super ByteBuffer> to = end();
      if (to != null) {
        to.onComplete();
      }
    }

    void fail(IOException why) {
      failed = why;
      Flow.Subscriber<? super ByteBuffer> to = end();
      if (to != null) {
        to.onError(why);
      }
    }

    private Flow.Subscriber<? super ByteBuffer> end() {
      lock.lock();
      try {
        over = true;
        changed.signalAll();
        return subscriber;
      } finally {
        lock.unlock();
      }
    }
  }
}
