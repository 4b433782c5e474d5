package faithfulcourier.web;

import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.InvalidRequestException;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.StreamElement;
import faithfulcourier.wire.Violation;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.net.URI;
import java.net.http.HttpResponse;
import java.net.http.WebSocket;
import java.net.http.WebSocketHandshakeException;
import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.List;
import java.util.NoSuchElementException;
import java.util.Objects;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionStage;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;
import java.util.concurrent.locks.Condition;
import java.util.concurrent.locks.ReentrantLock;

/**
 * Is the client's side of a call that streams both ways. One thread may send while another receives. What is received ends
 * without an exception only if it is complete. Close it in the end: the call fails on the other side unless both have sent
 * their end.
 *
 * @param <T> the type of what is sent
 * @param <A> the type of what is received
 */
@SuppressWarnings("IterableAndIterator") // for a loop: what comes comes once
public final class Conversation<T, A> implements Iterator<A>, Iterable<A>, AutoCloseable {
  private static final long HEARTBEAT_MILLIS = 15_000;

  private final Client client;
  private final Call<?, T, A> call;
  private final Client.Watching watching;
  private final Ear ear;
  private final StreamWriter<T> writer;
  private WebSocket socket;
  private A next;
  private boolean theirsEnded;
  private Throwable failed;

  private Conversation(Client client, Call<?, T, A> call, Client.Watching watching) {
    this.client = client;
    this.call = call;
    this.watching = watching;
    ear = new Ear(client.elementLimit());
    writer =
        new StreamWriter<>(
            call.request.codec, client.encoding(), false, client.elementLimit(), HEARTBEAT_MILLIS, this::write);
  }

  static <H, T, A> Conversation<T, A> begin(Client client, Call<H, T, A> call, H head, CallOptions own) {
    Client.Attempt<WebSocket> attempt = client.new Attempt<WebSocket>(call, own);
    attempt.keepsOpen = true;
    Conversation<T, A> conversation = new Conversation<>(client, call, attempt.watching);
    attempt.start(() -> conversation.open(attempt, head, own));
    try {
      conversation.socket = Client.await(call, attempt);
    } catch (RuntimeException e) {
      conversation.writer.close();
      throw e;
    }
    return conversation;
  }

  private <H> CompletableFuture<WebSocket> open(Client.Attempt<WebSocket> attempt, H head, CallOptions own) {
    Parameters p = new Parameters();
    @SuppressWarnings("unchecked") // the head of this call
    Call.Side<H> side = (Call.Side<H>) call.head;
    if (side != null) {
      Objects.requireNonNull(head, "the head is null; give an empty message instead");
      List<Violation> violations =
          new ArrayList<>(Arguments.located(side.violations.apply(head), side.placed()));
      side.travel.place(p, head);
      violations.addAll(p.violations);
      if (!violations.isEmpty()) {
        throw new InvalidRequestException(violations);
      }
    }
    String protocol = client.encoding() == Encoding.CBOR ? "faithful-cbor" : "faithful-json";
    return attempt
        .presented(p)
        .thenCompose(
            ready -> {
              URI target = attempt.target(p);
              String scheme = "https".equalsIgnoreCase(target.getScheme()) ? "wss" : "ws";
              URI uri = URI.create(scheme + target.toString().substring(target.getScheme().length()));
              Headers all = attempt.outgoing(p, null);
              WebSocket.Builder builder = client.http().newWebSocketBuilder().subprotocols(protocol);
              all.map().forEach((name, values) -> values.forEach(value -> builder.header(name, value)));
              watching.tries.set(1);
              return attempt.waiting(builder.buildAsync(uri, ear));
            })
        .handle((ws, error) -> opened(ws, error, protocol, own));
  }

