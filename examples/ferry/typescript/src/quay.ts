// The quay's side of the server: streams in all three ways, and a door.
import { createHash, timingSafeEqual } from "node:crypto";

import { Forbidden, type Authorizer } from "./gen/faithful/server.js";
import { Instant } from "./gen/faithful/wire.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { type Notice, type QuayCalls, type Refusal } from "./gen/skerry/quay/index.js";

const notices = new Map<string, Notice>();

/** Compares secrets in a time that tells nothing of where they differ. */
function isSame(a: string, b: string): boolean {
  const [x, y] = [a, b].map((text) => createHash("sha256").update(text).digest());
  return x !== undefined && y !== undefined && timingSafeEqual(x, y);
}

/** Lets in whoever shows the key of the door; a real one would look at the crew's token, too. */
export const authorize: Authorizer = (_, credentials) => {
  const key = credentials.get("skerry.quay.door");
  if (key !== undefined && !isSame(key, "north pier")) {
    throw new Forbidden("this is not the key of a door");
  }
};

export function quayCalls(vessel: string, leavesAt: Instant): QuayCalls {
  return {
    async *follow(request) {
      if (request.vessel !== vessel) {
        throw new NotFound({ what: `vessel ${request.vessel}` });
      }
      // A real one would go on until context.signal says that the caller has left.
      for (let minute = 0; minute < 3; minute++) {
        yield await Promise.resolve({ vessel: request.vessel, spot: { latitude: 12.5 + minute / 100, longitude: -30.25 }, seenAt: Instant.of(leavesAt.seconds + 60 * minute) });
      }
    },

    async board(scans) {
      let boarded = 0;
      const refused = new Map<Refusal, number>();
      const refuse = (why: Refusal): void => {
        refused.set(why, (refused.get(why) ?? 0) + 1);
      };
      for await (const { passage, seats } of scans) {
        switch (passage.kind) {
          case "foot":
          case "group":
            boarded += seats;
            break;
          case "vehicle":
            if (passage.value.metres > 12) {
              refuse("wrong_ferry");
            } else {
              boarded += seats;
            }
            break;
          default: // what this server's definitions do not know yet
            refuse("other");
        }
      }
      return { boarded, refused };
    },

    async *talk(signals) {
      for await (const { text } of signals) {
        yield { text: `Understood: ${text}` };
      }
    },

    post(notice) {
      notices.set(notice.code, notice);
      return notice;
    },

    unpost({ code }) {
      if (!notices.delete(code)) {
        throw new NotFound({ what: `a notice for ${code}` });
      }
    },

    // The other calls are not written yet: they answer 501.
  };
}
