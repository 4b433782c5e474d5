package conformance.matrix;

import conformance.gen.faithful.web.AnswerStream;
import conformance.gen.faithful.web.BadAnswerException;
import conformance.gen.faithful.web.CallOptions;
import conformance.gen.faithful.web.ClientBuilder;
import conformance.gen.faithful.web.Conversation;
import conformance.gen.faithful.web.MissingCredentialException;
import conformance.gen.faithful.web.NotModifiedException;
import conformance.gen.faithful.web.ProblemException;
import conformance.gen.faithful.web.Sender;
import conformance.gen.faithful.web.Trace;
import conformance.gen.faithful.web.UnreachableException;
import conformance.gen.faithful.wire.Body;
import conformance.gen.faithful.wire.InvalidRequestException;
import conformance.gen.skerry.matrix.BerthAnswer;
import conformance.gen.skerry.matrix.BerthRequest;
import conformance.gen.skerry.matrix.Boarded;
import conformance.gen.skerry.matrix.CountRequest;
import conformance.gen.skerry.matrix.EchoAnswer;
import conformance.gen.skerry.matrix.EchoRequest;
import conformance.gen.skerry.matrix.Forgotten;
import conformance.gen.skerry.matrix.Gangway;
import conformance.gen.skerry.matrix.HangRequest;
import conformance.gen.skerry.matrix.Hung;
import conformance.gen.skerry.matrix.LookRequest;
import conformance.gen.skerry.matrix.MoveRequest;
import conformance.gen.skerry.matrix.Moved;
import conformance.gen.skerry.matrix.Nothing;
import conformance.gen.skerry.matrix.Photo;
import conformance.gen.skerry.matrix.PhotoRequest;
import conformance.gen.skerry.matrix.PierClient;
import conformance.gen.skerry.matrix.PierFull;
import conformance.gen.skerry.matrix.RefuseRequest;
import conformance.gen.skerry.matrix.Scanned;
import conformance.gen.skerry.matrix.Side;
import conformance.gen.skerry.matrix.SleepRequest;
import conformance.gen.skerry.matrix.Stamp;
import conformance.gen.skerry.matrix.StampRequest;
import conformance.gen.skerry.matrix.Tick;
import conformance.gen.skerry.matrix.Total;
import java.io.ByteArrayInputStream;
import java.io.IOException;
import java.lang.management.ManagementFactory;
import java.lang.management.ThreadMXBean;
import java.math.BigDecimal;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ThreadLocalRandom;
import java.util.concurrent.TimeUnit;
import java.util.function.LongConsumer;
import java.util.stream.LongStream;

/** The client of the matrix in Java: it prints a line a case. */
public final class Client {
  private static String base;
  private static boolean json;
  private static PierClient client;

  /** Is a case; it fails by throwing. */
  private interface Case {
    void run() throws Exception;
  }

  private Client() {}

  private static ClientBuilder<PierClient> connect() {
    ClientBuilder<PierClient> builder = PierClient.to(base);
    return json ? builder.json() : builder;
  }

  private static void equal(Object got, Object wanted) {
    if (!wanted.equals(got)) {
      throw new AssertionError(got + " is not " + wanted);
    }
  }

  private static <E extends Throwable> E refused(Class<E> kind, Case act) throws Exception {
    try {
      act.run();
    } catch (Throwable e) {
      if (kind.isInstance(e)) {
        return kind.cast(e);
      } else if (e.getCause() != null && kind.isInstance(e.getCause())) {
        return kind.cast(e.getCause());
      }
      throw new AssertionError("it failed with " + e, e);
    }
    throw new AssertionError("it should have been refused");
  }

  private static void full(long berths, Case act) throws Exception {
    equal(refused(PierFull.class, act).berths(), berths);
  }

  private static void problem(String name, Case act) throws Exception {
    ProblemException e = refused(ProblemException.class, act);
    equal(e.problem(), name);
    equal(e.getMessage().contains("password"), false);
  }

  private static byte[] made(int size) {
    byte[] bytes = new byte[size];
    for (int i = 0; i < size; i++) {
      bytes[i] = (byte) (i % 251);
    }
    return bytes;
  }

