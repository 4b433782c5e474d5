// The documented ways of using the generated TypeScript, in a program that runs
// without a network: docs/typescript.md quotes it.
import { anyOf, CalendarDate, Decimal, Duration, Instant, plainOf, unlistedFields, uuid, WireError } from "./gen/faithful/wire.js";
import { bookRequestTools } from "./gen/skerry/booking/index.js";
import { moneyTools } from "./gen/skerry/common/index.js";
import { deckTools, type Deck } from "./gen/skerry/fleet/index.js";
import { boardingScanTools, FIRST_SEASON, doorCodeTools, LARGEST_GROUP, type Passage, passageTools, sailingCodeTools } from "./gen/skerry/quay/index.js";
import { calls } from "./ways_calls.js";

/** Messages are made by factories; defaults and optional fields may be left out, inside of others, too. */
function messages(): void {
  const request = bookRequestTools.make({
    sailing: "EID-0715",
    passengers: [{ name: "Ada Quill" }],
    email: "ada@example.org",
  });
  console.log("messages  ", request.sailing, "on deck", request.deck);
  if (request.vehicle === undefined) {
    console.log("messages  ", "no vehicle,", request.email);
  }
}

/** Encodings are CBOR and JSON. */
function encodings(): void {
  const money = moneyTools.make({ hundredths: 2500n });
  const binary = moneyTools.toCbor(money);
  console.log("encodings ", Buffer.from(binary).toString("hex"));
  console.log("encodings ", moneyTools.toJson(money));

  const read = moneyTools.fromCbor(binary);
  console.log("encodings ", Number(read.hundredths), read.currency);

  // What can't be read says where, and why.
  try {
    moneyTools.fromJson('{"hundredths":"many"}');
  } catch (problem) {
    if (problem instanceof WireError) {
      console.log("encodings ", problem.path, "is wrong");
    }
  }
}

/** Bounds are held against by validate, which finds everything at once. */
function bounds(): void {
  const request = bookRequestTools.make({ sailing: "tomorrow", passengers: [], vehicle: { plate: "SK 1204", metres: 40 } });
  for (const { pointer, detail } of bookRequestTools.validate(request)) {
    console.log("bounds    ", pointer, detail);
  }
}

/** Enums and unions are open: a default branch is for what is added later. */
function open(): void {
  for (const deck of ["car", "#9"] satisfies Deck[]) {
    switch (deck as Deck) {
      case "car":
        console.log("open      ", "drive on");
        break;
      case "open":
      case "saloon":
        console.log("open      ", "walk on");
        break;
      default: // one that these definitions do not list, too
        console.log("open      ", "a deck with the number", deck.slice(1));
    }
  }
  const passages: Passage[] = [
    passageTools.make({ kind: "foot", value: { dogs: 1 } }),
    passageTools.make({ kind: "vehicle", value: { plate: "SK 1204", metres: 4.5, refused: new Map() } }),
  ];
  for (const passage of passages) {
    switch (passage.kind) {
      case "foot":
        console.log("open      ", "on foot with", passage.value.dogs, "dog");
        break;
      case "vehicle":
        console.log("open      ", "on wheels,", passage.value.plate);
        break;
      default:
        console.log("open      ", "in another way");
    }
  }
}

/** Unlisted fields are preserved and passed on: here a newer program has sent the field 9, and another one by its name. */
function unlisted(): void {
  const money = moneyTools.fromJson('{"hundredths":2500,"currency":"SKD","#9":"AQ","paid_by":"card"}');
  const raised = { ...money, hundredths: 3000n };
  console.log("unlisted  ", unlistedFields(raised).length, moneyTools.toJson(raised));
}

/** Scalars beyond JavaScript's own have types of faithful/wire. */
function scalars(): void {
  const scan = boardingScanTools.make({
    id: "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f",
    sailing: "EID-0715",
    passage: { kind: "foot", value: {} },
    doorCode: "K7PLM2",
    paid: "48.50",
    seenAt: Instant.parse("2026-07-15T06:58:12Z"),
    born: CalendarDate.of(1968, 5, 1),
    waited: Duration.ofSeconds(90),
    luggage: [Decimal.of(125n, 1)],
    names: new Map([["x-skerry", "Ada"]]),
    remarks: anyOf({ pram: true }),
  });
  if (JSON.stringify(plainOf(scan.remarks ?? null)) !== '{"pram":true}') {
    throw new Error("any is kept as it is");
  }
  console.log("scalars   ", scan.id, scan.paid.toString(), scan.seenAt.toString(), scan.born?.toString(), scan.waited.toSeconds());
  console.log("scalars   ", LARGEST_GROUP, FIRST_SEASON.toString());
}

/** Secrets stay out of the text for people and logs. */
function secrets(): void {
  const code = doorCodeTools.make("K7PLM2");
  const phone = "555 0136";
  const scan = boardingScanTools.make({
    id: uuid("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
    sailing: sailingCodeTools.make("EID-0715"),
    passage: { kind: "foot", value: {} },
    doorCode: code,
    seenAt: Instant.parse("2026-07-15T06:58:12Z"),
    luggage: [],
    names: new Map(),
    phone,
  });
  const text = boardingScanTools.toText(scan);
  console.log("secrets   ", code.length, phone.length, text.includes(code) ? text : "(secret)");
}

if (!deckTools.listed("car")) {
  throw new Error("car is a deck");
}
for (const way of [messages, encodings, bounds, open, unlisted, scalars, secrets]) {
  way();
}
await calls();
