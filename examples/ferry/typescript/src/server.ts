// The server of the Skerry Line: an example of how generated servers are used.
import { randomUUID } from "node:crypto";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";

import { nodeLimits, nodeListener } from "./gen/faithful/node.js";
import { Refusal, serve } from "./gen/faithful/server.js";
import { serveSockets } from "./gen/faithful/socket.js";
import { Instant, uuid } from "./gen/faithful/wire.js";
import { type Booking, type BookingsCalls, SailingFull, bookingTools, sailingTools, serveBookings } from "./gen/skerry/booking/index.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { type FleetCalls, type Position, StalePosition, serveFleet, vesselTools } from "./gen/skerry/fleet/index.js";
import { serveQuay } from "./gen/skerry/quay/index.js";
import { authorize, quayCalls } from "./quay.js";

const vessel = vesselTools.make({
  id: uuid("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"),
  name: "Guillemot",
  decks: [
    { deck: "car", seats: 0, lanes: 4 },
    { deck: "saloon", seats: 60 },
  ],
  state: "moored",
  names: new Map([
    ["x-skerry", "Guillemot"],
    ["x-sound", "Lomvi"],
  ]),
});

const sailings = [
  sailingTools.make({ code: "EID-0715", vessel: vessel.id, leavesAt: Instant.parse("2026-07-15T07:15:00Z"), from: "Eiderwick", to: "Skerry" }),
  sailingTools.make({ code: "SKE-1030", vessel: vessel.id, leavesAt: Instant.parse("2026-07-15T10:30:00Z"), from: "Skerry", to: "Eiderwick" }),
];

const seats = new Map([
  ["EID-0715", 5],
  ["SKE-1030", 60],
]);
const bookings = new Map<string, Booking>();
const positions = new Map<string, Position>();

const bookingCalls: BookingsCalls = {
  sailings(request) {
    const fits = (wanted: string | undefined, is: string): boolean => wanted === undefined || wanted === is;
    return { sailings: sailings.filter((s) => fits(request.from, s.from) && fits(request.to, s.to)) };
  },

  book(request) {
    const left = seats.get(request.sailing);
    if (left === undefined) {
      throw new NotFound({ what: `sailing ${request.sailing}` });
    }
    if (request.passengers.length > left) {
      throw new SailingFull({ seatsLeft: left });
    }
    const names = request.passengers.map(({ name }) => name);
    const twice = names.findIndex((name, i) => names.indexOf(name) < i);
    if (twice >= 0) {
      throw new Refusal({ violations: [{ pointer: `/passengers/${String(twice)}/name`, detail: "must not be in the party twice" }] });
    }
    seats.set(request.sailing, left - request.passengers.length);
    const booking = bookingTools.make({
      id: uuid(randomUUID()),
      sailing: request.sailing,
      passengers: request.passengers,
      vehicle: request.vehicle,
      fare: { hundredths: 1250n * BigInt(request.passengers.length) },
      madeAt: Instant.fromDate(new Date()),
      deck: request.deck,
      extras: new Map(),
      email: request.email,
    });
    bookings.set(booking.id, booking);
    return booking;
  },

  booking(request) {
    const booking = bookings.get(request.id);
    if (booking === undefined) {
      throw new NotFound({ what: `booking ${request.id}` });
    }
    return booking;
  },

  // cancel is not written yet: it answers 501.
};

const fleetCalls: FleetCalls = {
  list(request) {
    return { vessels: request.state === undefined || request.state === vessel.state ? [vessel] : [] };
  },

  vessel(request) {
    if (request.id !== vessel.id) {
      throw new NotFound({ what: `vessel ${request.id}` });
    }
    return vessel;
  },

  report(position) {
    const known = positions.get(position.vessel);
    if (known !== undefined && known.seenAt.seconds > position.seenAt.seconds) {
      throw new StalePosition({ knownSince: known.seenAt });
    }
    positions.set(position.vessel, position);
  },
};

const port = Number(process.argv[2] ?? "0");
const onError = (call: string, error: unknown): void => {
  console.error(call, error);
};
const leavesAt = Instant.parse("2026-07-15T07:15:00Z");
const mount = serve(serveBookings(bookingCalls, { onError, authorizer: authorize }), serveFleet(fleetCalls), serveQuay(quayCalls(vessel.id, leavesAt)));
const server = createServer(nodeLimits, nodeListener(mount));
serveSockets(server, mount);
server.listen(port, "127.0.0.1", () => {
  console.log(`listening on http://127.0.0.1:${String((server.address() as AddressInfo).port)}`);
});