  /** Leaves a call, and waits until the server has seen one more caller leave; on a busy machine it is left later. */
  private static void wakes(LongConsumer leave) throws Exception {
    wakes(leave, 100, 1000, 4000);
  }

  private static void wakes(LongConsumer leave, long... running) throws Exception {
    long before = client.woken().total();
    for (long millis : running) {
      leave.accept(millis);
      for (int i = 0; i < 200; i++) {
        if (client.woken().total() > before) {
          return;
        }
        Thread.sleep(10);
      }
    }
    throw new AssertionError("the handler did not notice");
  }

  private static EchoRequest echo(String text) {
    return EchoRequest.builder().text(text).names(Map.of()).build();
  }

  private static void unary() {
    EchoRequest request =
        EchoRequest.builder()
            .text("Håkon \"the\" Skua 🐦\n")
            .at(Instant.parse("2026-07-15T06:58:12.25Z"))
            .names(Map.of("a", -1L, "bb", 1L << 60))
            .build();
    String parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    EchoAnswer answer;
    try (Trace.Scope scope = Trace.enter(new Trace(parent, ""))) {
      equal(scope != null, true);
      answer = client.echo(request);
    }
    equal(answer, EchoAnswer.builder().request(request).trace(parent).build());
    equal(answer.request().amount(), new BigDecimal("1.50"));
    equal(client.echoAsync(request).join().request(), request);

    ThreadMXBean threads = ManagementFactory.getThreadMXBean();
    long before = threads.getTotalStartedThreadCount();
    for (int i = 0; i < 100; i++) {
      equal(client.echo(request).request(), request);
    }
    long started = threads.getTotalStartedThreadCount() - before;
    if (started > 50) { // on few processors, an asynchronous call of the JDK's client starts one
      throw new AssertionError("100 calls started " + started + " threads");
    }
  }

  private static void bound() throws Exception {
    BerthRequest request =
        BerthRequest.builder()
            .code("a/b ?%ø..")
            .number(-9007199254740993L)
            .side(Side.SOUTH)
            .decks(List.of(3, 1))
            .since(LocalDate.of(1968, 5, 1))
            .ticket("50% ; \"é\"")
            .name("Guillemot")
            .wait_(Duration.ofSeconds(90))
            .build();
    equal(
        client.berth(request),
        BerthAnswer.builder()
            .code(request.code())
            .number(request.number())
            .side(request.side())
            .decks(request.decks())
            .since(request.since().get())
            .ticket(request.ticket().get())
            .name(request.name())
            .wait_(request.wait_())
            .build());
    LookRequest look =
        LookRequest.builder()
            .code("EID")
            .side(Side.NORTH)
            .ratio(-0.5e-9)
            .open(false)
            .amount(new BigDecimal("-0.10"))
            .hull(UUID.fromString("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"))
            .photo(new byte[] {0, -1})
            .name("12 & = + #")
            .build();
    equal(client.look(look), look);
    LookRequest little = LookRequest.builder().code("EID").build();
    equal(client.look(little), little.toBuilder().open(true).build());
    refused(InvalidRequestException.class, () -> client.look(LookRequest.builder().code("..").build()));
    client.leave(little);
  }

  private static StampRequest.Builder stamp(String code) {
    return StampRequest.builder().code(code);
  }

  private static void answerHeaders() throws Exception {
    String encoding = json ? "json" : "cbor";
    StampRequest request = stamp("kept").visit("a \"b\"; ü").how(" é, 100% \"x\" ").build();
    Stamp came = client.stamp(request);
    equal(
        came,
        Stamp.builder()
            .tag("\"kept." + encoding + "\"")
            .cache("max-age=60")
            .count(4)
            .visit(request.visit().get())
            .name("kept")
            .how(request.how().get())
            .build());
    for (String known : List.of(came.tag(), "\"other\", W/" + came.tag(), "*")) {
      NotModifiedException same =
          refused(NotModifiedException.class, () -> client.stamp(stamp("kept").known(known).build()));
      equal(same.tag(), came.tag());
    }
    equal(
        client.stamp(stamp("new").known(came.tag()).build()),
        Stamp.builder().tag("\"new." + encoding + "\"").cache("private, no-cache").count(3).name("new").build());
    equal(
        client.move(MoveRequest.builder().to("/stamps/new?y=1").build()),
        Moved.builder().at("/stamps/new?y=1").note("moved, to: ü").build());
    equal(client.forget(stamp("3").build()), Forgotten.builder().visit("").left(3L).build());
    equal(client.forget(stamp("x").build()), Forgotten.builder().visit("").build());
    client.ping(Nothing.builder().build());
  }

