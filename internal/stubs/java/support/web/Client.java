package faithfulcourier.web;

import faithfulcourier.wire.Body;
import faithfulcourier.wire.Encoding;
import faithfulcourier.wire.InvalidRequestException;
import faithfulcourier.wire.PayloadException;
import faithfulcourier.wire.Violation;
import java.io.EOFException;
import java.io.IOException;
import java.io.InputStream;
import java.io.InterruptedIOException;
import java.net.ConnectException;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpConnectTimeoutException;
import java.net.http.HttpHeaders;
import java.net.http.HttpRequest;
import java.net.http.HttpRequest.BodyPublisher;
import java.net.http.HttpRequest.BodyPublishers;
import java.net.http.HttpResponse;
import java.net.http.HttpResponse.BodyHandler;
import java.net.http.HttpTimeoutException;
import java.nio.ByteBuffer;
import java.nio.channels.ClosedChannelException;
import java.nio.channels.UnresolvedAddressException;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;
import java.time.ZonedDateTime;
import java.time.format.DateTimeFormatter;
import java.time.format.DateTimeParseException;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import java.util.concurrent.CancellationException;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionException;
import java.util.concurrent.CompletionStage;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Flow;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.ThreadLocalRandom;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.concurrent.atomic.AtomicLong;
import java.util.function.Consumer;
import java.util.function.Function;

/** Sends calls to one server. The clients next to it, one for each service, are over it. */
public final class Client {
  private static final Duration FOREVER = Duration.ofDays(36500);

  /** Is the HTTP client of all clients that have none of their own: they share its connections and threads. */
  private static final class Shared {
    static final HttpClient HTTP = HttpClient.newBuilder().followRedirects(HttpClient.Redirect.NEVER).build();

    private Shared() {}
  }

  private final URI base;
  private final ClientBuilder<?> options;
  private final HttpClient http;
  private final Headers headers;
  private final Map<String, Callable<String>> credentials;
  private final List<ClientMiddleware> middleware;

  Client(ClientBuilder<?> options) {
    this.options = options;
    base = ClientBuilder.checked(options.base);
    http = options.http == null ? Shared.HTTP : options.http;
    headers = new Headers(options.headers);
    credentials = new LinkedHashMap<>(options.credentials);
    middleware = List.copyOf(options.middleware);
  }

  Encoding encoding() {
    return options.encoding;
  }

  int elementLimit() {
    return options.elementLimit;
  }

  int itemLimit() {
    return options.answerItemLimit;
  }

  Duration idleTimeout() {
    return orForever(options.idleTimeout);
  }

  Duration timeoutOf(CallOptions own) {
    return orForever(own.timeout == null ? options.timeout : own.timeout);
  }

  static Duration orForever(Duration limit) {
    return limit.isZero() || limit.isNegative() ? FOREVER : limit;
  }

  HttpClient http() {
    return http;
  }

  // Calls of one request and one answer.

  /**
   * Makes a call and waits for its answer. An interrupt cancels it.
   *
   * @param <Q> the request
   * @param <A> the answer
   * @param call what both sides know of it
   * @param request what is sent, or null
   * @param own options of this call, or null
   * @return the answer, or null
   */
  public <Q, A> A call(Call<?, Q, A> call, Q request, CallOptions own) {
    return await(call, begin(call, request, own, Thread.currentThread()));
  }

  static <A> A await(Call<?, ?, ?> call, CompletableFuture<A> future) {
    try {
      return future.get();
    } catch (InterruptedException e) {
      future.cancel(true);
      Thread.currentThread().interrupt();
      throw interrupted(call, e);
    } catch (CancellationException e) {
      throw new UnreachableException(call.name(), UnreachableException.Reason.CANCELLED, "", e);
    } catch (ExecutionException e) {
      Throwable cause = e.getCause();
      if (cause instanceof RuntimeException known) {
        if (!(known instanceof PayloadException)) {
          known.fillInStackTrace(); // of the thread that made the call
        }
        throw known;
      } else if (cause instanceof Error error) {
        throw error;
      }
      throw new UnreachableException(call.name(), UnreachableException.Reason.LOST, String.valueOf(cause), cause);
    }
  }

  /**
   * Makes a call. To cancel what is returned cancels the call, wherever it is.
   *
   * @param <Q> the request
   * @param <A> the answer
   * @param call what both sides know of it
   * @param request what is sent, or null
   * @param own options of this call, or null
   * @return the answer, or null
   */
  public <Q, A> CompletableFuture<A> callAsync(Call<?, Q, A> call, Q request, CallOptions own) {
    return begin(call, request, own, null);
  }

  private <Q, A> Attempt<A> begin(Call<?, Q, A> call, Q request, CallOptions own, Thread waits) {
    Attempt<A> attempt = new Attempt<>(call, own == null ? CallOptions.none() : own, waits);
    attempt.start(
        () -> {
          boolean down = call.answerRaw() != null;
          if (!down) {
            return attempt.opened(call.request, request, attempt.collected(), false)
                .thenApply(response -> understand(call, response.status(), response.headers(), response.body(), attempt));
          }
          return attempt.opened(call.request, request, incoming(), false)
              .thenApply(response -> rawAnswer(call, response, attempt));
        });
    return attempt;
  }