  private WebSocket opened(WebSocket ws, Throwable error, String protocol, CallOptions own) {
    Throwable e = error == null ? null : Client.unwrapped(error);
    if (e instanceof WebSocketHandshakeException handshake && handshake.getResponse() != null) {
      HttpResponse<?> response = handshake.getResponse();
      Headers came = Client.headersOf(response.headers());
      watching.status = response.statusCode();
      if (own.answered != null) {
        own.answered.accept(came);
      }
      if (response.statusCode() != 101) {
        byte[] body = String.valueOf(response.body()).getBytes(StandardCharsets.UTF_8);
        throw Client.failure(call, response.statusCode(), Media.bare(came.first("Content-Type")), body);
      }
      throw new BadAnswerException(call.name(), 101, "the handshake is wrong: " + handshake.getMessage(), handshake);
    } else if (e instanceof RuntimeException runtime) {
      throw runtime;
    } else if (e != null) {
      throw Client.unreachable(call, e, false);
    }
    watching.status = 101;
    if (!ws.getSubprotocol().equals(protocol)) {
      ws.abort();
      throw new BadAnswerException(call.name(), 101, "the server did not agree to " + protocol, null);
    }
    return ws;
  }

  private void write(byte[] element) throws IOException {
    CompletableFuture<WebSocket> sent =
        client.encoding() == Encoding.CBOR
            ? socket.sendBinary(ByteBuffer.wrap(element), true)
            : socket.sendText(new String(element, StandardCharsets.UTF_8), true);
    try {
      sent.get(client.idleTimeout().toMillis(), TimeUnit.MILLISECONDS);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IOException("the thread was interrupted", e);
    } catch (ExecutionException e) {
      throw new IOException(String.valueOf(e.getCause().getMessage()), e.getCause());
    } catch (TimeoutException e) {
      socket.abort();
      throw new IOException("the server took nothing for too long", e);
    }
    watching.sent.addAndGet(element.length);
  }

  /**
   * Sends one element, and waits while the server is slow.
   *
   * @param element what is sent
   * @throws InvalidRequestException if the definitions refuse it: it was not sent, and the call can go on
   * @throws UnreachableException if the connection is lost
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
      throw lost(e);
    }
  }

  /** Says that nothing more will be sent; the other side may go on. */
  public void finish() {
    if (writer.hasEnded()) {
      return;
    }
    try {
      writer.end();
    } catch (IOException e) {
      throw lost(e);
    }
  }

  private UnreachableException lost(Exception e) {
    boolean cancelled = Thread.currentThread().isInterrupted();
    UnreachableException.Reason reason =
        cancelled ? UnreachableException.Reason.CANCELLED : UnreachableException.Reason.LOST;
    UnreachableException lost = new UnreachableException(call.name(), reason, String.valueOf(e.getMessage()), e);
    fail(lost);
    return lost;
  }

  private RuntimeException fail(RuntimeException e) {
    if (failed == null) {
      failed = e;
    }
    return e;
  }

  @Override
  public Iterator<A> iterator() {
    return this;
  }

  /**
   * Tells whether another element comes, and waits for it.
   *
   * @return whether one does
   * @throws UnreachableException if the connection is lost, or silent for too long
   * @throws BadAnswerException if what came is not understood
   * @throws ProblemException if the server ended the call with a problem that it does not declare
   */
  @Override
  public boolean hasNext() {
    while (next == null && !theirsEnded) {
      try {
        byte[] message = ear.take(client.idleTimeout());
        watching.received.addAndGet(message.length);
        StreamElement<A> element =
            StreamElement.read(call.answer.codec, message, client.encoding(), client.itemLimit());
        switch (element.kind()) {
          case VALUE -> next = element.value();
          case END -> theirsEnded = true;
          case PROBLEM -> throw fail(Client.typed(call, Problem.CODEC.fromJson(element.problem())));
          default -> {}
        }
      } catch (PayloadException e) {
        throw fail(new BadAnswerException(call.name(), 101, e.getMessage(), e));
      } catch (TimeoutException e) {
        throw fail(
            new UnreachableException(
                call.name(), UnreachableException.Reason.TIMED_OUT, "the stream was silent for too long", e));
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw lost(e);
      } catch (IOException e) {
        throw lost(e);
      }
    }
    return next != null;
  }

  @Override
  public A next() {
    if (!hasNext()) {
      throw new NoSuchElementException("the stream has ended");
    }
    A element = next;
    next = null;
    return element;
  }