  private static PhotoRequest.Builder photo(long size) {
    return PhotoRequest.builder().name("n").size(size);
  }

  private static Scanned scanned(Body roll) {
    return Scanned.builder().roll(roll).build();
  }

  private static void rawBodies() throws Exception {
    byte[] photo = made(3_000_000);
    long sum = 0;
    for (byte b : photo) {
      sum += b & 0xff;
    }
    String kind = "image/x-made";
    List<Body> bodies =
        List.of(
            Body.of(kind, new ByteArrayInputStream(photo), -1),
            Body.of(kind, new ByteArrayInputStream(photo), photo.length),
            Body.of(kind, photo));
    for (Body body : bodies) {
      Hung hung =
          client.hang(
              HangRequest.builder().name("a/b").photo(body).label("ü").tags(List.of("x", "y")).build());
      equal(
          hung,
          Hung.builder().name("a/b").size(3_000_000).kind(kind).sum(sum).label("ü").tags(List.of("x", "y")).build());
    }
    for (boolean known : new boolean[] {true, false}) {
      Photo answer = client.photo(photo(3_000_000).known(known).build());
      equal(Arrays.equals(answer.photo().readAllBytes(), photo), true);
      equal(answer.photo().length(), known ? 3_000_000L : -1L);
      equal(List.of(answer.photo().mediaType(), answer.name(), answer.tag().get()), List.of(kind, "n", "\"n\""));
      // One that fails in the middle is not whole.
      Photo half = client.photo(photo(3_000_000).known(known).fails(2_000_000L).build());
      refused(UnreachableException.class, () -> half.photo().readAllBytes());
      // One that fails at once is a problem.
      problem("internal", () -> client.photo(photo(3).known(known).fails(0L).build()));
    }
    List<String> seen = new ArrayList<>();
    CallOptions options =
        CallOptions.none().header("range", "bytes=990-").answered(h -> seen.add(h.first("content-range")));
    Photo part = client.photo(photo(1000).build(), options);
    equal(Arrays.equals(part.photo().readAllBytes(), Arrays.copyOfRange(made(1000), 990, 1000)), true);
    equal(seen, List.of("bytes 990-999/1000"));
    equal(Arrays.equals(client.back(scanned(Body.of("", made(1000)))).roll().readAllBytes(), made(1000)), true);
    for (Body wrong : List.of(Body.of("", made(9)), Body.of("text/plain", made(10)), Body.of("", new byte[0]))) {
      refused(InvalidRequestException.class, () -> client.back(scanned(wrong)));
    }
    // What the client can't know before: the answer has begun, or has not.
    for (int size : new int[] {9, 1001}) {
      try {
        client.back(scanned(Body.of("", new ByteArrayInputStream(made(size)), -1))).roll().readAllBytes();
        throw new AssertionError(size + " bytes came back");
      } catch (ProblemException e) {
        equal(e.problem(), "invalid-request");
      } catch (IOException e) {
        equal(e.getCause() instanceof UnreachableException, true);
      } catch (UnreachableException e) {
        equal(e.reason(), UnreachableException.Reason.LOST); // while the request was still on its way
      }
    }
    client.photo(photo(900_000_000).build()).photo().close();
  }

  private static void compression() throws Exception {
    String text = "Håkon ".repeat(5000);
    for (boolean compressed : new boolean[] {true, false}) {
      PierClient own = (compressed ? connect().compression() : connect()).build();
      List<String> told = new ArrayList<>();
      CallOptions options =
          CallOptions.none().answered(h -> told.add(String.valueOf(h.first("content-encoding"))));
      equal(own.echo(echo(text), options).request().text().get(), text);
      // What is small, or secret, is not compressed.
      own.echo(EchoRequest.builder().names(Map.of()).build(), options);
      own.hush(echo(text), options);
      equal(told, List.of(compressed ? "gzip" : "null", "null", "null"));
    }
    // Limits hold for what comes out.
    PierClient narrow = connect().compression().answerLimit(10_000).build();
    refused(BadAnswerException.class, () -> narrow.echo(echo(text)));
  }

