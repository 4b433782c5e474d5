package ferry;

import ferry.gen.faithful.web.BadAnswerException;
import ferry.gen.faithful.web.Context;
import ferry.gen.faithful.web.ForbiddenException;
import ferry.gen.faithful.web.HttpServerMount;
import ferry.gen.faithful.web.MissingCredentialException;
import ferry.gen.faithful.web.ProblemException;
import ferry.gen.faithful.web.Served;
import ferry.gen.faithful.web.ServerOptions;
import ferry.gen.faithful.web.UnreachableException;
import ferry.gen.faithful.wire.Any;
import ferry.gen.faithful.wire.InvalidRequestException;
import ferry.gen.faithful.wire.PayloadException;
import ferry.gen.faithful.wire.Violation;
import ferry.gen.skerry.booking.BookRequest;
import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.BookingRequest;
import ferry.gen.skerry.booking.Bookings;
import ferry.gen.skerry.booking.BookingsClient;
import ferry.gen.skerry.booking.Passenger;
import ferry.gen.skerry.booking.SailingFull;
import ferry.gen.skerry.booking.Vehicle;
import ferry.gen.skerry.common.Money;
import ferry.gen.skerry.common.NotFound;
import ferry.gen.skerry.fleet.Deck;
import ferry.gen.skerry.quay.BoardingScan;
import ferry.gen.skerry.quay.Constants;
import ferry.gen.skerry.quay.Fare;
import ferry.gen.skerry.quay.FootPassage;
import ferry.gen.skerry.quay.DoorCode;
import ferry.gen.skerry.quay.Language;
import ferry.gen.skerry.quay.NoticeRequest;
import ferry.gen.skerry.quay.Passage;
import ferry.gen.skerry.quay.Quay;
import ferry.gen.skerry.quay.QuayClient;
import ferry.gen.skerry.quay.SailingCode;
import ferry.gen.skerry.quay.VehiclePassage;
import java.math.BigDecimal;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.time.Duration;
import java.time.Instant;
import java.time.LocalDate;
import java.util.Collections;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.Callable;
import java.util.concurrent.CancellationException;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;

/** The documented ways of using the generated Java, in a program that runs without a network: docs/java.md quotes it. */
public final class Ways {
  private static final Passenger ADA = Passenger.builder().name("Ada Quill").build();

  private Ways() {}

  /**
   * Shows them all.
   *
   * @param arguments are not looked at
   * @throws Exception if one of them fails
   */
  public static void main(String[] arguments) throws Exception {
    messages();
    encodings();
    bounds();
    open();
    unlisted();
    scalars();
    secrets();
    calls();
  }

  /** Messages are made by builders; defaults and optional fields may be left out. */
  private static void messages() {
    BookRequest request =
        BookRequest.builder()
            .sailing("EID-0715")
            .passengers(List.of(Passenger.builder().name("Ada Quill").build()))
            .email("ada@example.org")
            .build();
    System.out.println("messages   " + request.sailing() + " on deck " + request.deck());
    if (request.vehicle().isEmpty()) {
      System.out.println("messages   no vehicle, " + request.email().orElse("no address"));
    }
  }

  /** Encodings are CBOR and JSON. */
  private static void encodings() {
    Money money = Money.builder().hundredths(2500).build();
    byte[] binary = money.toCbor();
    System.out.println("encodings  " + HexFormat.of().formatHex(binary));
    System.out.println("encodings  " + money.toJson());

    Money read = Money.fromCbor(binary);
    System.out.println("encodings  " + read.hundredths() + " " + read.currency());

    // What can't be read says where, and why.
    try {
      Money.fromJson("{\"hundredths\":\"many\"}");
    } catch (PayloadException e) {
      System.out.println("encodings  " + e.path() + " is wrong");
    }
  }

  /** Bounds are held against by violations, which finds everything at once; validate throws it. */
  private static void bounds() {
    BookRequest request =
        BookRequest.builder()
            .sailing("tomorrow")
            .passengers(List.of())
            .vehicle(Vehicle.builder().plate("SK 1204").metres(40).build())
            .build();
    for (Violation violation : request.violations()) {
      System.out.println("bounds     " + violation.pointer() + " " + violation.detail());
    }
  }