  /** Is one call while it goes on; to cancel it cancels whatever it waits for. */
  final class Attempt<A> extends CompletableFuture<A> {
    final Call<?, ?, ?> call;
    final CallOptions own;
    final long until; // by the clock of nanoTime
    final Watching watching;
    private final Thread waits; // for the answer, or null
    private final ScheduledFuture<?> timer;
    private final Headers more = new Headers();
    private CompletableFuture<?> current; // what it waits for
    private boolean over;
    boolean timedOut;
    boolean conditional; // whether the request asked for what is not the same
    boolean keepsOpen; // whether the watching goes on after the answer has begun

    Attempt(Call<?, ?, ?> call, CallOptions own) {
      this(call, own, null);
    }

    Attempt(Call<?, ?, ?> call, CallOptions own, Thread waits) {
      this.call = call;
      this.own = own;
      this.waits = call.raw() == null ? waits : null; // who sends a body as it is can wait for too long
      watching = new Watching(call, more);
      Duration timeout = timeoutOf(own);
      until = System.nanoTime() + Math.min(timeout.toNanos(), Long.MAX_VALUE / 4);
      timer = timeout.equals(FOREVER) ? null : Timers.after(Math.max(1, timeout.toMillis()), this::timeOut);
    }

    void start(Callable<CompletableFuture<A>> steps) {
      CompletableFuture<A> outcome;
      try {
        outcome = steps.call();
      } catch (Exception | Error e) {
        outcome = CompletableFuture.failedFuture(e);
      }
      CompletableFuture<?> unused =
          outcome.whenComplete(
              (answer, error) -> {
                if (error == null) {
                  finish(answer, null);
                } else {
                  finish(null, translated(unwrapped(error)));
                }
              });
    }

    private void finish(A answer, Throwable error) {
      if (timer != null) {
        timer.cancel(false);
      }
      if (!keepsOpen || error != null) {
        watching.end(error);
      }
      if (error == null) {
        complete(answer);
      } else {
        completeExceptionally(error);
      }
    }

    void timeOut() {
      timedOut = true;
      stop();
      Throwable late = new UnreachableException(call.name(), UnreachableException.Reason.TIMED_OUT, "", null);
      if (completeExceptionally(late)) {
        watching.end(late);
      }
    }

    private void stop() {
      CompletableFuture<?> waitsFor;
      synchronized (this) {
        over = true;
        waitsFor = current;
      }
      if (waitsFor != null) {
        waitsFor.cancel(true);
      }
    }

    @Override
    public boolean cancel(boolean mayInterrupt) {
      boolean was = super.cancel(mayInterrupt);
      stop();
      if (was) {
        watching.end(new CancellationException());
      }
      return was;
    }

    /** Keeps what is waited for, so that it can be cancelled. */
    <T> CompletableFuture<T> waiting(CompletableFuture<T> future) {
      boolean late;
      synchronized (this) {
        current = future;
        late = over;
      }
      if (late) {
        future.cancel(true);
      }
      return future;
    }

    Throwable translated(Throwable error) {
      if (error instanceof CancellationException) { // which is an IllegalStateException
        return timedOut ? unreachable(call, error, true) : error;
      } else if (error instanceof CallException
          || error instanceof faithfulcourier.wire.DeclaredException
          || error instanceof InvalidRequestException
          || error instanceof IllegalArgumentException
          || error instanceof IllegalStateException
          || error instanceof NullPointerException) {
        return error;
      }
      return unreachable(call, error, timedOut);
    }

    /** Sends a request until it is answered, as often as it may be repeated. */
    <M, T> CompletableFuture<Response<T>> opened(
        Call.Side<M> side, M request, BodyHandler<T> handler, boolean stream) {
      Parameters p = new Parameters();
      byte[] body = null;
      Body raw = null;
      if (side != null) {
        if (request == null) {
          throw new NullPointerException("what is sent is null; give an empty message instead");
        }
        List<Violation> violations = new ArrayList<>(side.violations.apply(request));
        try {
          if (side.travel != null) {
            side.travel.place(p, request);
            violations = Arguments.located(violations, side.placed());
            violations.addAll(p.violations);
          }
          if (violations.isEmpty() && side.raw() != null) {
            raw = side.travel.rawOf(request);
          } else if (violations.isEmpty() && side.hasBody() && !stream) {
            body = side.toBytes(request, encoding());
          }
        } catch (PayloadException e) { // what can't be written is a violation, too
          violations.add(new Violation(e.path(), e.detail()));
        }
        if (!violations.isEmpty()) {
          throw new InvalidRequestException(violations);
        }
      }
      byte[] sent = body;
      Body rawSent = raw;
      boolean repeatable =
          call.isIdempotent() && !call.requestStream && (raw == null || raw.isRepeatable() || raw.length() == 0);
      int most = repeatable ? Math.max(1, options.tries) : 1;
      return presented(p).thenCompose(ready -> tried(p, sent, rawSent, side, handler, most, 1));
    }