  private static CountRequest.Builder counting(long count) {
    return CountRequest.builder().count(count);
  }

  private static List<Long> all(AnswerStream<Tick> stream) {
    List<Long> numbers = new ArrayList<>();
    try (stream) {
      stream.forEachRemaining(tick -> numbers.add(tick.n()));
    }
    return numbers;
  }

  private static void answerStream() {
    equal(all(client.count(counting(5).build())), List.of(0L, 1L, 2L, 3L, 4L));
    equal(all(client.count(counting(0).build())), List.of());
    equal(all(client.count(counting(20).size(99_000).build())).size(), 20);
  }

  private static Tick tick(long n) {
    return Tick.builder().n(n).build();
  }

  private static Tick tick(long n, String text) {
    return Tick.builder().n(n).text(text).build();
  }

  private static long sum(PierClient of, Iterable<Tick> ticks) {
    try (Sender<Tick, Total> sender = of.sum()) {
      ticks.forEach(sender::send);
      return sender.finish().total();
    }
  }

  private static void requestStream() {
    for (long n : new long[] {0, 1, 1000}) {
      equal(sum(client, LongStream.range(0, n).mapToObj(Client::tick).toList()), n * (n - 1) / 2);
    }
  }

  private static List<Tick> mirrored(PierClient of, List<Tick> sent) {
    try (Conversation<Tick, Tick> talk = of.mirror()) {
      CompletableFuture<Void> sending =
          CompletableFuture.runAsync(
              () -> {
                sent.forEach(talk::send);
                talk.finish();
              });
      List<Tick> came = new ArrayList<>();
      talk.forEachRemaining(came::add);
      sending.join();
      return came;
    }
  }

  private static void bothWays() {
    List<Tick> sent = new ArrayList<>();
    for (int n = 0; n < 50; n++) {
      sent.add(tick(n, "é".repeat(n)));
    }
    equal(mirrored(client, sent), sent);
  }

  private static Boarded boarded(Gangway at, long total) {
    return Boarded.builder()
        .code(at.code())
        .decks(at.decks())
        .device(at.device().orElse(null))
        .visit(at.visit().orElse(null))
        .total(at.since() + total)
        .build();
  }

  private static Boarded board(Gangway head, List<Tick> ticks) {
    try (Sender<Tick, Boarded> sender = client.board(head)) {
      ticks.forEach(sender::send);
      return sender.finish();
    }
  }

  private static void heads() throws Exception {
    List<Tick> ticks = List.of(tick(1), tick(2), tick(3));
    Gangway whole =
        Gangway.builder()
            .code("a/b ?%ø..")
            .since(7)
            .decks(List.of(3, 1))
            .device("é, 100% \"x\"")
            .visit("50% ; \"é\"")
            .build();
    Gangway little = Gangway.builder().code("EID").decks(List.of()).build();
    for (Gangway head : List.of(whole, little)) {
      equal(board(head, ticks), boarded(head, 6));
      try (Conversation<Tick, Boarded> talk = client.file(head)) {
        ticks.forEach(talk::send);
        talk.finish();
        List<Boarded> came = new ArrayList<>();
        talk.forEachRemaining(came::add);
        equal(came, List.of(boarded(head, 1), boarded(head, 3), boarded(head, 6)));
      }
    }
    full(0, () -> board(little.toBuilder().code("full").build(), List.of()));
    for (Gangway wrong : List.of(little.toBuilder().code("..").build(), little.toBuilder().since(1001).build())) {
      refused(InvalidRequestException.class, () -> board(wrong, List.of()));
      refused(InvalidRequestException.class, () -> client.file(wrong));
    }
  }

  private static RefuseRequest how(String how) {
    return RefuseRequest.builder().how(how).build();
  }

  private static void declaredError() throws Exception {
    full(7, () -> client.refuse(how("declared")));
    for (String how : List.of("panic", "another", "else", "null")) {
      problem("internal", () -> client.refuse(how(how)));
    }
    full(0, () -> all(client.count(counting(1).failsAfter(0L).build())));
  }

