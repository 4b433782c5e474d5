package conformance.bench;

import com.fasterxml.jackson.annotation.JsonInclude;
import com.fasterxml.jackson.databind.DeserializationFeature;
import com.fasterxml.jackson.databind.ObjectMapper;
import com.fasterxml.jackson.databind.SerializationFeature;
import com.fasterxml.jackson.dataformat.cbor.databind.CBORMapper;
import com.fasterxml.jackson.datatype.jsr310.JavaTimeModule;
import ferry.gen.faithful.wire.Encoding;
import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.BookingState;
import ferry.gen.skerry.booking.Passenger;
import ferry.gen.skerry.booking.Vehicle;
import ferry.gen.skerry.common.Money;
import ferry.gen.skerry.common.Spot;
import ferry.gen.skerry.fleet.Deck;
import ferry.gen.skerry.fleet.DeckPlan;
import ferry.gen.skerry.fleet.FleetAnswer;
import ferry.gen.skerry.fleet.Position;
import ferry.gen.skerry.fleet.Vessel;
import ferry.gen.skerry.fleet.VesselState;
import java.io.IOException;
import java.time.Instant;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.TimeUnit;
import java.util.function.IntFunction;
import java.util.stream.IntStream;
import org.openjdk.jmh.annotations.Benchmark;
import org.openjdk.jmh.annotations.BenchmarkMode;
import org.openjdk.jmh.annotations.Mode;
import org.openjdk.jmh.annotations.OutputTimeUnit;
import org.openjdk.jmh.annotations.Param;
import org.openjdk.jmh.annotations.Scope;
import org.openjdk.jmh.annotations.Setup;
import org.openjdk.jmh.annotations.State;
import org.openjdk.jmh.infra.Blackhole;

/**
 * Measures codecs against Jackson, which writes and reads records of the same content: a hundred messages an operation. Its
 * instants are milliseconds in CBOR and texts in JSON, which is closest to what the stubs write.
 */
@State(Scope.Benchmark)
@BenchmarkMode(Mode.AverageTime)
@OutputTimeUnit(TimeUnit.MICROSECONDS)
public class Codecs {
  private static final int COUNT = 100;

  /** Is how a position looks to Jackson. */
  public record PlainPosition(UUID vessel, PlainSpot spot, Instant seenAt, Double knots) {}

  /** Is how a spot looks to Jackson. */
  public record PlainSpot(double latitude, double longitude) {}

  /** Is how a booking looks to Jackson. */
  @JsonInclude(JsonInclude.Include.NON_NULL)
  public record PlainBooking(
      UUID id,
      String sailing,
      List<PlainPassenger> passengers,
      PlainVehicle vehicle,
      PlainMoney fare,
      Instant madeAt,
      String state,
      String deck,
      Map<String, PlainMoney> extras,
      String email,
      byte[] ticket) {}

  /** Is how a passenger looks to Jackson. */
  public record PlainPassenger(String name, Instant born, boolean needsHelp) {}

  /** Is how a vehicle looks to Jackson. */
  public record PlainVehicle(String plate, double metres) {}

  /** Is how money looks to Jackson. */
  public record PlainMoney(long hundredths, String currency) {}

  /** Is how a fleet looks to Jackson. */
  public record PlainFleet(List<PlainVessel> vessels) {}

  /** Is how a vessel looks to Jackson. */
  public record PlainVessel(
      UUID id, String name, List<PlainDeck> decks, String state, Map<String, String> names) {}

  /** Is how a plan of a deck looks to Jackson. */
  public record PlainDeck(String deck, long seats, long lanes) {}

  /** Reads or writes something. */
  private interface Work<I, O> {
    O of(I input) throws IOException;
  }

  /** Is what is measured. */
  private record Shape<M, P>(
      IntFunction<M> make,
      IntFunction<P> plain,
      Class<P> type,
      Work<M, byte[]> toCbor,
      Work<byte[], M> fromCbor,
      Work<M, byte[]> toJson,
      Work<byte[], M> fromJson) {}