  /** Enums and unions are open: a default is for what is added later. */
  private static void open() {
    for (Deck deck : List.of(Deck.CAR, Deck.ofNumber(9))) {
      switch (deck.known()) {
        default: // one that these definitions do not list, too
          System.out.println("open       a deck with the number " + deck.number().orElse(-1));
          break;
        case CAR:
          System.out.println("open       drive on");
          break;
        case OPEN:
        case SALOON:
          System.out.println("open       walk on");
          break;
      }
    }
    VehiclePassage car = VehiclePassage.builder().plate("SK 1204").metres(4.5).refused(Map.of()).build();
    for (Passage passage :
        List.of(new Passage.Foot(FootPassage.builder().dogs(1).build()), new Passage.Vehicle(car))) {
      if (passage instanceof Passage.Foot foot) {
        System.out.println("open       on foot with " + foot.value().dogs().orElse(0) + " dog");
      } else if (passage instanceof Passage.Vehicle vehicle) {
        System.out.println("open       on wheels, " + vehicle.value().plate());
      } else {
        System.out.println("open       in another way");
      }
    }
  }

  /** Unlisted fields are preserved and passed on: a newer program has sent the field 9, and another one by its name. */
  private static void unlisted() {
    Money money = Money.fromJson("{\"hundredths\":2500,\"currency\":\"SKD\",\"#9\":\"AQ\",\"paid_by\":\"card\"}");
    Money more = money.toBuilder().hundredths(3000).build();
    int count = more.unlistedFields().orElseThrow().size();
    System.out.println("unlisted   " + count + " " + more.toJson());
  }

  @SuppressWarnings("deprecation") // names are
  private static BoardingScan scan() {
    return BoardingScan.builder()
        .id(UUID.fromString("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"))
        .sailing(new SailingCode("EID-0715"))
        .passage(new Passage.Foot(FootPassage.builder().build()))
        .doorCode(new DoorCode("K7PLM2"))
        .paid(new Fare(new BigDecimal("48.50")))
        .seenAt(Instant.parse("2026-07-15T06:58:12Z"))
        .born(LocalDate.of(1968, 5, 1))
        .waited(Duration.ofSeconds(90))
        .luggage(List.of(new BigDecimal("12.5")))
        .names(Map.of())
        .phone("555 0136")
        .remarks(Any.of(Map.of("pram", true)))
        .build();
  }

  /** Scalars are those of the JDK; named types over some of them are records. */
  private static void scalars() {
    BoardingScan s = scan();
    System.out.println(
        "scalars    "
            + String.join(
                " ",
                s.id().toString(),
                s.paid().value().toPlainString(),
                s.seenAt().toString(),
                s.born().orElseThrow().toString(),
                String.valueOf(s.waited().toSeconds())));
    System.out.println("scalars    " + Constants.LARGEST_GROUP + " " + Constants.FIRST_SEASON);
  }

  /** Secrets stay out of what is printed and logged. */
  private static void secrets() {
    BoardingScan s = scan();
    String text = s + " " + s.doorCode();
    boolean hidden = !text.contains("K7PLM2") && !text.contains("555 0136");
    System.out.println(
        "secrets    "
            + s.doorCode().value().length()
            + " "
            + s.phone().orElse("").length()
            + " "
            + (hidden ? "(secret)" : text));
  }

  /** A service is a class that overrides each call that is implemented. */
  private static final class BookingDesk extends Bookings {
    @Override
    public Booking book(BookRequest request, Context context) throws SailingFull {
      if (request.passengers().size() > 5) {
        throw SailingFull.builder().seatsLeft(5).build();
      }
      return Booking.builder()
          .id(UUID.fromString("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"))
          .sailing(request.sailing())
          .passengers(request.passengers())
          .fare(Money.builder().hundredths(2500).build())
          .madeAt(Instant.now())
          .extras(Map.of())
          .build();
    }

    @Override
    public Booking booking(BookingRequest request, Context context) {
      throw new IllegalStateException("the database speaks of its password");
    }
  }

