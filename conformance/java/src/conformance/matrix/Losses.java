package conformance.matrix;

import conformance.gen.faithful.web.AnswerStream;
import conformance.gen.faithful.web.ClientBuilder;
import conformance.gen.faithful.web.Conversation;
import conformance.gen.faithful.web.Sender;
import conformance.gen.faithful.web.UnreachableException;
import conformance.gen.skerry.matrix.CountRequest;
import conformance.gen.skerry.matrix.PierClient;
import conformance.gen.skerry.matrix.Tick;
import conformance.gen.skerry.matrix.Total;
import java.time.Duration;
import java.util.Iterator;

/**
 * The client in Java of connections that are cut. It calls until a call comes through whole, and holds each that does not
 * against what it is told of it.
 */
public final class Losses {
  private Losses() {}

  private static Tick tick(long n) {
    return Tick.builder().n(n).build();
  }

  private static long length(Iterator<Tick> ticks) {
    long n = 0;
    for (; ticks.hasNext(); ticks.next()) {
      n++;
    }
    return n;
  }

  private static long act(PierClient client, String call) {
    switch (call) {
      case "count":
        try (AnswerStream<Tick> ticks = client.count(CountRequest.builder().count(3).build())) {
          return length(ticks);
        }
      case "sum":
        try (Sender<Tick, Total> sender = client.sum()) {
          for (int n = 0; n < 3; n++) {
            sender.send(tick(n));
          }
          return sender.finish().total();
        }
      default:
        try (Conversation<Tick, Tick> talk = client.mirror()) {
          for (int n = 0; n < 3; n++) {
            talk.send(tick(n));
          }
          talk.finish();
          return length(talk);
        }
    }
  }

  /** Is told the server, the encoding and the call. */
  public static void main(String[] args) {
    ClientBuilder<PierClient> builder = PierClient.to(args[0]).tries(1).timeout(Duration.ofSeconds(10));
    PierClient client = args[1].equals("json") ? builder.json().build() : builder.build();
    for (int cuts = 0; ; cuts++) {
      try {
        long n = act(client, args[2]);
        if (n == 3) {
          System.out.println("whole after " + cuts);
          System.exit(0);
        }
        System.out.println("cut " + cuts + ": " + n + " elements were taken for the whole");
        System.exit(1);
      } catch (UnreachableException e) {
        // as it should be: the next one comes a byte further
      } catch (RuntimeException e) {
        System.out.println("cut " + cuts + ": " + e);
        System.exit(1);
      }
    }
  }
}
