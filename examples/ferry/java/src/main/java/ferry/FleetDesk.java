package ferry;

import ferry.gen.faithful.web.Context;
import ferry.gen.skerry.common.NotFound;
import ferry.gen.skerry.fleet.Fleet;
import ferry.gen.skerry.fleet.FleetAnswer;
import ferry.gen.skerry.fleet.FleetRequest;
import ferry.gen.skerry.fleet.Position;
import ferry.gen.skerry.fleet.StalePosition;
import ferry.gen.skerry.fleet.Vessel;
import ferry.gen.skerry.fleet.VesselRequest;
import java.util.List;

/** Serves the fleet. */
final class FleetDesk extends Fleet {
  private final Line line;

  FleetDesk(Line line) {
    this.line = line;
  }

  @Override
  public FleetAnswer list(FleetRequest request, Context context) {
    boolean isAsked = request.state().filter(state -> !state.equals(line.vessel.state())).isEmpty();
    return FleetAnswer.builder().vessels(isAsked ? List.of(line.vessel) : List.of()).build();
  }

  @Override
  public Vessel vessel(VesselRequest request, Context context) throws NotFound {
    if (!request.id().equals(line.vessel.id())) {
      throw NotFound.builder().what("vessel " + request.id()).build();
    }
    return line.vessel;
  }

  @Override
  public void report(Position position, Context context) throws StalePosition {
    synchronized (line) {
      Position known = line.positions.get(position.vessel());
      if (known != null && known.seenAt().isAfter(position.seenAt())) {
        throw StalePosition.builder().knownSince(known.seenAt()).build();
      }
      line.positions.put(position.vessel(), position);
    }
  }
}
