package ferry;

import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.Sailing;
import ferry.gen.skerry.fleet.Deck;
import ferry.gen.skerry.fleet.DeckPlan;
import ferry.gen.skerry.fleet.Position;
import ferry.gen.skerry.fleet.Vessel;
import ferry.gen.skerry.fleet.VesselState;
import ferry.gen.skerry.quay.Notice;
import ferry.gen.skerry.quay.SailingCode;
import java.time.Duration;
import java.time.Instant;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.UUID;

/** The ferry line, kept in memory. Whoever reads or changes what changes holds its lock. */
final class Line {
  static final UUID GUILLEMOT = UUID.fromString("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01");
  private static final Instant MORNING = Instant.parse("2026-07-15T07:15:00Z");

  final Vessel vessel =
      Vessel.builder()
          .id(GUILLEMOT)
          .name("Guillemot")
          .decks(
              List.of(
                  DeckPlan.builder().deck(Deck.CAR).seats(0).lanes(4L).build(),
                  DeckPlan.builder().deck(Deck.SALOON).seats(60).build()))
          .state(VesselState.MOORED)
          .names(Map.of("x-skerry", "Guillemot", "x-sound", "Lomvi"))
          .build();
  final List<Sailing> sailings =
      List.of(
          sailing("EID-0715", MORNING, "Eiderwick", "Skerry"),
          sailing("SKE-1030", MORNING.plus(Duration.ofMinutes(195)), "Skerry", "Eiderwick"));

  final Map<String, Integer> seats = new HashMap<>(Map.of("EID-0715", 5, "SKE-1030", 60)); // left, by sailing
  final Map<UUID, Booking> bookings = new HashMap<>();
  final Map<UUID, Position> positions = new HashMap<>();
  final Map<SailingCode, Notice> notices = new HashMap<>();

  private static Sailing sailing(String code, Instant leavesAt, String from, String to) {
    return Sailing.builder().code(code).vessel(GUILLEMOT).leavesAt(leavesAt).from(from).to(to).build();
  }
}