    /** Puts the first alternative of credentials that the client can fill into a request. */
    CompletableFuture<Void> presented(Parameters p) {
      if (call.needs().isEmpty()) {
        return CompletableFuture.completedFuture(null);
      }
      for (List<Credential> all : call.needs()) {
        List<Callable<String>> sources = new ArrayList<>();
        for (Credential c : all) {
          Callable<String> source = sourceOf(c);
          if (source != null) {
            sources.add(source);
          }
        }
        if (sources.size() == all.size()) {
          return filled(all, sources, p);
        }
      }
      List<String> given = new ArrayList<>(credentials.keySet());
      own.credentials.keySet().stream().filter(name -> !given.contains(name)).forEach(given::add);
      given.sort(null);
      throw new MissingCredentialException(call.name(), call.needsText(), given);
    }

    private Callable<String> sourceOf(Credential c) {
      for (Map.Entry<String, String> e : own.credentials.entrySet()) {
        if (c.is(e.getKey())) {
          return e::getValue;
        }
      }
      Callable<String> exact = credentials.get(c.name());
      if (exact != null) {
        return exact;
      }
      for (Map.Entry<String, Callable<String>> e : credentials.entrySet()) {
        if (c.is(e.getKey())) {
          return e.getValue();
        }
      }
      return null;
    }

    private CompletableFuture<Void> filled(List<Credential> all, List<Callable<String>> sources, Parameters p) {
      Callable<Void> fill =
          () -> {
            for (int i = 0; i < all.size(); i++) {
              put(all.get(i), sources.get(i).call(), p);
            }
            return null;
          };
      if (sources.stream().noneMatch(ClientBuilder.Asked.class::isInstance)) {
        return run(fill);
      }
      CompletableFuture<Void> done = new CompletableFuture<>();
      java.util.concurrent.Future<?> task =
          Timers.work()
              .submit(
                  () -> {
                    CompletableFuture<?> unused =
                        run(fill)
                            .whenComplete(
                                (v, e) -> {
                                  if (e == null) {
                                    done.complete(null);
                                  } else {
                                    done.completeExceptionally(unwrapped(e));
                                  }
                                });
                  });
      CompletableFuture<?> unused =
          done.whenComplete(
              (v, e) -> {
                if (done.isCancelled()) {
                  task.cancel(true);
                }
              });
      return waiting(done);
    }

    private CompletableFuture<Void> run(Callable<Void> fill) {
      try {
        fill.call();
        return CompletableFuture.completedFuture(null);
      } catch (RuntimeException e) {
        return CompletableFuture.failedFuture(e);
      } catch (Exception e) {
        return CompletableFuture.failedFuture(
            new IllegalStateException(call.name() + ": a credential could not be had: " + e.getMessage(), e));
      }
    }

    private void put(Credential c, String value, Parameters p) {
      boolean controls = value.chars().anyMatch(x -> x < ' ' || x == 0x7f);
      if (controls && !c.kind().equals("query") && !c.kind().equals("basic")) { // and it is not shown
        throw new IllegalArgumentException(
            call.name() + ": credential " + c.name()
                + ": its value has control characters in it, which no header can contain");
      }
      switch (c.kind()) {
        case "header" -> more.set(c.key(), value);
        case "query" -> p.query(c.key(), value);
        case "cookie" -> p.cookies.put(c.key(), value);
        case "basic" ->
            more.set(
                "Authorization",
                "Basic " + Base64.getEncoder().encodeToString(value.getBytes(StandardCharsets.UTF_8)));
        default -> more.set("Authorization", "Bearer " + value);
      }
    }

    /** Are the headers of a request. */
    Headers outgoing(Parameters p, String accept) {
      Headers all = new Headers(headers);
      own.headers.map().forEach((name, values) -> values.forEach(value -> all.set(name, value)));
      p.headers.forEach(all::set);
      more.map().forEach((name, values) -> values.forEach(value -> all.set(name, value)));
      if (accept != null) {
        all.set("Accept", accept);
      }
      if (!p.cookies.isEmpty()) {
        List<String> pairs = new ArrayList<>();
        p.cookies.forEach((name, value) -> pairs.add(name + "=" + value));
        all.set("Cookie", String.join("; ", pairs));
      }
      Trace.current()
          .ifPresent(
              t -> {
                if (all.first("traceparent") == null) {
                  all.set("traceparent", t.parent());
                  if (!t.state().isEmpty()) {
                    all.set("tracestate", t.state());
                  }
                }
              });
      conditional = all.first("If-None-Match") != null;
      return all;
    }

    URI target(Parameters p) {
      String path = call.path();
      for (Map.Entry<String, String> e : p.path.entrySet()) {
        path = path.replace("{" + e.getKey() + "}", e.getValue());
      }
      String query = p.query.isEmpty() ? "" : "?" + String.join("&", p.query);
      return URI.create(base + path + query);
    }

