// The documented ways of plain data, of putting something else in a client's place, and of single calls.
import { fetchTransport, type Transport } from "./gen/faithful/client.js";
import { connect } from "./gen/faithful/connect.js";
import { fromPlain, InvalidValue, parse, toPlain } from "./gen/faithful/plain.js";
import { Instant } from "./gen/faithful/wire.js";
import { bookingsBooking } from "./gen/skerry/booking/functions.js";
import { type BookingsClient, bookingTools, bookRequestTools, serveBookings } from "./gen/skerry/booking/index.js";
import { moneyTools } from "./gen/skerry/common/index.js";

/** What caches and forms hold is plain data; what may be anything is parsed. */
function plainData(): void {
  const money = moneyTools.make({ hundredths: 2500n });
  const cached = structuredClone(toPlain(moneyTools, money));
  console.log("plain     ", JSON.stringify(cached), moneyTools.equal(fromPlain(moneyTools, cached), money));

  const typed = { sailing: "EID-0715", passengers: [{ name: "" }, { name: 7 }], email: null };
  try {
    parse(bookRequestTools, typed);
  } catch (problem) {
    if (problem instanceof InvalidValue) {
      for (const { pointer, detail } of problem.violations) {
        console.log("plain     ", pointer, detail);
      }
    }
  }
}

/** What needs a client says which calls of it, so that tests can give it an object that has those. */
async function fareOf(bookings: Pick<BookingsClient, "booking">, id: string): Promise<bigint> {
  const { fare } = await bookings.booking({ id });
  return fare.hundredths;
}

async function faked(): Promise<void> {
  const fare = await fareOf(
    {
      booking: ({ id }) => {
        const booking = { sailing: "EID-0715", passengers: [], fare: { hundredths: 2500n }, madeAt: Instant.of(0), extras: {} };
        return Promise.resolve(bookingTools.make({ ...booking, id }));
      },
    },
    "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f",
  );
  console.log("fake      ", String(fare));
}

/** A call is a function, too: a page that makes a few loads only those. */
async function functions(base: string, transport: Transport, id: string): Promise<void> {
  const line = connect(base, { transport });
  const again = await bookingsBooking(line, { id });
  console.log("functions ", again.sailing);
}

const served = serveBookings({
  booking: ({ id }) => bookingTools.make({ id, sailing: "EID-0715", passengers: [], fare: { hundredths: 2500n }, madeAt: Instant.of(0), extras: {} }),
});
plainData();
await faked();
await functions("http://127.0.0.1", fetchTransport(served), "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f");
