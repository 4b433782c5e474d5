// A client of the Skerry Line: an example of how generated clients are used.
import { type Form, Problem } from "./gen/faithful/web.js";
import { Instant, uuid } from "./gen/faithful/wire.js";
import { BookingsClient, LARGEST_PARTY, SailingFull } from "./gen/skerry/booking/index.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { FleetClient, StalePosition } from "./gen/skerry/fleet/index.js";

const [base = "http://127.0.0.1:8080", form = "cbor"] = process.argv.slice(2);
const bookings = new BookingsClient(base, { form: form as Form });
const fleet = new FleetClient(base, { form: form as Form });

/** What a call failed with; a call that does not fail is the failure here. */
async function failureOf(call: Promise<unknown>): Promise<unknown> {
  try {
    await call;
  } catch (problem) {
    return problem;
  }
  throw new Error("the call should have failed");
}

const { sailings } = await bookings.sailings({ from: "Norhaven" });
for (const s of sailings) {
  console.log(`sails      ${s.code} at ${s.leavesAt.toString().slice(11, 16)}, ${s.from} to ${s.to}`);
}

const request = {
  sailing: "NOR-0715",
  passengers: [
    { name: "Ada Quill", needsHelp: false },
    { name: "Tom Skua", needsHelp: true },
  ],
  deck: "car",
  vehicle: { plate: "SK 1204", metres: 4.5 },
} as const;
const booked = await bookings.book(request);
const { hundredths } = booked.fare;
console.log(`booked     ${booked.passengers.length} passengers, deck ${booked.deck}, ${booked.fare.currency} ${hundredths / 100n}.${String(hundredths % 100n).padStart(2, "0")}`);

const found = await bookings.booking({ id: booked.id });
console.log(`found      the booking again: ${found.id === booked.id}, ${found.state}`);

// The four kinds of failure are told apart by instanceof.
const full = await failureOf(bookings.book({ ...request, passengers: Array.from({ length: LARGEST_PARTY }, () => ({ name: "A walking group", needsHelp: false })) }));
if (!(full instanceof SailingFull)) {
  throw full;
}
console.log(`full       ${full.seatsLeft} seats are left`);

const unknown = await failureOf(fleet.vessel({ id: uuid("00000000-0000-0000-0000-000000000000") }));
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
  const spot = { latitude: 60.1, longitude: 4.9 };
  await fleet.report({ vessel: first.vessel, spot, seenAt: now });
  const stale = await failureOf(fleet.report({ vessel: first.vessel, spot, seenAt: Instant.of(now.seconds - 3600) }));
  if (!(stale instanceof StalePosition)) {
    throw stale;
  }
  console.log("stale      the server knows a later position");
}
