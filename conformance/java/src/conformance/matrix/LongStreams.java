package conformance.matrix;

import conformance.gen.faithful.web.AnswerStream;
import conformance.gen.faithful.web.Sender;
import conformance.gen.faithful.wire.Body;
import conformance.gen.skerry.matrix.CountRequest;
import conformance.gen.skerry.matrix.Crate;
import conformance.gen.skerry.matrix.CrateRequest;
import conformance.gen.skerry.matrix.PierClient;
import conformance.gen.skerry.matrix.Tick;
import conformance.gen.skerry.matrix.Total;
import java.io.IOException;
import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;

/**
 * The client in Java of long streams: it prints how much memory it came to need, in KiB. The reader of a stream is slow at
 * first.
 */
public final class LongStreams {
  private LongStreams() {}

  private static long count(PierClient client, long count, long size) throws InterruptedException {
    long seen = 0;
    try (AnswerStream<Tick> answers = client.count(CountRequest.builder().count(count).size(size).build())) {
      while (answers.hasNext()) {
        if (answers.next().n() == 0) {
          Thread.sleep(1000);
        }
        seen++;
      }
    }
    return seen;
  }

  private static long sum(PierClient client, long count, int size) {
    String text = "x".repeat(size);
    try (Sender<Tick, Total> sender = client.sum()) {
      for (long i = 0; i < count; i++) {
        sender.send(Tick.builder().n(1).text(i < 50 ? "slow" : text).build());
      }
      return sender.finish().total();
    }
  }

  private static long stow(PierClient client, long size) {
    return client.stow(Crate.builder().load(Body.of("", new Server.Zeros(size), size)).build()).total();
  }

  private static long unload(PierClient client, long size) throws IOException {
    long seen = 0;
    byte[] buffer = new byte[65536];
    try (InputStream load = client.unload(CrateRequest.builder().size(size).build()).load()) {
      for (int n = load.read(buffer); n >= 0; n = load.read(buffer)) {
        seen += n;
      }
    }
    return seen;
  }

  /** Is told the server, the call, how many elements or blocks, and how large each is. */
  public static void main(String[] args) throws Exception {
    PierClient client = PierClient.to(args[0]).build();
    long count = Long.parseLong(args[2]);
    int size = Integer.parseInt(args[3]);
    long seen =
        switch (args[1]) {
          case "count" -> count(client, count, size);
          case "sum" -> sum(client, count, size);
          case "stow" -> stow(client, count * size) / size;
          default -> unload(client, count * size) / size;
        };
    if (seen != count) {
      throw new AssertionError(seen + " came, not " + count);
    }
    for (String line : Files.readAllLines(Path.of("/proc/self/status"))) {
      if (line.startsWith("VmHWM:")) {
        System.out.println(line.replaceAll("[^0-9]", ""));
      }
    }
  }
}
