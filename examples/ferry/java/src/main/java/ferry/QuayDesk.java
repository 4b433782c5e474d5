package ferry;

import ferry.gen.faithful.web.Answers;
import ferry.gen.faithful.web.Context;
import ferry.gen.faithful.web.Elements;
import ferry.gen.skerry.common.NotFound;
import ferry.gen.skerry.common.Spot;
import ferry.gen.skerry.fleet.Position;
import ferry.gen.skerry.quay.BoardingScan;
import ferry.gen.skerry.quay.BoardingSummary;
import ferry.gen.skerry.quay.FollowRequest;
import ferry.gen.skerry.quay.Notice;
import ferry.gen.skerry.quay.NoticeRequest;
import ferry.gen.skerry.quay.Passage;
import ferry.gen.skerry.quay.Quay;
import ferry.gen.skerry.quay.Refusal;
import ferry.gen.skerry.quay.Signal;
import java.time.Duration;
import java.util.HashMap;
import java.util.Map;

/** Serves the quay. The calls ring, set_fares and booking_of are not written yet: they answer 501. */
final class QuayDesk extends Quay {
  private final Line line;

  QuayDesk(Line line) {
    this.line = line;
  }

  /** Sends where a vessel is, a few times; a real one would go on until the caller leaves, which send throws. */
  @Override
  public void follow(FollowRequest request, Answers<Position> answers, Context context) throws Exception {
    if (!request.vessel().equals(line.vessel.id())) {
      throw NotFound.builder().what("vessel " + request.vessel()).build();
    }
    for (int minute = 0; minute < 3; minute++) {
      answers.send(
          Position.builder()
              .vessel(request.vessel())
              .spot(Spot.builder().latitude(12.5 + minute / 100.0).longitude(-30.25).build())
              .seenAt(line.sailings.get(0).leavesAt().plus(Duration.ofMinutes(minute)))
              .build());
    }
  }

  /** Counts passages as they come through the door. If it is cut off, the loop throws, and nothing counts. */
  @Override
  public BoardingSummary board(Elements<BoardingScan> scans, Context context) {
    long boarded = 0;
    Map<Refusal, Long> refused = new HashMap<>();
    for (BoardingScan scan : scans) {
      Refusal why = refusal(scan.passage());
      if (why == null) {
        boarded += scan.seats();
      } else {
        refused.merge(why, 1L, Long::sum);
      }
    }
    return BoardingSummary.builder().boarded(boarded).refused(refused).build();
  }

  private static Refusal refusal(Passage passage) {
    if (passage instanceof Passage.Foot || passage instanceof Passage.Group) {
      return null;
    } else if (passage instanceof Passage.Vehicle vehicle) {
      return vehicle.value().metres() > 12 ? Refusal.WRONG_FERRY : null;
    }
    return Refusal.OTHER; // what this server's definitions do not know yet
  }

  /** Answers every signal. */
  @Override
  public void talk(Elements<Signal> signals, Answers<Signal> answers, Context context) throws Exception {
    for (Signal signal : signals) {
      answers.send(Signal.builder().text("Understood: " + signal.text()).build());
    }
  }

  @Override
  public Notice post(Notice notice, Context context) {
    synchronized (line) {
      line.notices.put(notice.code(), notice);
      return notice;
    }
  }

  @Override
  public void unpost(NoticeRequest request, Context context) throws NotFound {
    synchronized (line) {
      if (line.notices.remove(request.code()) == null) {
        throw NotFound.builder().what("a notice for " + request.code().value()).build();
      }
    }
  }
}
