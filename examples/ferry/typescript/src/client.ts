// A client of the Skerry Line: an example of how generated clients are used.
import { nodeTransport } from "./gen/faithful/node.js";
import { nodeSocket } from "./gen/faithful/socket.js";
import { type Encoding, MissingCredential, Problem } from "./gen/faithful/web.js";
import { Instant } from "./gen/faithful/wire.js";
import { BookingsClient, LARGEST_PARTY, SailingFull } from "./gen/skerry/booking/index.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { FleetClient, StalePosition } from "./gen/skerry/fleet/index.js";
import { type PassageInit, QuayClient } from "./gen/skerry/quay/index.js";

const [base = "http://127.0.0.1:8080", encoding = "cbor"] = process.argv.slice(2);
const options = { encoding: encoding as Encoding, transport: nodeTransport(), socket: nodeSocket };
const bookings = new BookingsClient(base, options);
const fleet = new FleetClient(base, options);

/** What a call failed with; a call that does not fail is the failure here. */
async function failureOf(call: Promise<unknown>): Promise<unknown> {
  try {
    await call;
  } catch (problem) {
    return problem;
  }
  throw new Error("the call should have failed");
}

const { sailings } = await bookings.sailings({ from: "Eiderwick" });
for (const s of sailings) {
  console.log(`sails      ${s.code} at ${s.leavesAt.toString().slice(11, 16)}, ${s.from} to ${s.to}`);
}

const request = {
  sailing: "EID-0715",
  passengers: [
    { name: "Ada Quill" },
    { name: "Tom Skua", needsHelp: true },
  ],
  deck: "car",
  vehicle: { plate: "SK 1204", metres: 4.5 },
} as const;
const booked = await bookings.book(request);
const { hundredths } = booked.fare;
console.log(`booked     ${String(booked.passengers.length)} passengers, deck ${booked.deck}, ${booked.fare.currency} ${String(hundredths / 100n)}.${String(hundredths % 100n).padStart(2, "0")}`);

const found = await bookings.booking({ id: booked.id });
console.log(`found      the booking again: ${String(found.id === booked.id)}, ${found.state}`);

// The four kinds of failure are told apart by instanceof.
const full = await failureOf(bookings.book({ ...request, passengers: Array.from({ length: LARGEST_PARTY }, () => ({ name: "A walking group" })) }));
if (!(full instanceof SailingFull)) {
  throw full;
}
console.log(`full       ${String(full.seatsLeft)} seats are left`);

const unknown = await failureOf(fleet.vessel({ id: "00000000-0000-0000-0000-000000000000" }));
if (!(unknown instanceof NotFound)) {
  throw unknown;
}
console.log(`not found  ${unknown.what}`);

const problem = await failureOf(bookings.cancel({ id: booked.id }));
if (!(problem instanceof Problem)) {
  throw problem;
}
console.log(`problem    ${problem.message}`);

const [first] = sailings;
if (first !== undefined) {
  const now = Instant.fromDate(new Date());
  const spot = { latitude: 12.5, longitude: -30.25 };
  await fleet.report({ vessel: first.vessel, spot, seenAt: now });
  const stale = await failureOf(fleet.report({ vessel: first.vessel, spot, seenAt: Instant.of(now.seconds - 3600) }));
  if (!(stale instanceof StalePosition)) {
    throw stale;
  }
  console.log("stale      the server knows a later position");
}

// Streams in all three ways, and credentials.
const screen = new QuayClient(base, options);
const [vessel] = (await fleet.list({})).vessels;
if (vessel === undefined) {
  throw new Error("the line has no vessel");
}
for await (const position of screen.follow({ vessel: vessel.id, decks: [] })) {
  console.log(`follows    at ${position.seenAt.toString().slice(11, 16)}`);
}

const missing = await failureOf(screen.unpost({ code: "EID-0715", language: "x-skerry" }));
if (!(missing instanceof MissingCredential)) {
  throw missing;
}
console.log(`missing    ${missing.needs}`);

const door = new QuayClient(base, { ...options, credentials: { door: "north pier", crew: "a token" } });
const passages: PassageInit[] = [
  { kind: "foot", value: { dogs: 1 } },
  { kind: "vehicle", value: { plate: "SK 1204", metres: 4.5, refused: new Map() } },
  { kind: "vehicle", value: { plate: "SK 9", metres: 16, refused: new Map() } },
];
const scans = passages.map((passage) => ({
  id: "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f",
  sailing: "EID-0715",
  passage,
  doorCode: "K7PLM2",
  seenAt: Instant.fromDate(new Date()),
  seats: 2,
  luggage: [],
  names: new Map(),
}));
const summary = await door.board(scans);
console.log(`boarded    ${String(summary.boarded)}, refused ${String(summary.refused.get("wrong_ferry") ?? 0)} on the wrong ferry`);

for await (const signal of door.talk([{ text: "Lines off at 07:15." }])) {
  console.log(`talks      ${signal.text}`);
}

const notice = { code: "EID-0715", language: "x-skerry" };
const posted = await door.post({ ...notice, body: "Fog." });
console.log(`posted     ${posted.body} for ${posted.code}`);
await door.unpost(notice);
process.exit(); // kept-alive connections would hold it
