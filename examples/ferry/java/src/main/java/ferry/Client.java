package ferry;

import ferry.gen.faithful.web.AnswerStream;
import ferry.gen.faithful.web.ClientBuilder;
import ferry.gen.faithful.web.Conversation;
import ferry.gen.faithful.web.MissingCredentialException;
import ferry.gen.faithful.web.ProblemException;
import ferry.gen.faithful.web.Sender;
import ferry.gen.skerry.booking.BookRequest;
import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.BookingRequest;
import ferry.gen.skerry.booking.BookingsClient;
import ferry.gen.skerry.booking.Passenger;
import ferry.gen.skerry.booking.Sailing;
import ferry.gen.skerry.booking.SailingFull;
import ferry.gen.skerry.booking.SailingsRequest;
import ferry.gen.skerry.booking.Vehicle;
import ferry.gen.skerry.common.NotFound;
import ferry.gen.skerry.common.Spot;
import ferry.gen.skerry.fleet.Deck;
import ferry.gen.skerry.fleet.FleetClient;
import ferry.gen.skerry.fleet.FleetRequest;
import ferry.gen.skerry.fleet.Position;
import ferry.gen.skerry.fleet.StalePosition;
import ferry.gen.skerry.fleet.VesselRequest;
import ferry.gen.skerry.quay.BoardingScan;
import ferry.gen.skerry.quay.BoardingSummary;
import ferry.gen.skerry.quay.FollowRequest;
import ferry.gen.skerry.quay.FootPassage;
import ferry.gen.skerry.quay.DoorCode;
import ferry.gen.skerry.quay.Language;
import ferry.gen.skerry.quay.Notice;
import ferry.gen.skerry.quay.NoticeRequest;
import ferry.gen.skerry.quay.Passage;
import ferry.gen.skerry.quay.QuayClient;
import ferry.gen.skerry.quay.Refusal;
import ferry.gen.skerry.quay.SailingCode;
import ferry.gen.skerry.quay.Signal;
import ferry.gen.skerry.quay.VehiclePassage;
import java.time.Instant;
import java.time.ZoneOffset;
import java.time.format.DateTimeFormatter;
import java.util.Collections;
import java.util.List;
import java.util.Map;
import java.util.UUID;

/** A client of the Skerry Line: an example of how generated clients are used. */
public final class Client {
  private static final DateTimeFormatter CLOCK = DateTimeFormatter.ofPattern("HH:mm").withZone(ZoneOffset.UTC);

  private Client() {}

  /**
   * Calls everything once, and says what came back.
   *
   * @param arguments where the server is, and "json" to send JSON instead of CBOR
   * @throws Exception if something is not as it should be
   */
  public static void main(String[] arguments) throws Exception {
    String server = arguments.length > 0 ? arguments[0] : "http://127.0.0.1:8080";
    boolean json = arguments.length > 1 && arguments[1].equals("json");
    FleetClient vessels = in(json, FleetClient.to(server)).build();
    story(in(json, BookingsClient.to(server)).build(), vessels);
    UUID vessel = vessels.list(FleetRequest.builder().build()).vessels().get(0).id();
    QuayClient door =
        in(json, QuayClient.to(server))
            .credential("skerry.quay.door", "north pier")
            .credential("skerry.quay.crew", "a token")
            .build();
    quayStory(in(json, QuayClient.to(server)).build(), door, vessel);
  }

  private static <C> ClientBuilder<C> in(boolean json, ClientBuilder<C> builder) {
    return json ? builder.json() : builder;
  }