    private <M, T> CompletableFuture<Response<T>> tried(
        Parameters p, byte[] body, Body raw, Call.Side<M> side, BodyHandler<T> handler, int most, int number) {
      String accept = Media.of(encoding(), call.answerStream);
      Headers all = outgoing(p, accept);
      if (options.compression) {
        all.set("Accept-Encoding", "gzip");
      }
      boolean timed = !call.answerStream && !call.requestStream && call.raw() == null && call.answerRaw() == null;
      if (timed && timer != null) {
        long left = until - System.nanoTime();
        all.set("Prefer", "wait=" + Math.max(1, (left + 999_999_999) / 1_000_000_000));
      }
      BodyPublisher publisher = BodyPublishers.noBody();
      Silence silence = null;
      if (raw != null) {
        all.set("Content-Type", side.raw().typeOf(raw.mediaType()));
        if (raw.length() != 0) {
          silence = new Silence(this);
          publisher = rawPublisher(raw, number > 1, silence);
        }
      } else if (body != null) {
        all.set("Content-Type", encoding().mediaType());
        byte[] data = body;
        if (options.compression && body.length > Compression.FROM) {
          data = Compression.compressed(body);
          all.set("Content-Encoding", "gzip");
        }
        watching.sent.addAndGet(data.length);
        publisher = BodyPublishers.ofByteArray(data);
      }
      Silence quiet = silence;
      if (quiet != null && timer != null) {
        timer.cancel(false); // it is idleness that has a limit
      }
      @SuppressWarnings("FutureReturnValueIgnored") // it is composed
      CompletableFuture<CompletableFuture<Response<T>>> next =
          sent(target(p), all, call.method(), publisher, handler)
              .whenComplete(
                  (r, e) -> {
                    if (quiet != null) {
                      quiet.stop();
                    }
                  })
              .handle(
                  (response, error) -> {
                    Throwable e = error == null ? null : unwrapped(error);
                    long pause = e == null ? pauseAfter(response, number) : pauseAfter(e, number);
                    boolean late = timer != null && until - System.nanoTime() <= pause * 1_000_000;
                    if (number >= most || pause < 0 || late || isDone()) {
                      return e == null
                          ? CompletableFuture.completedFuture(response)
                          : CompletableFuture.<Response<T>>failedFuture(e);
                    }
                    if (response != null && response.body() instanceof InputStream stream) {
                      close(stream);
                    }
                    CompletableFuture<Void> waited = new CompletableFuture<>();
                    ScheduledFuture<?> wake = Timers.after(Math.max(1, pause), () -> waited.complete(null));
                    CompletableFuture<?> unused = waited.whenComplete((v, x) -> wake.cancel(false));
                    return waiting(waited).thenCompose(v -> tried(p, body, raw, side, handler, most, number + 1));
                  });
      return next.thenCompose(Function.identity());
    }

    /** Sends one request through the middleware. */
    <T> CompletableFuture<Response<T>> sent(
        URI uri, Headers all, String method, BodyPublisher publisher, BodyHandler<T> handler) {
      watching.tries.incrementAndGet();
      watching.status = 0;
      List<HttpResponse<T>> came = new ArrayList<>(1);
      ClientMiddleware.Next next =
          request -> {
            HttpRequest.Builder builder = HttpRequest.newBuilder(request.uri()).method(method, publisher);
            if ("http".equalsIgnoreCase(request.uri().getScheme())) {
              builder.version(HttpClient.Version.HTTP_1_1);
            }
            request.headers().map().forEach((name, values) -> values.forEach(value -> builder.header(name, value)));
            return exchanged(builder, handler)
                .thenApply(
                    response -> {
                      came.add(response);
                      return new ClientMiddleware.Incoming(response.statusCode(), headersOf(response.headers()));
                    });
          };
      for (int i = middleware.size() - 1; i >= 0; i--) {
        ClientMiddleware around = middleware.get(i);
        ClientMiddleware.Next inner = next;
        next = request -> around.around(request, inner);
      }
      return waiting(next.send(new ClientMiddleware.Outgoing(call, uri, all)))
          .thenApply(
              incoming -> {
                if (came.isEmpty()) {
                  throw new IllegalStateException("middleware answered " + call.name() + " without sending it");
                }
                HttpResponse<T> response = came.get(came.size() - 1);
                watching.status = incoming.status();
                if (own.answered != null) {
                  own.answered.accept(incoming.headers());
                }
                String theirs = incoming.headers().first("Faithful-Definitions");
                if (options.onDigest != null && theirs != null && !theirs.equals(options.digest)) {
                  options.onDigest.accept(theirs);
                }
                return new Response<>(incoming.status(), incoming.headers(), response.body());
              });
    }

