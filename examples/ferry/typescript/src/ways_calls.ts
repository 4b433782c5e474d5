// The documented ways of serving and calling.
import { createHash, timingSafeEqual } from "node:crypto";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";

import { nodeLimits, nodeListener, nodeTransport } from "./gen/faithful/node.js";
import { Forbidden, type Served, serve } from "./gen/faithful/server.js";
import { BadAnswer, InvalidRequest, MissingCredential, Problem, Unreachable } from "./gen/faithful/web.js";
import { Instant, uuid } from "./gen/faithful/wire.js";
import { BookingsClient, bookingTools, SailingFull, serveBookings } from "./gen/skerry/booking/index.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { languageTools, QuayClient, sailingCodeTools, serveQuay } from "./gen/skerry/quay/index.js";

/** Compares secrets in a time that tells nothing of where they differ. */
function isSame(a: string, b: string): boolean {
  const [x, y] = [a, b].map((text) => createHash("sha256").update(text).digest());
  return x !== undefined && y !== undefined && timingSafeEqual(x, y);
}

/** A server of two services, with everything that one may have. */
function served(): Served {
  const bookings = serveBookings(
    {
      book(request) {
        if (request.passengers.length > 5) {
          throw new SailingFull({ seatsLeft: 5 });
        }
        return bookingTools.make({
          id: uuid("6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"),
          sailing: request.sailing,
          passengers: request.passengers,
          fare: { hundredths: 2500n },
          madeAt: Instant.fromDate(new Date()),
          extras: new Map(),
        });
      },
      booking() {
        throw new Error("the database speaks of its password");
      },
    },
    {
      authorizer(_, credentials) {
        const key = credentials.get("skerry.quay.door");
        if (key !== undefined && !isSame(key, "north pier")) {
          throw new Forbidden("this is not the key of a door");
        }
      },
      middleware: [
        async ({ call }, next) => {
          console.log("server    ", call);
          await next();
        },
      ],
      onError(call) {
        console.log("server    ", "told of an error in", call);
      },
    },
  );
  const pier = serveQuay({
    async unpost(_, { signal }) {
      await new Promise<void>((resolve) => {
        signal.addEventListener("abort", () => {
          resolve(); // the client has had enough
        });
      });
    },
  });
  return serve(bookings, pier);
}

/** Tells the kinds of failure apart. */
async function failure(call: Promise<unknown>): Promise<string> {
  try {
    await call;
    return "none";
  } catch (problem) {
    if (problem instanceof SailingFull) {
      return `full, ${String(problem.seatsLeft)} seats are left`; // an error that the call declares
    }
    if (problem instanceof NotFound) {
      return `not found: ${problem.what}`;
    }
    if (problem instanceof Problem) {
      return `the problem ${problem.problem}, ${String(problem.status)}`; // another that the server answered with
    }
    if (problem instanceof InvalidRequest) {
      return `invalid: ${problem.violations[0]?.pointer ?? ""}`; // nothing was sent: the definitions do not allow it
    }
    if (problem instanceof MissingCredential) {
      return "missing crew | door"; // nothing was sent: no credential was given
    }
    if (problem instanceof Unreachable) {
      return "no answer"; // refused, lost, cancelled or timed out
    }
    if (problem instanceof BadAnswer) {
      return "a bad answer"; // one that is not understood
    }
    throw problem;
  }
}

/** Makes calls, and tells their failures apart. */
export async function calls(): Promise<void> {
  const server = createServer(nodeLimits, nodeListener(served()));
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  const base = `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;
  const transport = nodeTransport();

  const client = new BookingsClient(base, { transport, timeout: 5000, tries: 2, headers: { "desk": "7" } });
  const ada = { name: "Ada Quill" };
  const booked = await client.book({ sailing: "EID-0715", passengers: [ada] });
  console.log("client    ", "booked", booked.sailing, "for", booked.passengers.length);

  const party = [ada, ada, ada, ada, ada, ada];
  console.log("failure   ", await failure(client.book({ sailing: "EID-0715", passengers: party })));
  console.log("failure   ", await failure(client.booking({ id: booked.id })));
  console.log("failure   ", await failure(client.book({ sailing: "EID-0715", passengers: [] })));
  console.log("failure   ", await failure(new BookingsClient("http://127.0.0.1:1").book({ sailing: "EID-0715", passengers: party })));

  const notice = { code: sailingCodeTools.make("EID-0715"), language: languageTools.make("x-skerry") };
  console.log("failure   ", await failure(new QuayClient(base).unpost(notice)));
  const thief = new QuayClient(base, { transport, credentials: { door: "a copy" } });
  console.log("failure   ", await failure(thief.unpost(notice)));

  // A value that is asked for on every call, and a call that is given up.
  const door = new QuayClient(base, { transport, credentials: { door: () => "north pier" } });
  console.log("failure   ", await failure(door.unpost(notice, { signal: AbortSignal.timeout(50) })));
  server.close();
  server.closeAllConnections();
}
