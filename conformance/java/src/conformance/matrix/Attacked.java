package conformance.matrix;

import conformance.gen.faithful.web.AnswerStream;
import conformance.gen.faithful.web.BadAnswerException;
import conformance.gen.faithful.web.ClientBuilder;
import conformance.gen.faithful.web.Conversation;
import conformance.gen.faithful.web.ProblemException;
import conformance.gen.faithful.web.Sender;
import conformance.gen.faithful.web.UnreachableException;
import conformance.gen.skerry.matrix.CountRequest;
import conformance.gen.skerry.matrix.EchoRequest;
import conformance.gen.skerry.matrix.PierClient;
import conformance.gen.skerry.matrix.Tick;
import conformance.gen.skerry.matrix.Total;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.net.InetAddress;
import java.net.ServerSocket;
import java.net.Socket;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;

/** The client in Java of hostile servers: it prints what came of one call, after how many ms, and what the error says. */
public final class Attacked {
  private static final EchoRequest REQUEST = EchoRequest.builder().names(Map.of()).build();

  private static String server;

  private Attacked() {}

  /** Is what is done to a client. */
  private interface Scene {
    void run() throws Exception;
  }

  private static ClientBuilder<PierClient> hurried() {
    return PierClient.to(server).timeout(Duration.ofSeconds(1)).idleTimeout(Duration.ofSeconds(1));
  }

  private static void count(long pause) throws InterruptedException {
    try (AnswerStream<Tick> ticks = hurried().build().count(CountRequest.builder().count(3).build())) {
      while (ticks.hasNext()) {
        ticks.next();
        Thread.sleep(pause);
      }
    }
  }

  private static void sum() {
    try (Sender<Tick, Total> sender = hurried().build().sum()) {
      for (int i = 0; i < 3; i++) {
        sender.send(Tick.builder().n(1).build());
      }
      sender.finish();
    }
  }

  private static void mirror() {
    try (Conversation<Tick, Tick> talk = hurried().build().mirror()) {
      talk.forEachRemaining(tick -> {});
    }
  }

  /** Interrupts this thread soon: that cancels what it waits for. */
  private static void interrupted(Scene scene) throws Exception {
    Thread caller = Thread.currentThread();
    CompletableFuture.delayedExecutor(500, TimeUnit.MILLISECONDS).execute(caller::interrupt);
    scene.run();
  }

  private static String never() throws InterruptedException {
    new CountDownLatch(1).await();
    return "";
  }

  private static PierClient with(String credential, String value) {
    return PierClient.to(server).credential(credential, value).tries(1).build();
  }

  /** Makes a call that is answered at once: what the runtime needs to begin is not of those that follow. */
  private static void warm() throws IOException {
    String answer = "HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
    try (ServerSocket other = new ServerSocket(0, 1, InetAddress.getLoopbackAddress())) {
      CompletableFuture<Void> answering =
          CompletableFuture.runAsync(
              () -> {
                try (Socket one = other.accept()) {
                  one.getInputStream().read(new byte[10_000]);
                  one.getOutputStream().write(answer.getBytes(StandardCharsets.US_ASCII));
                } catch (IOException e) {
                  throw new UncheckedIOException(e);
                }
              });
      PierClient client = PierClient.to("http://127.0.0.1:" + other.getLocalPort()).tries(1).build();
      try {
        client.echo(REQUEST);
        throw new AssertionError("nobody serves this");
      } catch (ProblemException e) {
        answering.join();
      }
    }
  }

  private static void run(String scene) throws Exception {
    switch (scene) {
      case "echo" -> hurried().build().echo(REQUEST);
      case "count" -> count(0);
      case "slow" -> count(1500);
      case "sum" -> sum();
      case "mirror" -> mirror();
      case "credential" -> hurried().credential("machine", Attacked::never).build().guarded();
      case "cancel" -> interrupted(() -> PierClient.to(server).build().echo(REQUEST));
      case "cancelstream" ->
          interrupted(
              () -> {
                try (AnswerStream<Tick> ticks =
                    PierClient.to(server).build().count(CountRequest.builder().count(3).build())) {
                  ticks.forEachRemaining(tick -> {});
                }
              });
      case "secret" ->
          PierClient.to(server).credential("crew", "s3cret\nEvil: 1").credential("desk", "s3cret").build().guarded();
      case "query" -> with("machine", "s3cret").guarded();
      case "forever" ->
          PierClient.to(server)
              .timeout(Duration.ZERO)
              .idleTimeout(Duration.ofSeconds(1_000_000_000))
              .build()
              .echo(REQUEST);
      default -> throw new IllegalArgumentException(scene);
    }
  }

  /** Is told the server and the scene. */
  public static void main(String[] args) throws IOException {
    server = args[0];
    warm();
    long begun = System.nanoTime();
    String kind = "ok";
    StringBuilder text = new StringBuilder();
    try {
      run(args[1]);
    } catch (UnreachableException e) {
      kind = told("unreachable", e, text);
    } catch (BadAnswerException e) {
      kind = told("bad", e, text);
    } catch (ProblemException e) {
      kind = told("problem", e, text);
    } catch (Exception e) {
      kind = told("other", e, text);
    }
    long took = TimeUnit.NANOSECONDS.toMillis(System.nanoTime() - begun);
    System.out.println(kind + " " + took + " " + text.toString().replace("\n", " "));
    Runtime.getRuntime().halt(0); // what still waits is no matter
  }

  /** Adds what an exception says, with its causes, which loggers print. */
  private static String told(String kind, Throwable e, StringBuilder text) {
    for (Throwable each = e; each != null; each = each.getCause()) {
      text.append(each).append(' ');
    }
    return kind;
  }
}