  /** Says which messages are measured. */
  @Param({"position", "booking", "fleet"})
  public String shape;

  /** Says whose codecs are measured. */
  @Param({"ours", "theirs"})
  public String who;

  /** Says what they do. */
  @Param({"ToCbor", "FromCbor", "ToJson", "FromJson"})
  public String what;

  private Work<Blackhole, Void> work;

  private static Instant at(int i) {
    return Instant.ofEpochSecond(1_784_000_000L + i * 3600L, i % 3 * 250_000_000L);
  }

  private static Money money(long hundredths) {
    return Money.builder().hundredths(hundredths).build();
  }

  private static <V> Map<String, V> extras(int i, V each) {
    Map<String, V> extras = new LinkedHashMap<>();
    List.of("meal", "cabin").subList(0, Math.min(2, i % 3)).forEach(key -> extras.put(key, each));
    return extras;
  }

  private static Booking booking(int i) {
    List<Passenger> passengers =
        IntStream.range(0, 1 + i % 4)
            .mapToObj(
                n -> Passenger.builder().name("Passenger number " + n + " of Skerry").born(at(n)).needsHelp(n == 2).build())
            .toList();
    boolean even = i % 2 == 0;
    return Booking.builder()
        .id(new UUID(i, 9))
        .sailing("EID-%04d".formatted(i))
        .passengers(passengers)
        .vehicle(even ? Vehicle.builder().plate("SK 1204").metres(4.5 + i / 7.0).build() : null)
        .fare(money(i * 1250L))
        .madeAt(at(i))
        .state(BookingState.PAID)
        .deck(Deck.CAR)
        .extras(extras(i, money(990)))
        .email(even ? "somebody@skerry.example" : null)
        .ticket(even ? new byte[40] : null)
        .build();
  }

  private static PlainBooking plainBooking(int i) {
    List<PlainPassenger> passengers =
        IntStream.range(0, 1 + i % 4)
            .mapToObj(n -> new PlainPassenger("Passenger number " + n + " of Skerry", at(n), n == 2))
            .toList();
    boolean even = i % 2 == 0;
    return new PlainBooking(
        new UUID(i, 9),
        "EID-%04d".formatted(i),
        passengers,
        even ? new PlainVehicle("SK 1204", 4.5 + i / 7.0) : null,
        new PlainMoney(i * 1250L, "SKD"),
        at(i),
        "Paid",
        "Car",
        extras(i, new PlainMoney(990, "SKD")),
        even ? "somebody@skerry.example" : null,
        even ? new byte[40] : null);
  }

  private static Position position(int i) {
    return Position.builder()
        .vessel(new UUID(0, i))
        .spot(Spot.builder().latitude(12 + i / 7.0).longitude(-30 - i / 9.0).build())
        .seenAt(at(i))
        .knots(i / 3.0)
        .build();
  }

  private static PlainPosition plainPosition(int i) {
    PlainSpot spot = new PlainSpot(12 + i / 7.0, -30 - i / 9.0);
    return new PlainPosition(new UUID(0, i), spot, at(i), i / 3.0);
  }

  private static Map<String, String> names(int n) {
    Map<String, String> names = new LinkedHashMap<>();
    List.of("x-skerry", "x-sound", "x-bay", "x-isle").forEach(key -> names.put(key, "Vessel " + n + " in " + key));
    return names;
  }

  private static FleetAnswer fleet(int i) {
    List<Vessel> vessels = new ArrayList<>();
    for (int n = 0; n < 5; n++) {
      List<DeckPlan> decks =
          IntStream.range(0, 4)
              .mapToObj(d -> DeckPlan.builder().deck(Deck.SALOON).seats(d * 20L).lanes(d).build())
              .toList();
      vessels.add(
          Vessel.builder()
              .id(new UUID(0, i))
              .name("Vessel " + n)
              .decks(decks)
              .state(VesselState.MOORED)
              .names(names(n))
              .build());
    }
    return FleetAnswer.builder().vessels(vessels).build();
  }

