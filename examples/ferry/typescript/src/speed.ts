// Measures the codecs against JSON.stringify and JSON.parse, in interleaved rounds: the median of the ratios.
import * as wire from "./gen/faithful/wire.js";
import { bookingTools, passengerTools } from "./gen/skerry/booking/index.js";
import { moneyTools } from "./gen/skerry/common/index.js";
import { type FleetAnswer, type Vessel, deckPlanTools, fleetAnswerTools, positionTools, vesselTools } from "./gen/skerry/fleet/index.js";

const id = (i: number): wire.Uuid => wire.uuid(`0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d${String(7000 + i)}`);
const at = (i: number): wire.Instant => wire.Instant.of(1784000000 + i * 3600, (i % 3) * 250_000_000);
const money = (hundredths: number): ReturnType<typeof moneyTools.make> => moneyTools.make({ hundredths: BigInt(hundredths) });
const bookings = Array.from({ length: 100 }, (_, i) =>
  bookingTools.make({
    id: id(i),
    sailing: `EID-${String(i).padStart(4, "0")}`,
    passengers: Array.from({ length: 1 + (i % 4) }, (_, n) => passengerTools.make({ name: `Passenger number ${String(n)} of Skerry`, born: at(n), needsHelp: n === 2 })),
    vehicle: i % 2 === 0 ? { plate: "SK 1204", metres: 4.5 + i / 7 } : undefined,
    fare: money(i * 1250),
    madeAt: at(i),
    state: "paid",
    deck: "car",
    extras: new Map(["meal", "cabin"].slice(0, i % 3).map((key) => [key, money(990)])),
    email: i % 2 === 0 ? "somebody@skerry.example" : undefined,
    ticket: i % 2 === 0 ? new Uint8Array(40) : undefined,
  }),
);
const positions = Array.from({ length: 100 }, (_, i) => positionTools.make({ vessel: id(i), spot: { latitude: 12 + i / 7, longitude: -30 - i / 9 }, seenAt: at(i), knots: i / 3 }));
const fleets = Array.from({ length: 100 }, (_, i) =>
  fleetAnswerTools.make({
    vessels: Array.from({ length: 5 }, (_, n) =>
      vesselTools.make({
        id: id(i),
        name: `Vessel ${String(n)}`,
        decks: Array.from({ length: 4 }, (_, d) => deckPlanTools.make({ deck: "saloon", seats: d * 20, lanes: d })),
        state: "moored",
        names: new Map(["x-skerry", "x-sound", "x-bay", "x-isle"].map((key) => [key, `Vessel ${String(n)} in ${key}`])),
      }),
    ),
  }),
);

/** What somebody would write for JSON: the same with text for what JSON lacks. */
const plain = (value: unknown): unknown => JSON.parse(JSON.stringify(value, (_, v: unknown) => (typeof v === "bigint" ? Number(v) : v instanceof Map ? (Object.fromEntries(v) as unknown) : v instanceof Uint8Array ? wire.toBase64(v) : v))) as unknown;

let sink = 0;

function ratio(ours: (i: number) => unknown, reference: (i: number) => unknown, count: number): number {
  const run = (f: (i: number) => unknown): number => {
    const start = process.hrtime.bigint();
    for (let n = 0; n < (count > 1 ? 10 : 1); n++) {
      for (let i = 0; i < count; i++) {
        sink += f(i) === undefined ? 1 : 0;
      }
    }
    return Number(process.hrtime.bigint() - start);
  };
  for (let n = 0; n < (count > 1 ? 30 : 5); n++) {
    run(ours);
    run(reference);
  }
  const ratios = Array.from({ length: 31 }, () => run(ours) / run(reference)).sort((a, b) => a - b);
  return ratios[15] ?? NaN;
}

function measure<T>(name: string, tools: wire.ValueTools<T>, values: readonly T[]): void {
  const plains = values.map(plain);
  const texts = plains.map((p) => JSON.stringify(p));
  const payloads = values.map((v) => tools.toCbor(v));
  const value = (i: number): T => values[i] as T;
  const compare = (encoding: string, write: (i: number) => unknown, read: (i: number) => unknown): void => {
    const encode = ratio(write, (i) => JSON.stringify(plains[i]), values.length);
    const decode = ratio(read, (i) => JSON.parse(texts[i] ?? "") as unknown, values.length);
    console.log(`typescript ${name}: ${encoding} encode ${encode.toFixed(2)} of JSON.stringify, decode ${decode.toFixed(2)} of JSON.parse`);
  };
  const written = values.map((v) => tools.toJson(v));
  compare("CBOR", (i) => tools.toCbor(value(i)), (i) => tools.fromCbor(payloads[i] as Uint8Array));
  compare("JSON", (i) => tools.toJson(value(i)), (i) => tools.fromJson(written[i] ?? ""));
}

/** How many vessels the largest payload holds: 100,000 are 40 MB as JSON, and half of that as CBOR; speed.js 250000 takes 2 GB of memory. */
const largest = Number(process.argv[2] ?? 100_000);

/** Times a vessel in four payloads, each ten times as large as the one before: by how much it grows with each. */
function growth<P>(name: string, write: (v: FleetAnswer) => P, read: (payload: P) => FleetAnswer): void {
  const many = fleets.flatMap((fleet) => fleet.vessels);
  const grows = <V, W>(make: (answer: FleetAnswer) => V, write: (v: V) => W, read: (payload: W) => unknown): number => {
    const times = [largest / 1_000, largest / 100, largest / 10, largest].map((vessels) => {
      const value = make(fleetAnswerTools.make({ vessels: Array.from({ length: vessels }, (_, i) => many[i % many.length] as Vessel) }));
      const rounds = Array.from({ length: Math.max(3, 20_000 / vessels) }, () => {
        const start = process.hrtime.bigint();
        sink += read(write(value)) === undefined ? 1 : 0;
        return Number(process.hrtime.bigint() - start);
      });
      return Math.min(...rounds) / vessels;
    });
    return Math.cbrt((times[3] ?? NaN) / (times[0] ?? NaN));
  };
  const ours = grows((answer) => answer, write, read);
  const reference = grows(plain, (v) => JSON.stringify(v), (text) => JSON.parse(text) as unknown);
  console.log(`typescript ${name}: tenfold payloads take ${ours.toFixed(2)} of tenfold time, JSON.stringify and JSON.parse ${reference.toFixed(2)}`);
}

measure("position", positionTools, positions);
measure("booking", bookingTools, bookings);
measure("fleet", fleetAnswerTools, fleets);
measure("list", fleetAnswerTools, [fleetAnswerTools.make({ vessels: Array.from({ length: 20 }, () => fleets.flatMap((fleet) => fleet.vessels)).flat() })]);
const budget = 100_000_000;
growth("CBOR", (v) => fleetAnswerTools.toCbor(v), (payload) => fleetAnswerTools.fromCbor(payload, budget));
growth("JSON", (v) => fleetAnswerTools.toJson(v), (text) => fleetAnswerTools.fromJson(text, budget));
process.exitCode = sink > 0 ? 1 : 0;