  private static void story(BookingsClient bookings, FleetClient vessels) throws Exception {
    List<Sailing> sailings = bookings.sailings(SailingsRequest.builder().from("Eiderwick").build()).sailings();
    for (Sailing s : sailings) {
      System.out.printf("sails      %s at %s, %s to %s%n", s.code(), CLOCK.format(s.leavesAt()), s.from(), s.to());
    }

    BookRequest request =
        BookRequest.builder()
            .sailing("EID-0715")
            .passengers(
                List.of(
                    Passenger.builder().name("Ada Quill").build(),
                    Passenger.builder().name("Tom Skua").needsHelp(true).build()))
            .deck(Deck.CAR)
            .vehicle(Vehicle.builder().plate("SK 1204").metres(4.5).build())
            .build();
    Booking booked = bookings.book(request);
    System.out.printf(
        "booked     %d passengers, deck %s, %s %d.%02d%n",
        booked.passengers().size(),
        booked.deck(),
        booked.fare().currency(),
        booked.fare().hundredths() / 100,
        booked.fare().hundredths() % 100);

    Booking found = bookings.booking(BookingRequest.builder().id(booked.id()).build());
    System.out.printf("found      the booking again: %b, %s%n", found.id().equals(booked.id()), found.state());

    // The kinds of failure are classes of exceptions.
    List<Passenger> group = Collections.nCopies(12, Passenger.builder().name("A walking group").build());
    try {
      bookings.book(request.toBuilder().passengers(group).build());
    } catch (SailingFull e) {
      System.out.printf("full       %d seats are left%n", e.seatsLeft());
    }
    try {
      vessels.vessel(VesselRequest.builder().id(new UUID(0, 0)).build());
    } catch (NotFound e) {
      System.out.printf("not found  %s%n", e.what());
    }
    try {
      bookings.cancel(BookingRequest.builder().id(booked.id()).build());
    } catch (ProblemException e) {
      System.out.printf("problem    %d %s: %s%n", e.status(), e.title(), e.detail());
    }

    Position position =
        Position.builder()
            .vessel(sailings.get(0).vessel())
            .spot(Spot.builder().latitude(12.5).longitude(-30.25).build())
            .seenAt(Instant.now())
            .build();
    vessels.report(position);
    try {
      vessels.report(position.toBuilder().seenAt(position.seenAt().minusSeconds(3600)).build());
    } catch (StalePosition e) {
      System.out.println("stale      the server knows a later position");
    }
  }

  /** Streams in all three ways, and shows credentials. */
  @SuppressWarnings("deprecation") // ring is
  private static void quayStory(QuayClient screen, QuayClient door, UUID vessel) throws Exception {
    FollowRequest request = FollowRequest.builder().vessel(vessel).decks(List.of()).build();
    try (AnswerStream<Position> positions = screen.follow(request)) {
      for (Position position : positions) {
        System.out.printf("follows    at %s%n", CLOCK.format(position.seenAt()));
      }
    }

    try {
      screen.ring();
    } catch (MissingCredentialException e) {
      System.out.printf("missing    %s%n", e.needs());
    }

    try (Sender<BoardingScan, BoardingSummary> boarding = door.board()) {
      boarding.send(scan(new Passage.Foot(FootPassage.builder().dogs(1).build())));
      boarding.send(scan(vehicle("SK 1204", 4.5)));
      boarding.send(scan(vehicle("SK 9", 16)));
      BoardingSummary summary = boarding.finish();
      System.out.printf(
          "boarded    %d, refused %d on the wrong ferry%n",
          summary.boarded(), summary.refused().get(Refusal.WRONG_FERRY));
    }

    try (Conversation<Signal, Signal> talk = door.talk()) {
      talk.send(Signal.builder().text("Lines off at 07:15.").build());
      talk.finish();
      for (Signal signal : talk) {
        System.out.printf("talks      %s%n", signal.text());
      }
    }

    SailingCode sailing = new SailingCode("EID-0715");
    Language language = new Language("x-skerry");
    Notice notice = door.post(Notice.builder().code(sailing).language(language).body("Fog.").build());
    System.out.printf("posted     %s for %s%n", notice.body(), notice.code().value());
    door.unpost(NoticeRequest.builder().code(sailing).language(language).build());
  }

  private static Passage vehicle(String plate, double metres) {
    return new Passage.Vehicle(
        VehiclePassage.builder().plate(plate).metres(metres).refused(Map.of()).build());
  }

  @SuppressWarnings("deprecation") // names are
  private static BoardingScan scan(Passage passage) {
    return BoardingScan.builder()
        .id(UUID.fromString("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"))
        .sailing(new SailingCode("EID-0715"))
        .passage(passage)
        .doorCode(new DoorCode("K7PLM2"))
        .seenAt(Instant.now())
        .seats(2)
        .luggage(List.of())
        .names(Map.of())
        .build();
  }
}