  private static PlainFleet plainFleet(int i) {
    List<PlainVessel> vessels = new ArrayList<>();
    for (int n = 0; n < 5; n++) {
      List<PlainDeck> decks = IntStream.range(0, 4).mapToObj(d -> new PlainDeck("Saloon", d * 20L, d)).toList();
      vessels.add(new PlainVessel(new UUID(0, i), "Vessel " + n, decks, "Moored", names(n)));
    }
    return new PlainFleet(vessels);
  }

  /** Makes what is written and read, and holds that what is read is what was written. */
  @Setup
  public void make() throws IOException {
    switch (shape) {
      case "position" ->
          prepare(
              new Shape<>(
                  Codecs::position,
                  Codecs::plainPosition,
                  PlainPosition.class,
                  Position::toCbor,
                  Position::fromCbor,
                  m -> Position.CODEC.toBytes(m, Encoding.JSON),
                  Position.CODEC::fromJson));
      case "booking" ->
          prepare(
              new Shape<>(
                  Codecs::booking,
                  Codecs::plainBooking,
                  PlainBooking.class,
                  Booking::toCbor,
                  Booking::fromCbor,
                  m -> Booking.CODEC.toBytes(m, Encoding.JSON),
                  Booking.CODEC::fromJson));
      default ->
          prepare(
              new Shape<>(
                  Codecs::fleet,
                  Codecs::plainFleet,
                  PlainFleet.class,
                  FleetAnswer::toCbor,
                  FleetAnswer::fromCbor,
                  m -> FleetAnswer.CODEC.toBytes(m, Encoding.JSON),
                  FleetAnswer.CODEC::fromJson));
    }
  }

  private <M, P> void prepare(Shape<M, P> s) throws IOException {
    List<M> ours = IntStream.range(0, COUNT).mapToObj(s.make).toList();
    List<P> theirs = IntStream.range(0, COUNT).mapToObj(s.plain).toList();
    ObjectMapper json =
        new ObjectMapper().registerModule(new JavaTimeModule()).disable(SerializationFeature.WRITE_DATES_AS_TIMESTAMPS);
    ObjectMapper cbor =
        new CBORMapper()
            .registerModule(new JavaTimeModule())
            .disable(SerializationFeature.WRITE_DATE_TIMESTAMPS_AS_NANOSECONDS)
            .disable(DeserializationFeature.READ_DATE_TIMESTAMPS_AS_NANOSECONDS);
    List<byte[]> inCbor = all(ours, s.toCbor);
    List<byte[]> inJson = all(ours, s.toJson);
    if (!all(inCbor, s.fromCbor).equals(ours) || !all(inJson, s.fromJson).equals(ours)) {
      throw new IllegalStateException("what is read is not what was written");
    }
    work =
        switch (who + what) {
          case "oursToCbor" -> each(ours, s.toCbor);
          case "oursFromCbor" -> each(inCbor, s.fromCbor);
          case "oursToJson" -> each(ours, s.toJson);
          case "oursFromJson" -> each(inJson, s.fromJson);
          case "theirsToCbor" -> each(theirs, cbor::writeValueAsBytes);
          case "theirsFromCbor" -> each(all(theirs, cbor::writeValueAsBytes), data -> cbor.readValue(data, s.type));
          case "theirsToJson" -> each(theirs, json::writeValueAsBytes);
          default -> each(all(theirs, json::writeValueAsBytes), data -> json.readValue(data, s.type));
        };
  }

  private static <I, O> List<O> all(List<I> inputs, Work<I, O> work) throws IOException {
    List<O> outputs = new ArrayList<>();
    for (I input : inputs) {
      outputs.add(work.of(input));
    }
    return outputs;
  }

  private static <I, O> Work<Blackhole, Void> each(List<I> inputs, Work<I, O> work) {
    return into -> {
      for (I input : inputs) {
        into.consume(work.of(input));
      }
      return null;
    };
  }

  /** Does it for all messages. */
  @Benchmark
  public void codec(Blackhole into) throws IOException {
    work.of(into);
  }
}