    /** Sends a request on the thread that waits for its answer, if it is this one: that takes no other thread. */
    private <T> CompletableFuture<HttpResponse<T>> exchanged(HttpRequest.Builder request, BodyHandler<T> handler) {
      if (waits != Thread.currentThread()) {
        return waiting(http.sendAsync(request.build(), handler));
      }
      if (timer != null) { // which can't wake this thread before an answer begins
        request.timeout(Duration.ofNanos(Math.max(1_000_000, until - System.nanoTime())));
      }
      try {
        return CompletableFuture.completedFuture(http.send(request.build(), handler));
      } catch (InterruptedException e) {
        waits.interrupt();
        return CompletableFuture.failedFuture(interrupted(call, e));
      } catch (IOException e) { // it is around what it is about
        return CompletableFuture.failedFuture(e.getCause() instanceof IOException cause ? cause : e);
      } catch (RuntimeException e) {
        return CompletableFuture.failedFuture(e);
      }
    }

    /** Runs something on the thread that waits, if it is this one, else on one that may wait. */
    void carryOn(Runnable task) {
      if (waits == Thread.currentThread()) {
        task.run();
      } else {
        Timers.work().execute(task);
      }
    }

    /** Collects a body, at most one byte more than the limit. */
    BodyHandler<byte[]> collected() {
      return info -> {
        Collector body = new Collector(options.answerLimit);
        if (waits != null) {
          CompletableFuture<?> unused = waiting(body.result);
        }
        return body;
      };
    }

    private BodyPublisher rawPublisher(Body raw, boolean again, Silence silence) {
      BodyPublisher whole =
          BodyPublishers.ofInputStream(
              () -> {
                try {
                  return new Leaving(again ? raw.reopen() : raw, silence, watching.sent);
                } catch (IOException e) {
                  return new Broken(e);
                }
              });
      return raw.length() > 0 ? BodyPublishers.fromPublisher(whole, raw.length()) : whole;
    }
  }

  /**
   * Is what came.
   *
   * @param <T> the body
   */
  record Response<T>(int status, Headers headers, T body) {}

  /** Is a body that can't be opened. */
  private static final class Broken extends BlockInput {
    private final IOException why;

    Broken(IOException why) {
      this.why = why;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) throws IOException {
      throw why;
    }
  }

  /** Ends a call whose server is silent for too long. */
  private final class Silence {
    private final Attempt<?> attempt;
    private final long limit = idleTimeout().toNanos();
    private final ScheduledFuture<?> ticks = Timers.every(50, this::look);
    private volatile long since = System.nanoTime();
    private volatile boolean theirs = true; // whether it is the server who is waited for

    Silence(Attempt<?> attempt) {
      this.attempt = attempt;
    }

    private void look() {
      if (theirs && System.nanoTime() - since > limit) {
        ticks.cancel(false);
        Timers.work().execute(attempt::timeOut);
      }
    }

    void waitForUs() {
      theirs = false;
    }

    void waitForThem() {
      since = System.nanoTime();
      theirs = true;
    }

    void stop() {
      ticks.cancel(false);
    }
  }

  /** Is the body of a request while it is sent: waiting for what is sent is nobody's silence. */
  private static final class Leaving extends BlockInput {
    private final InputStream in;
    private final Silence silence;
    private final AtomicLong sent;

    Leaving(InputStream in, Silence silence, AtomicLong sent) {
      this.in = in;
      this.silence = silence;
      this.sent = sent;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) throws IOException {
      silence.waitForUs();
      try {
        int n = in.read(buffer, offset, length);
        sent.addAndGet(Math.max(0, n));
        return n;
      } finally {
        silence.waitForThem();
      }
    }

    @Override
    public void close() throws IOException {
      in.close();
    }
  }

  static void close(InputStream stream) {
    try {
      stream.close();
    } catch (IOException e) {
      // Nobody waits for it.
    }
  }

  static Throwable unwrapped(Throwable error) {
    Throwable e = error;
    while ((e instanceof CompletionException || e instanceof ExecutionException) && e.getCause() != null) {
      e = e.getCause();
    }
    return e;
  }

  static UnreachableException interrupted(Call<?, ?, ?> call, InterruptedException e) {
    return new UnreachableException(
        call.name(), UnreachableException.Reason.CANCELLED, "the thread was interrupted", e);
  }

  static Headers headersOf(HttpHeaders other) {
    Headers all = new Headers();
    other.map().forEach((name, values) -> values.forEach(value -> all.came(name, value)));
    return all;
  }

  static UnreachableException unreachable(Call<?, ?, ?> call, Throwable error, boolean timedOut) {
    UnreachableException.Reason reason = UnreachableException.Reason.LOST;
    if (timedOut || (error instanceof HttpTimeoutException && !(error instanceof HttpConnectTimeoutException))) {
      reason = UnreachableException.Reason.TIMED_OUT;
    } else if (isRefused(error)) {
      reason = UnreachableException.Reason.REFUSED;
    } else if (error instanceof CancellationException || error instanceof InterruptedIOException) {
      reason = UnreachableException.Reason.CANCELLED;
    }
    String detail = error.getMessage() == null ? error.getClass().getSimpleName() : error.getMessage();
    if (error instanceof CancellationException) {
      detail = ""; // the reason says it
    }
    return new UnreachableException(call.name(), reason, detail, error);
  }

