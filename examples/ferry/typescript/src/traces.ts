// Follows calls through two services with OpenTelemetry, and prints the spans of it as a tree.
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";

import { SpanKind, SpanStatusCode, context, trace } from "@opentelemetry/api";
import { AsyncLocalStorageContextManager } from "@opentelemetry/context-async-hooks";
import { BasicTracerProvider, InMemorySpanExporter, type ReadableSpan, SimpleSpanProcessor } from "@opentelemetry/sdk-trace-base";

import { nodeLimits, nodeListener } from "./gen/faithful/node.js";
import type { Served } from "./gen/faithful/server.js";
import { uuid } from "./gen/faithful/wire.js";
import { BookingsClient, serveBookings } from "./gen/skerry/booking/index.js";
import { NotFound } from "./gen/skerry/common/index.js";
import { FleetClient, serveFleet, vesselTools } from "./gen/skerry/fleet/index.js";
import { inSpan, watchClient, watchServer } from "./watchers.js";

const spans = new InMemorySpanExporter(); // a real one sends them to a collector
trace.setGlobalTracerProvider(new BasicTracerProvider({ spanProcessors: [new SimpleSpanProcessor(spans)] }));
context.setGlobalContextManager(new AsyncLocalStorageContextManager());

async function listen(mount: Served): Promise<{ readonly base: string; readonly close: () => void }> {
  const server = createServer(nodeLimits, nodeListener(mount));
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  return {
    base: `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`,
    close: () => {
      server.close();
      server.closeAllConnections();
    },
  };
}

const watched = { watcher: watchServer, middleware: [inSpan] };
const guillemot = uuid("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01");

const harbour = await listen(
  serveFleet(
    {
      vessel(request) {
        if (request.id !== guillemot) {
          throw new NotFound({ what: `vessel ${request.id}` });
        }
        return vesselTools.make({ id: request.id, name: "Guillemot", decks: [], names: new Map() });
      },
    },
    watched,
  ),
);
const vessels = new FleetClient(harbour.base, { watcher: watchClient });

const desk = await listen(
  serveBookings(
    {
      async sailings() {
        await vessels.vessel({ id: guillemot });
        return { sailings: [] };
      },
    },
    watched,
  ),
);
const bookings = new BookingsClient(desk.base, { watcher: watchClient });

await bookings.sailings({});
await vessels.vessel({ id: uuid("00000000-0000-0000-0000-000000000000") }).catch(() => undefined); // there is no such vessel
desk.close();
harbour.close();

/** Prints a span, and those below it. */
function show(span: ReadableSpan, indent: string): void {
  const kind = span.kind === SpanKind.CLIENT ? "client" : "server";
  const failed = span.status.code === SpanStatusCode.ERROR ? " error" : "";
  console.log(`${indent}${kind} ${span.name} ${String(span.attributes["http.response.status_code"])}${failed}`);
  for (const below of spans.getFinishedSpans()) {
    const parent = below.parentSpanContext;
    if (parent?.spanId === span.spanContext().spanId && parent.traceId === span.spanContext().traceId) {
      show(below, `${indent}  `);
    }
  }
}

for (const span of spans.getFinishedSpans()) {
  if (span.parentSpanContext === undefined) {
    show(span, "");
  }
}