  private static void invalidRequest() throws Exception {
    refused(InvalidRequestException.class, () -> client.echo(echo("")));
    // What the client can't know: a body that is too large for this server.
    problem("too-large", () -> client.echo(echo("é".repeat(199_999))));
  }

  private static void lateFailure() throws Exception {
    List<Long> seen = new ArrayList<>();
    full(3, () -> client.count(counting(9).failsAfter(3L).build()).forEachRemaining(t -> seen.add(t.n())));
    problem(
        "internal",
        () -> client.count(counting(9).failsAfter(3L).badly(true).build()).forEachRemaining(t -> seen.add(t.n())));
    full(
        5,
        () -> {
          try (Conversation<Tick, Tick> talk = client.mirror()) {
            talk.send(tick(5, "a"));
            talk.send(tick(5, "full"));
            talk.forEachRemaining(t -> seen.add(t.n()));
          }
        });
    equal(seen, List.of(0L, 1L, 2L, 0L, 1L, 2L, 5L));
  }

  private static Iterable<Tick> ticks(String text) {
    return () ->
        LongStream.range(0, 2000).mapToObj(i -> i == 3 ? tick(9, text) : tick(1, "x".repeat(1000))).iterator();
  }

  private static void earlyAnswer() throws Exception {
    full(9, () -> sum(client, ticks("full")));
    equal(sum(client, ticks("stop")), 3L);
  }

  private static void earlyRefusal() throws Exception {
    PierClient expired = connect().credential("desk", "expired").build();
    problem(
        "unauthenticated",
        () -> {
          try (Sender<Tick, Total> sender = expired.guardedSum()) {
            for (int i = 0; i < 4200; i++) { // over 4 MiB
              sender.send(tick(1, "x".repeat(1000)));
            }
            sender.finish();
          }
        });
  }

  private static SleepRequest sleep(long id) {
    return SleepRequest.builder().id(id).build();
  }

  private static void cancellation() throws Exception {
    // Once, where the server is known to see nothing of it.
    long[] running = System.getenv("MATRIX_UNSEEN") == null ? new long[] {100, 1000, 4000} : new long[] {100};
    wakes(
        millis -> {
          CompletableFuture<Void> call = client.sleepAsync(sleep(1));
          pause(millis);
          call.cancel(true);
        },
        running);
    wakes(
        millis -> {
          Thread caller = Thread.currentThread();
          CompletableFuture.delayedExecutor(millis, TimeUnit.MILLISECONDS).execute(caller::interrupt);
          try {
            client.sleep(sleep(1));
            throw new AssertionError("it should have been cancelled");
          } catch (UnreachableException e) {
            equal(e.reason(), UnreachableException.Reason.CANCELLED);
            equal(Thread.interrupted(), true);
          }
        });
  }

  private static void leftStreams() throws Exception {
    wakes(
        millis -> {
          try (AnswerStream<Tick> drift = client.drift(sleep(1))) {
            long n = 0;
            while (n != 2) {
              n = drift.next().n();
            }
          }
        });
    try (Sender<Tick, Total> sender = client.sum()) {
      sender.send(tick(1));
    }
  }