  private static boolean isRefused(Throwable error) {
    return error instanceof ConnectException
        || error instanceof UnresolvedAddressException
        || error instanceof HttpConnectTimeoutException;
  }

  /** Tells how long to wait after a failure, in milliseconds, or -1 where the call is not sent again. */
  private static long pauseAfter(Throwable error, int number) {
    // A kept-alive connection that was closed before it answered anything.
    String message = String.valueOf(error.getMessage());
    boolean stale =
        error instanceof EOFException
            || error instanceof ClosedChannelException
            || (error instanceof IOException
                && (message.contains("received no bytes")
                    || message.contains("Connection reset")
                    || message.contains("Broken pipe")
                    || message.contains("connection closed locally")));
    return isRefused(error) || stale ? jitter(number) : -1;
  }

  private static long pauseAfter(Response<?> response, int number) {
    int status = response.status();
    if (status != 429 && status != 502 && status != 503 && status != 504) {
      return -1;
    }
    String after = response.headers().first("Retry-After");
    if (after == null) {
      return jitter(number);
    }
    if (after.chars().allMatch(c -> c >= '0' && c <= '9') && !after.isEmpty()) {
      return after.length() > 9 ? Long.MAX_VALUE / 2_000_000 : Long.parseLong(after) * 1000;
    }
    try {
      Instant at = ZonedDateTime.parse(after, DateTimeFormatter.RFC_1123_DATE_TIME).toInstant();
      return Math.max(0, Duration.between(Instant.now(), at).toMillis());
    } catch (DateTimeParseException e) {
      return jitter(number);
    }
  }

  private static long jitter(int number) {
    return ThreadLocalRandom.current().nextLong(100L << Math.min(number, 6));
  }

  private static final class Collector implements HttpResponse.BodySubscriber<byte[]> {
    private final long limit;
    private final CompletableFuture<byte[]> result = new CompletableFuture<>();
    private volatile Flow.Subscription subscription;
    private byte[] body = {};
    private int size;

    Collector(long limit) {
      this.limit = limit;
      CompletableFuture<?> unused =
          result.whenComplete(
              (whole, error) -> {
                Flow.Subscription s = subscription;
                if (result.isCancelled() && s != null) {
                  s.cancel();
                }
              });
    }

    @Override
    public CompletionStage<byte[]> getBody() {
      return result;
    }

    @Override
    public void onSubscribe(Flow.Subscription s) {
      subscription = s;
      if (result.isDone()) {
        s.cancel();
      } else {
        s.request(Long.MAX_VALUE);
      }
    }

    @Override
    public void onNext(List<ByteBuffer> buffers) {
      for (ByteBuffer b : buffers) {
        int n = (int) Math.min(b.remaining(), limit + 1 - size);
        if (n > body.length - size) {
          body = Arrays.copyOf(body, (int) Math.min(Math.max(2L * size, size + n), Integer.MAX_VALUE - 8));
        }
        b.get(body, size, n);
        size += n;
      }
      if (size > limit) {
        subscription.cancel();
        onComplete();
      }
    }

    @Override
    public void onError(Throwable error) {
      result.completeExceptionally(error);
    }

    @Override
    public void onComplete() {
      result.complete(size == body.length ? body : Arrays.copyOf(body, size));
    }
  }

  /** Makes an answer, or an error, of what came. */
  <A> A understand(Call<?, ?, A> call, int status, Headers came, byte[] body, Attempt<?> attempt) {
    attempt.watching.received.addAndGet(body.length);
    byte[] plain = plain(call, status, came, body);
    String type = Media.bare(came.first("Content-Type"));
    if (status == 304 && attempt.conditional) {
      String tag = came.first("ETag");
      throw new NotModifiedException(call.name(), tag == null ? "" : tag);
    } else if (!call.succeeds(status)) {
      throw failure(call, status, type, plain);
    } else if (call.answer == null || call.answerStream) {
      return null;
    }
    return taken(call, call.answer, status, came, type, plain, null);
  }

  private byte[] plain(Call<?, ?, ?> call, int status, Headers came, byte[] body) {
    String coding = came.first("Content-Encoding");
    byte[] plain = body;
    if (body.length <= options.answerLimit && !Compression.isPlain(coding)) {
      if (!Compression.isGzip(coding)) {
        throw new BadAnswerException(call.name(), status, "its content coding is \"" + coding + "\"", null);
      }
      plain = Compression.expanded(body, options.answerLimit);
      if (plain == null) {
        throw new BadAnswerException(call.name(), status, "it is not whole gzip", null);
      }
    }
    if (plain.length > options.answerLimit) {
      throw new BadAnswerException(call.name(), status, "it is larger than " + options.answerLimit + " bytes", null);
    }
    return plain;
  }