  private static final class Pier extends Quay {
    @Override
    public void unpost(NoticeRequest request, Context context) throws InterruptedException {
      Thread.sleep(1_000_000);
    }
  }

  private static void authorize(Context context, Map<String, String> credentials) {
    byte[] shown = credentials.getOrDefault("skerry.quay.door", "north pier").getBytes(StandardCharsets.UTF_8);
    if (!MessageDigest.isEqual(shown, "north pier".getBytes(StandardCharsets.UTF_8))) {
      throw new ForbiddenException("this is not the key of a door");
    }
  }

  /** A mount of two services, for any of the servers. The options are for all of them. */
  private static Served served() {
    ServerOptions options =
        ServerOptions.builder()
            .authorizer(Ways::authorize)
            .middleware(
                (context, next) -> {
                  context.call().ifPresent(call -> System.out.println("server     " + call.name()));
                  next.run();
                })
            .onError((context, call, error) -> System.out.println("server     told of an error in " + call))
            .build();
    return Served.join(Bookings.serve(new BookingDesk(), options), Quay.serve(new Pier()));
  }

  /** Tells the kinds of failure apart. */
  private static String failure(Callable<?> call) throws Exception {
    try {
      call.call();
      return "none";
    } catch (SailingFull e) { // an error that the call declares
      return "full, " + e.seatsLeft() + " seats are left";
    } catch (NotFound e) {
      return "not found: " + e.what();
    } catch (ProblemException e) { // another that the server answered with
      return "the problem " + e.problem() + ", " + e.status();
    } catch (InvalidRequestException e) { // nothing was sent: the definitions do not allow it
      return "invalid: " + e.violations().get(0).pointer();
    } catch (MissingCredentialException e) { // nothing was sent: no credential was given
      return "missing " + e.needs();
    } catch (UnreachableException | CancellationException e) { // refused, lost, timed out or given up
      return "no answer";
    } catch (BadAnswerException e) { // one that is not understood
      return "a bad answer";
    }
  }

  /** Makes calls, and tells their failures apart. */
  private static void calls() throws Exception {
    InetSocketAddress address = new InetSocketAddress(InetAddress.getLoopbackAddress(), 0);
    try (HttpServerMount.Running server = HttpServerMount.start(served(), address)) {
      String base = "http://127.0.0.1:" + server.port();
      BookingsClient client =
          BookingsClient.to(base).timeout(Duration.ofSeconds(5)).tries(2).header("desk", "7").build();
      Booking booked = client.book(BookRequest.builder().sailing("EID-0715").passengers(List.of(ADA)).build());
      System.out.println("client     booked " + booked.sailing() + " for " + booked.passengers().size());

      BookRequest party =
          BookRequest.builder().sailing("EID-0715").passengers(Collections.nCopies(6, ADA)).build();
      BookRequest nobody = party.toBuilder().passengers(List.of()).build();
      say(failure(() -> client.book(party)));
      say(failure(() -> client.booking(BookingRequest.builder().id(booked.id()).build())));
      say(failure(() -> client.book(nobody)));
      say(failure(() -> BookingsClient.to("http://127.0.0.1:1").build().book(party)));

      NoticeRequest notice =
          NoticeRequest.builder().code(new SailingCode("EID-0715")).language(new Language("x-skerry")).build();
      say(failure(() -> unposted(QuayClient.to(base).build(), notice)));
      say(failure(() -> unposted(QuayClient.to(base).credential("door", "a copy").build(), notice)));

      // A value that is asked for on every call, and a call that is given up.
      QuayClient keeper = QuayClient.to(base).credential("door", () -> "north pier").build();
      CompletableFuture<Void> unposting = keeper.unpostAsync(notice);
      CompletableFuture.delayedExecutor(500, TimeUnit.MILLISECONDS).execute(() -> unposting.cancel(true));
      say(failure(unposting::get));
    }
  }

  private static void say(String failure) {
    System.out.println("failure    " + failure);
  }

  private static Object unposted(QuayClient quay, NoticeRequest notice) throws NotFound {
    quay.unpost(notice);
    return null;
  }
}