  private static void pause(long millis) {
    try {
      Thread.sleep(millis);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  private static void timeout() throws Exception {
    wakes(
        millis -> {
          PierClient hurried = connect().timeout(Duration.ofMillis(millis)).tries(1).build();
          try {
            hurried.sleep(sleep(1));
            throw new AssertionError("it should have timed out");
          } catch (UnreachableException e) {
            equal(e.reason(), UnreachableException.Reason.TIMED_OUT);
          } catch (ProblemException e) {
            equal(e.problem(), "too-slow");
          }
        });
  }

  private static void missingCredential() throws Exception {
    MissingCredentialException missing = refused(MissingCredentialException.class, () -> client.guarded());
    equal(missing.needs(), "crew + desk | machine");
    equal(
        connect().credential("desk", "k").credential("skerry.matrix.crew", () -> "ada").build().guarded().crew().get(),
        "ada");
    connect().credential("machine", "m&m").build().guarded();
    problem("forbidden", () -> connect().credential("desk", "stolen").credential("crew", "c").build().guarded());
    // A client that forgets them all the same is told so by the server.
    problem("unauthenticated", () -> connect().credential("machine", "").build().guarded());
  }

  private static String some(long size) {
    return size == 0 || size == 1000 || size == 3000 ? String.valueOf(size) : "+";
  }

  /** Is told of calls of every kind, as they end, and puts them in a trace. */
  private static void watching() throws Exception {
    String parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    List<String> told = new ArrayList<>();
    PierClient own =
        connect()
            .watcher(
                (call, headers) -> {
                  headers.set("Traceparent", parent);
                  return w ->
                      told.add(
                          call.name().replace("skerry.matrix.Pier.", "") + " " + w.status() + " " + w.tries() + " "
                              + some(w.sent()) + " " + some(w.received()) + " " + (w.failed() == null ? "-" : "failed"));
                })
            .build();
    equal(own.echo(echo("ü")).trace().get(), parent);
    refused(NotModifiedException.class, () -> own.stamp(stamp("kept").known("*").build()));
    own.hang(HangRequest.builder().name("n").photo(Body.of("image/x-made", made(1000))).tags(List.of()).build());
    equal(own.photo(photo(3000).build()).photo().readAllBytes().length, 3000);
    Photo failing = own.photo(photo(3_000_000).fails(2_000_000L).build());
    refused(UnreachableException.class, () -> failing.photo().readAllBytes());
    full(7, () -> own.refuse(how("declared")));
    own.flaky(sleep(ThreadLocalRandom.current().nextInt(Integer.MAX_VALUE)));
    refused(InvalidRequestException.class, () -> own.look(LookRequest.builder().code("..").build()));
    equal(all(own.count(counting(5).build())).size(), 5);
    try (AnswerStream<Tick> count = own.count(counting(5).build())) {
      equal(count.next().n(), 0L);
    }
    sum(own, List.of(tick(1)));
    equal(mirrored(own, List.of(tick(1))).size(), 1);
    try (Conversation<Tick, Tick> talk = own.mirror()) {
      talk.send(tick(1));
      talk.send(tick(2));
      equal(talk.next().n(), 1L);
    }
    equal(
        told,
        List.of(
            "echo 200 1 + + -",
            "stamp 304 1 0 0 -",
            "hang 200 1 1000 + -",
            "photo 200 1 0 3000 -",
            "photo 200 1 0 + failed",
            "refuse 409 1 + + failed",
            "flaky 200 3 + + -",
            "look 0 0 0 0 failed",
            "count 200 1 + + -",
            "count 200 1 + + -",
            "sum 200 1 + + -",
            "mirror 101 1 + + -",
            "mirror 101 1 + + failed"));
  }

  private static void retry() throws Exception {
    long number = ThreadLocalRandom.current().nextInt(Integer.MAX_VALUE - 1);
    equal(client.flaky(sleep(number)).total(), 3L);
    problem("overloaded", () -> connect().tries(1).build().flaky(sleep(number + 1)));
  }

  private static void notImplemented() throws Exception {
    problem("not-implemented", () -> client.unwritten());
  }

  private static void run(String name, Case act) {
    try {
      act.run();
      System.out.println(name + ": ok");
    } catch (Throwable e) {
      System.out.println(name + ": " + e.toString().lines().findFirst().orElse(""));
      if (System.getenv("MATRIX_STACKS") != null) {
        e.printStackTrace(System.out);
      }
    }
  }

  public static void main(String[] args) {
    base = args[0];
    json = args.length > 1 && args[1].equals("json");
    client = connect().build();
    run("unary", Client::unary);
    run("bound", Client::bound);
    run("answer headers", Client::answerHeaders);
    run("raw bodies", Client::rawBodies);
    run("compression", Client::compression);
    run("watching", Client::watching);
    run("answer stream", Client::answerStream);
    run("request stream", Client::requestStream);
    run("both ways", Client::bothWays);
    run("heads", Client::heads);
    run("declared error", Client::declaredError);
    run("invalid request", Client::invalidRequest);
    run("late failure", Client::lateFailure);
    run("early answer", Client::earlyAnswer);
    run("early refusal", Client::earlyRefusal);
    run("cancellation", Client::cancellation);
    run("left streams", Client::leftStreams);
    run("timeout", Client::timeout);
    run("missing credential", Client::missingCredential);
    run("retry", Client::retry);
    run("not implemented", Client::notImplemented);
    System.exit(0);
  }
}