  /** Makes an answer of its body and of what came elsewhere. */
  private <A> A taken(
      Call<?, ?, ?> call, Call.Side<A> side, int status, Headers came, String mediaType, byte[] whole, Body raw) {
    String type = mediaType;
    byte[] body = whole;
    if (side.hasBody()) {
      if (side.travel != null && body.length == 0) { // reads as if all of it were absent
        type = Media.JSON;
        body = new byte[] {'{', '}'};
      } else if (type.isEmpty() && body.length == 0) {
        throw new BadAnswerException(call.name(), status, "it has no body", null);
      } else if (!type.equals(Media.CBOR) && !type.equals(Media.JSON)) {
        throw new BadAnswerException(call.name(), status, "its type is \"" + type + "\"", null);
      }
    }
    try {
      if (side.travel == null) {
        return side.read(Media.encoding(type), body, options.answerItemLimit);
      }
      Arguments a = new Arguments(side.placed(), p -> received(came, p));
      A answer = side.travel.message(Media.encoding(type), body, options.answerItemLimit, a, raw);
      if (!a.violations.isEmpty()) {
        Violation v = a.violations.get(0);
        throw new BadAnswerException(
            call.name(), status, v.pointer() + " in its " + v.in() + " " + v.detail(), null);
      }
      return answer;
    } catch (PayloadException e) {
      throw new BadAnswerException(call.name(), status, e.getMessage(), e);
    }
  }

  /** Is where what travels outside of an answer's body is found. */
  private static List<String> received(Headers came, Placed p) {
    if (p.in().equals("header")) {
      List<String> found = came.all(p.parameter());
      return found.size() > 1 && p.isVerbatim() ? List.of(String.join(", ", found)) : found;
    }
    List<String> lines = came.all("Set-Cookie");
    for (int i = lines.size() - 1; i >= 0; i--) { // the last one set is the one that is kept
      String pair = lines.get(i).split(";", 2)[0];
      int equals = pair.indexOf('=');
      if (equals > 0 && pair.substring(0, equals).strip().equals(p.parameter())) {
        return List.of(pair.substring(equals + 1).strip());
      }
    }
    return List.of();
  }

  /** Turns an answer that is not a success into an error. */
  static RuntimeException failure(Call<?, ?, ?> call, int status, String type, byte[] body) {
    if (!type.equals(Media.PROBLEM)) {
      if (status >= 400) {
        return new ProblemException(
            call.name(), Problem.of(Problem.BLANK, Statuses.text(status), status, beginning(body)));
      }
      return new BadAnswerException(call.name(), status, "it is not problem details", null);
    }
    Problem p;
    try {
      p = Problem.CODEC.fromJson(body);
    } catch (PayloadException e) {
      return new BadAnswerException(call.name(), status, e.getMessage(), e);
    }
    if (p.status() == 0) {
      p = new Problem(p.type(), p.title(), status, p.detail(), p.instance(), p.violations(), p.fields());
    }
    return typed(call, p);
  }

  /** Is how a text begins that somebody else wrote. */
  private static String beginning(byte[] body) {
    String text =
        new String(body, 0, Math.min(body.length, 800), StandardCharsets.UTF_8).replace("\ufffd", "").strip();
    text = text.replaceAll("\\s+", " ");
    int length = text.codePointCount(0, text.length());
    return length > 200 ? text.substring(0, text.offsetByCodePoints(0, 200)) + "…" : text;
  }

  /** Is the error that a call declares where a problem is one. */
  static RuntimeException typed(Call<?, ?, ?> call, Problem p) {
    if (call.declares(p.name())) {
      try {
        String fields = p.fields() == null ? "{}" : p.fields();
        return call.failure(p.name(), fields.getBytes(StandardCharsets.UTF_8));
      } catch (PayloadException e) {
        return new BadAnswerException(call.name(), p.status(), e.getMessage(), e);
      }
    }
    return new ProblemException(call.name(), p);
  }

  // Bodies that come as they are.

  private <A> A rawAnswer(Call<?, ?, A> call, Response<InputStream> response, Attempt<?> attempt) {
    if (!call.succeeds(response.status()) || response.status() == 204) {
      byte[] body;
      try (InputStream in = response.body()) {
        body = in.readNBytes((int) Math.min(options.answerLimit + 1, Integer.MAX_VALUE - 8));
      } catch (IOException e) {
        throw new CompletionException(e);
      }
      return understand(call, response.status(), response.headers(), body, attempt);
    }
    String type = response.headers().first("Content-Type");
    String length = response.headers().first("Content-Length");
    attempt.keepsOpen = true;
    Coming coming = new Coming(call, response.body(), attempt.watching);
    Body body = Body.of(type == null ? "" : type, coming, length == null ? -1 : Long.parseLong(length.strip()));
    try {
      return taken(call, call.answer, response.status(), response.headers(), "", new byte[0], body);
    } catch (RuntimeException e) {
      attempt.keepsOpen = false;
      close(response.body());
      throw e;
    }
  }

  /** Is the body of an answer, as its caller reads it. */
  private static final class Coming extends BlockInput {
    private final Call<?, ?, ?> call;
    private final InputStream in;
    private final Watching watching;

    Coming(Call<?, ?, ?> call, InputStream in, Watching watching) {
      this.call = call;
      this.in = in;
      this.watching = watching;
    }