  /** Ends the call: as it should be where both sides have sent their end, else as a failure, which the other side sees. */
  @Override
  public void close() {
    writer.close();
    if (theirsEnded && writer.hasEnded() && failed == null) {
      CompletableFuture<WebSocket> closed = socket.sendClose(WebSocket.NORMAL_CLOSURE, "");
      ScheduledFuture<?> unused = Timers.after(2000, socket::abort); // whoever does not close, too
      closed.exceptionally(e -> null);
      watching.end(null);
      return;
    }
    socket.abort();
    watching.end(failed == null ? new java.util.concurrent.CancellationException() : failed);
  }

  /** Hears what comes, one message ahead of who needs it. */
  private static final class Ear implements WebSocket.Listener {
    private static final long FIRST_PROBE_NANOS = 1_000_000_000L;
    private static final long LAST_PROBE_NANOS = 16_000_000_000L;

    private final ReentrantLock lock = new ReentrantLock();
    private final Condition changed = lock.newCondition();
    private final ByteArrayOutputStream parts = new ByteArrayOutputStream();
    private final int limit;
    private byte[] message;
    private Throwable over;
    private WebSocket from;

    Ear(int limit) {
      this.limit = limit + 16;
    }

    @Override
    public void onOpen(WebSocket socket) {
      from = socket;
      socket.request(1);
    }

    @Override
    public CompletionStage<?> onBinary(WebSocket socket, ByteBuffer data, boolean last) {
      byte[] bytes = new byte[data.remaining()];
      data.get(bytes);
      return part(socket, bytes, last);
    }

    @Override
    public CompletionStage<?> onText(WebSocket socket, CharSequence data, boolean last) {
      return part(socket, data.toString().getBytes(StandardCharsets.UTF_8), last);
    }

    private CompletionStage<?> part(WebSocket socket, byte[] bytes, boolean last) {
      lock.lock();
      try {
        parts.write(bytes, 0, bytes.length);
        if (parts.size() > limit) {
          over = new IOException("an element of more than " + limit + " bytes");
          changed.signalAll();
          socket.abort();
        } else if (last) {
          message = parts.toByteArray();
          parts.reset();
          changed.signalAll();
        } else {
          socket.request(1);
        }
      } finally {
        lock.unlock();
      }
      return null;
    }

    @Override
    public CompletionStage<?> onPing(WebSocket socket, ByteBuffer data) {
      socket.request(1);
      return null;
    }

    @Override
    public CompletionStage<?> onPong(WebSocket socket, ByteBuffer data) {
      socket.request(1);
      return null;
    }

    @Override
    public CompletionStage<?> onClose(WebSocket socket, int status, String reason) {
      end(new IOException("the connection ended before the stream did (" + status + ")"));
      return null;
    }

    @Override
    public void onError(WebSocket socket, Throwable error) {
      end(error);
    }

    /** Finds out that the connection is gone: the JDK's client may lose its end in the middle of a message. */
    private void probe() {
      CompletableFuture<?> unused =
          from.sendPing(ByteBuffer.allocate(0))
              .whenComplete(
                  (ws, error) -> {
                    if (error != null && Client.unwrapped(error) instanceof IOException lost) {
                      end(lost);
                    }
                  });
    }

    private void end(Throwable why) {
      lock.lock();
      try {
        if (over == null) {
          over = why;
        }
        changed.signalAll();
      } finally {
        lock.unlock();
      }
    }

    byte[] take(Duration patience) throws IOException, InterruptedException, TimeoutException {
      lock.lockInterruptibly();
      try {
        long left = Math.min(patience.toNanos(), Long.MAX_VALUE / 2);
        long pause = FIRST_PROBE_NANOS;
        while (message == null) {
          if (over != null) {
            throw new IOException(String.valueOf(over.getMessage()), over);
          } else if (left <= 0) {
            throw new TimeoutException();
          }
          long quiet = Math.min(left, pause);
          left -= quiet - changed.awaitNanos(quiet);
          if (message == null && over == null) {
            probe();
            pause = Math.min(2 * pause, LAST_PROBE_NANOS);
          }
        }
        byte[] taken = message;
        message = null;
        from.request(1);
        return taken;
      } finally {
        lock.unlock();
      }
    }
  }
}
