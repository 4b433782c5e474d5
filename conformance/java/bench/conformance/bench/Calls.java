package conformance.bench;

import com.sun.net.httpserver.HttpServer;
import ferry.gen.faithful.About;
import ferry.gen.faithful.web.Context;
import ferry.gen.faithful.web.HttpServerMount;
import ferry.gen.faithful.web.ServerOptions;
import ferry.gen.skerry.booking.BookRequest;
import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.Bookings;
import ferry.gen.skerry.booking.BookingsClient;
import ferry.gen.skerry.booking.Passenger;
import ferry.gen.skerry.common.Money;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.time.Instant;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import java.util.concurrent.TimeUnit;
import org.openjdk.jmh.annotations.Benchmark;
import org.openjdk.jmh.annotations.BenchmarkMode;
import org.openjdk.jmh.annotations.Mode;
import org.openjdk.jmh.annotations.OutputTimeUnit;
import org.openjdk.jmh.annotations.Scope;
import org.openjdk.jmh.annotations.Setup;
import org.openjdk.jmh.annotations.State;
import org.openjdk.jmh.annotations.TearDown;

/** Measures a call over loopback against the JDK's own client and server, which move the same bytes and headers. */
@State(Scope.Benchmark)
@BenchmarkMode(Mode.AverageTime)
@OutputTimeUnit(TimeUnit.MICROSECONDS)
public class Calls {
  private static final InetSocketAddress ANYWHERE = new InetSocketAddress(InetAddress.getLoopbackAddress(), 0);

  private final Booking booking =
      Booking.builder()
          .id(new UUID(1, 9))
          .sailing("EID-0715")
          .passengers(List.of(Passenger.builder().name("Ada Quill").build()))
          .fare(Money.builder().hundredths(1250).build())
          .madeAt(Instant.ofEpochSecond(1_784_000_000L))
          .extras(Map.of())
          .build();
  private final BookRequest request =
      BookRequest.builder().sailing("EID-0715").passengers(booking.passengers()).build();

  private HttpServerMount.Running stubs;
  private BookingsClient client;
  private HttpServer bare;
  private ExecutorService threads;
  private HttpClient http;
  private HttpRequest asked;

  /** Starts both servers. */
  @Setup
  public void start() throws IOException {
    Bookings desk =
        new Bookings() {
          @Override
          public Booking book(BookRequest r, Context context) {
            return booking;
          }
        };
    stubs = HttpServerMount.start(Bookings.serve(desk, ServerOptions.builder().build()), ANYWHERE);
    client = BookingsClient.to("http://127.0.0.1:" + stubs.port()).build();

    byte[] answer = booking.toCbor();
    bare = HttpServer.create(ANYWHERE, 0);
    threads = Executors.newCachedThreadPool();
    bare.setExecutor(threads);
    bare.createContext(
        "/",
        exchange -> {
          try (InputStream in = exchange.getRequestBody();
              OutputStream out = exchange.getResponseBody()) {
            in.readAllBytes();
            exchange.getResponseHeaders().set("Content-Type", "application/cbor");
            exchange.getResponseHeaders().set("Vary", "Accept, Accept-Encoding");
            exchange.getResponseHeaders().set("Cache-Control", "no-store");
            exchange.getResponseHeaders().set("Faithful-Definitions", About.DIGEST);
            exchange.sendResponseHeaders(200, answer.length);
            out.write(answer);
          }
        });
    bare.start();
    http = HttpClient.newBuilder().version(HttpClient.Version.HTTP_1_1).build();
    asked =
        HttpRequest.newBuilder(URI.create("http://127.0.0.1:" + bare.getAddress().getPort() + "/book"))
            .header("Content-Type", "application/cbor")
            .header("Accept", "application/cbor")
            .header("Prefer", "wait=60")
            .POST(HttpRequest.BodyPublishers.ofByteArray(request.toCbor()))
            .build();
  }

  /** Stops both servers. */
  @TearDown
  public void stop() {
    stubs.close();
    bare.stop(0);
    threads.shutdownNow();
  }

  /** Stubs call stubs. */
  @Benchmark
  public Booking ours() {
    return client.book(request);
  }

  /** The JDK's client calls the JDK's server. */
  @Benchmark
  public byte[] theirs() throws IOException, InterruptedException {
    return http.send(asked, HttpResponse.BodyHandlers.ofByteArray()).body();
  }
}
