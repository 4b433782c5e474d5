package ferry;

import ferry.gen.faithful.web.Context;
import ferry.gen.faithful.web.RefusalException;
import ferry.gen.faithful.wire.Violation;
import ferry.gen.skerry.booking.BookRequest;
import ferry.gen.skerry.booking.Booking;
import ferry.gen.skerry.booking.BookingRequest;
import ferry.gen.skerry.booking.Bookings;
import ferry.gen.skerry.booking.Passenger;
import ferry.gen.skerry.booking.Sailing;
import ferry.gen.skerry.booking.SailingFull;
import ferry.gen.skerry.booking.SailingsAnswer;
import ferry.gen.skerry.booking.SailingsRequest;
import ferry.gen.skerry.common.Money;
import ferry.gen.skerry.common.NotFound;
import ferry.gen.skerry.common.Page;
import java.time.Instant;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.UUID;

/** Serves bookings. The call cancel is not written yet: it answers 501. */
final class BookingsDesk extends Bookings {
  private final Line line;

  BookingsDesk(Line line) {
    this.line = line;
  }

  @Override
  public SailingsAnswer sailings(SailingsRequest request, Context context) {
    Page page = request.page().orElseGet(() -> Page.builder().build());
    List<Sailing> found = new ArrayList<>();
    for (Sailing s : line.sailings) {
      if (request.from().filter(from -> !from.equals(s.from())).isPresent()
          || request.to().filter(to -> !to.equals(s.to())).isPresent()
          || page.after().filter(after -> s.code().compareTo(after) <= 0).isPresent()) {
        continue;
      }
      if (found.size() == page.limit()) {
        return SailingsAnswer.builder().sailings(found).next(found.get(found.size() - 1).code()).build();
      }
      found.add(s);
    }
    return SailingsAnswer.builder().sailings(found).build();
  }

  @Override
  public Booking book(BookRequest request, Context context) throws SailingFull, NotFound {
    synchronized (line) {
      Integer left = line.seats.get(request.sailing());
      if (left == null) {
        throw NotFound.builder().what("sailing " + request.sailing()).build();
      }
      int wanted = request.passengers().size();
      if (wanted > left) {
        throw SailingFull.builder().seatsLeft(left).build();
      }
      refuseTwins(request.passengers());
      line.seats.put(request.sailing(), left - wanted);
      Booking booking =
          Booking.builder()
              .id(UUID.randomUUID())
              .sailing(request.sailing())
              .passengers(request.passengers())
              .vehicle(request.vehicle().orElse(null))
              .fare(Money.builder().hundredths(1250L * wanted).build())
              .madeAt(Instant.now())
              .deck(request.deck())
              .extras(Map.of())
              .email(request.email().orElse(null))
              .build();
      line.bookings.put(booking.id(), booking);
      return booking;
    }
  }

  private static void refuseTwins(List<Passenger> passengers) {
    Set<String> names = new HashSet<>();
    for (int i = 0; i < passengers.size(); i++) {
      if (!names.add(passengers.get(i).name())) {
        throw RefusalException.of(new Violation("/passengers/" + i + "/name", "must not be in the party twice"));
      }
    }
  }

  @Override
  public Booking booking(BookingRequest request, Context context) throws NotFound {
    synchronized (line) {
      Booking found = line.bookings.get(request.id());
      if (found == null) {
        throw NotFound.builder().what("booking " + request.id()).build();
      }
      return found;
    }
  }
}