    @Override
    public int read(byte[] buffer, int offset, int length) throws IOException {
      try {
        int n = in.read(buffer, offset, length);
        if (n < 0) {
          watching.end(null);
        } else {
          watching.received.addAndGet(n);
        }
        return n;
      } catch (IOException e) {
        UnreachableException lost = unreachable(call, e, e instanceof java.net.SocketTimeoutException);
        watching.end(lost);
        close();
        throw new IOException(lost.getMessage(), lost);
      }
    }

    @Override
    public void close() throws IOException {
      in.close();
      watching.end(null);
    }
  }

  // Streams.

  /**
   * Makes a call that is answered by a stream.
   *
   * @param <Q> the request
   * @param <A> the elements of the answer
   * @param call what both sides know of it
   * @param request what is sent, or null
   * @param own options of this call, or null
   * @return the stream, which has begun
   */
  public <Q, A> AnswerStream<A> stream(Call<?, Q, A> call, Q request, CallOptions own) {
    return await(call, beginStream(call, request, own, Thread.currentThread()));
  }

  /**
   * Makes a call that is answered by a stream.
   *
   * @param <Q> the request
   * @param <A> the elements of the answer
   * @param call what both sides know of it
   * @param request what is sent, or null
   * @param own options of this call, or null
   * @return the stream, once it has begun
   */
  public <Q, A> CompletableFuture<AnswerStream<A>> streamAsync(Call<?, Q, A> call, Q request, CallOptions own) {
    return beginStream(call, request, own, null);
  }

  private <Q, A> Attempt<AnswerStream<A>> beginStream(Call<?, Q, A> call, Q request, CallOptions own, Thread waits) {
    Attempt<AnswerStream<A>> attempt = new Attempt<>(call, own == null ? CallOptions.none() : own, waits);
    attempt.start(
        () ->
            attempt
                .opened(call.request, request, incoming(), false)
                .thenApplyAsync(response -> begun(call, response, attempt), attempt::carryOn));
    return attempt;
  }

  private <A> AnswerStream<A> begun(
      Call<?, ?, A> call, Response<InputStream> response, Attempt<?> attempt) {
    String type = Media.bare(response.headers().first("Content-Type"));
    boolean sequence = type.equals(Media.CBOR_SEQ) || type.equals(Media.JSON_SEQ);
    boolean success = response.status() / 100 == 2;
    if (!success || !sequence) {
      byte[] body;
      try (InputStream in = response.body()) {
        body = success ? new byte[0] : in.readNBytes((int) Math.min(options.answerLimit + 1, Integer.MAX_VALUE - 8));
      } catch (IOException e) {
        throw new CompletionException(e);
      }
      if (success) {
        throw new BadAnswerException(call.name(), response.status(), "its type is \"" + type + "\"", null);
      }
      throw failure(call, response.status(), type, plain(call, response.status(), response.headers(), body));
    }
    attempt.keepsOpen = true;
    return new AnswerStream<>(this, call, response.status(), Media.encoding(type), response.body(), attempt.watching);
  }

  /**
   * Makes a call whose request is a stream.
   *
   * @param <H> the head
   * @param <Q> the elements of the request
   * @param <A> the answer
   * @param call what both sides know of it
   * @param head what comes before the stream, or null
   * @param own options of this call, or null
   * @return sends the elements
   */
  public <H, Q, A> Sender<Q, A> sender(Call<H, Q, A> call, H head, CallOptions own) {
    return Sender.begin(this, call, head, own == null ? CallOptions.none() : own);
  }

  /**
   * Makes a call that streams both ways.
   *
   * @param <H> the head
   * @param <Q> the elements of the request
   * @param <A> the elements of the answer
   * @param call what both sides know of it
   * @param head what comes before the stream, or null
   * @param own options of this call, or null
   * @return the conversation, which has begun
   */
  public <H, Q, A> Conversation<Q, A> converse(Call<H, Q, A> call, H head, CallOptions own) {
    return Conversation.begin(this, call, head, own == null ? CallOptions.none() : own);
  }

  private BodyHandler<InputStream> incoming() {
    return info -> new AnswerBody(idleTimeout().toMillis());
  }

  /** Is how a call goes, for who watches it. */
  final class Watching {
    private final Instant start = Instant.now();
    private final long startNanos = System.nanoTime();
    final AtomicLong received = new AtomicLong();
    final AtomicLong sent = new AtomicLong();
    volatile int status;
    final AtomicInteger tries = new AtomicInteger();
    private Consumer<Watched> told;

    Watching(Call<?, ?, ?> call, Headers with) {
      told = options.watcher == null ? null : options.watcher.apply(call, with);
    }

    /** Tells the watcher, once, that the call is over. */
    void end(Throwable error) {
      Consumer<Watched> once;
      synchronized (this) {
        once = told;
        told = null;
      }
      if (once != null) {
        Duration took = Duration.ofNanos(System.nanoTime() - startNanos);
        Throwable failed = error instanceof NotModifiedException ? null : error;
        once.accept(new Watched(start, took, status, tries.get(), received.get(), sent.get(), failed));
      }
    }
  }
}
