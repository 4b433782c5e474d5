// Reads and tries a manual that faithful serves, while its definitions change and its server lies: serving.js FAITHFUL FOLDER.
import { spawn } from "node:child_process";
import { once } from "node:events";
import { readFileSync, writeFileSync } from "node:fs";
import { createServer, request, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { createInterface } from "node:readline";

import { judged, launched, opened, panelOf } from "./chromium.js";

const [faithful = "", folder = "."] = process.argv.slice(2);
const tell = (name: string, ...said: unknown[]): void => {
  console.log(`${name}:`, said.map(String).join(", "));
};

// A server that lies.
let asked = 0;
let answer = (response: ServerResponse): void => {
  response.end();
};
const liar = createServer((_, response) => {
  asked++;
  answer(response);
});
liar.listen(0, "127.0.0.1");
await once(liar, "listening");
const addressOf = (server: typeof liar): string => `http://127.0.0.1:${String((server.address() as AddressInfo).port)}`;

const serving = spawn(faithful, ["manual", "--serve=127.0.0.1:0", "--to", addressOf(liar)], {
  cwd: folder,
  stdio: ["ignore", "pipe", "inherit"],
});
const said = createInterface(serving.stdout)[Symbol.asyncIterator]();
const base = /http:\S+(?=\/-\/manual)/.exec(String((await said.next()).value))?.[0] ?? "";
void (async () => {
  while ((await said.next()).done !== true);
})();

const browser = await launched();
const page = await opened(browser, base);
await page.goto(`${base}/-/manual/services/skerry.booking.Bookings.html`);
const shown = (): Promise<number> => page.evaluate(() => Number(document.documentElement.dataset["shown"] ?? "0"));

/** Saves a file, and says after how many milliseconds the page shows it. */
async function save(file: string, text: string): Promise<number> {
  const before = await shown();
  const wrong = await page.locator(".banner:visible").count();
  const seen = page.waitForFunction(
    ([n = 0, banners = 0]) =>
      Number(document.documentElement.dataset["shown"] ?? "0") > n ||
      document.querySelectorAll(".banner:not([hidden])").length > banners,
    [before, wrong],
    { polling: "raf" },
  );
  const begin = performance.now();
  writeFileSync(file, text);
  await seen;
  return performance.now() - begin;
}

// A save in the middle of typing.
const file = `${folder}/definitions/booking.faithful`;
const good = readFileSync(file, "utf8");
const book = await panelOf(page, "book");
await page.locator('#book [data-at="/email"] textarea').click();
await page.keyboard.press("End");
await page.keyboard.type(".i");
await page.keyboard.press("ArrowLeft");
const place = (): Promise<number> =>
  page.evaluate(() => Math.round(document.activeElement?.getBoundingClientRect().top ?? NaN));
const placed = await place();
const changed = good
  .replace("/// Books a crossing.", "/// Books a crossing, at once.")
  .replace(
    "#5 email      text?       where length 3..254",
    "#5 email      text?       where length 3..254\n  #6 remark     text?       where length <= 3",
  );
const times = [await save(file, changed)];
await page.keyboard.type("nf");
tell(
  "typing goes on",
  await page.locator('#book [data-at="/email"] textarea').inputValue(),
  Math.abs((await place()) - placed) < 3,
);
tell(
  "the save is shown",
  await page.locator("#book > p", { hasText: "at once" }).count(),
  await page.locator('#book [data-at="/remark"]').count(),
);
await book.give("/remark");
await book.type("/remark", "four");
tell("its bounds hold", await book.wrong("/remark"));
await book.type("/remark", "yes");

// A save that is wrong: the last good state stays.
await save(file, changed.replace("/// Books a crossing", "!!"));
tell(
  "a broken save",
  ((await page.locator(".banner").textContent()) ?? "").replace(/\s+/g, " ").slice(0, 110),
  await page.locator("#book > p", { hasText: "at once" }).count(),
);
await page.locator('#book [data-at="/remark"] textarea, #book [data-at="/remark"] input[type=text]').fill("no");
await save(file, good);
tell(
  "mended",
  await page.locator(".banner:visible").count(),
  await page.locator("#book > p", { hasText: "at once" }).count(),
  /"remark": "([^"]*)"/.exec(await book.json())?.[1],
);
for (let i = 0; i < 10; i++) {
  const text = `Books a crossing, ${String(i)}.`;
  const seen = page.waitForFunction(
    (wanted) => document.querySelector("#book > p:not(.method)")?.textContent === wanted,
    text,
    { polling: "raf" },
  );
  const begin = performance.now();
  writeFileSync(file, good.replace("Books a crossing.", text));
  await seen;
  times.push(performance.now() - begin);
}
times.sort((a, b) => a - b);
const median = times[Math.floor(times.length / 2)] ?? NaN;
tell("a save is shown in under 300 ms", median < 300 ? true : times.map((ms) => ms.toFixed(0)).join(" "));
await save(file, good);

// A call with another request: what was typed stays in the JSON.
await save(file, good.replace("call book(BookRequest) -> Booking", "call book(BookingRequest) -> Booking"));
tell(
  "another request",
  await page.locator('#book [data-at="/id"]').count(),
  await page.locator('#book [data-at="/sailing"]').count(),
  (await book.json()).includes('"sailing": "EID-0715"'),
);
await save(file, good);
tell("and back", await page.locator('#book [data-at="/sailing"] input').inputValue());

// What a server can do to a page.
const booking = await panelOf(page, "booking");
const json =
  (status: number, body: string) =>
  (response: ServerResponse): void => {
    response.writeHead(status, { "content-type": "application/json" }).end(body);
  };
answer = json(200, '{"id": 7}');
tell(
  "another type",
  await booking.send(),
  (await booking.text(".failed")).join(),
  (await booking.text(".outcome li")).join(),
);
answer = json(200, "<html>");
tell(
  "no JSON",
  await booking.send(),
  (await booking.text(".failed")).join(),
  (await booking.text(".outcome li")).join(),
);
answer = json(500, "<html>");
tell("no problem details", await booking.send(), (await booking.text(".failed")).join());
answer = (response) => {
  response.writeHead(302, { location: "http://127.0.0.1:1/" }).end();
};
tell("a redirect that nobody declared", await booking.send(), (await booking.text(".failed")).join());
answer = (response) => {
  response.socket?.destroy();
};
tell("nothing", (await booking.send()).slice(0, 9), (await booking.text(".failed")).length);
answer = () => undefined;
await booking.press("Send");
await page.waitForTimeout(100);
await booking.press("Stop");
tell("a server that hangs", await booking.state(), (await booking.text(".failed")).join());
await page.goto(`${base}/-/manual/services/skerry.quay.Quay.html`);
const follow = await panelOf(page, "follow");
answer = (response) => {
  response.writeHead(200, { "content-type": "application/json-seq" });
  const more = setInterval(() => {
    response.write(
      '\u001e{"value":{"vessel":"0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01","at":{"latitude":1,"longitude":2},"measured":"2026-07-15T07:00:00Z","knots":1}}\n'.repeat(
        100,
      ),
    );
  }, 5);
  response.on("close", () => {
    clearInterval(more);
  });
};
await follow.press("Send");
await page.waitForTimeout(1500);
await follow.press("Stop");
tell(
  "a stream for ever",
  (await follow.state()).replace(/\d+ elements/, "many elements"),
  (await follow.text(".elements > li")).length,
);
for (const found of await judged(page)) {
  console.log(found);
}

// A page of somebody else may neither read nor send, nor hold ours in a frame.
const before = asked;
const hostile = createServer((_, response) => {
  response.writeHead(200, { "content-type": "text/html" }).end("<!doctype html><title>elsewhere</title><body>");
});
hostile.listen(0, "127.0.0.1");
await once(hostile, "listening");
const other = await (await browser.newContext()).newPage();
await other.goto(addressOf(hostile));
const tried = await other.evaluate(async (to) => {
  const results: string[] = [];
  const attempt = async (name: string, act: () => Promise<Response>): Promise<void> => {
    results.push(
      `${name} ${await act().then(
        (response) => (response.type === "opaque" ? "unseen" : String(response.status)),
        () => "refused",
      )}`,
    );
  };
  const body = JSON.stringify({ call: "skerry.booking.Bookings.sailings", request: "{}" }) + "\n";
  await attempt("read", () => fetch(`${to}/-/manual/index.html`));
  await attempt("send", () => fetch(`${to}/-/send`, { method: "POST", body }));
  await attempt("send blindly", () => fetch(`${to}/-/send`, { method: "POST", body, mode: "no-cors" }));
  await attempt("send with a guess", () =>
    fetch(`${to}/-/send`, { method: "POST", body, headers: { "Faithful-Manual": "guess" } }),
  );
  const frame = document.createElement("iframe");
  frame.src = `${to}/-/manual/index.html`;
  document.body.append(frame);
  await new Promise((resolve) => {
    frame.onload = resolve;
    setTimeout(resolve, 2000);
  });
  return results;
}, base);
const framed = other.frames().find((frame) => frame !== other.mainFrame());
tell(
  "somebody else's page",
  ...tried,
  `a frame shows ${framed?.url().startsWith("chrome-error:") === true ? "nothing" : String(framed?.url())}`,
  `${String(asked - before)} calls were made`,
);

/** What a request with other headers is answered, as a page with a name of its own for this address would send it. */
async function answered(headers: Record<string, string>, method: string, path: string): Promise<number | undefined> {
  const sent = request(base + path, { method, headers });
  sent.end();
  const [response] = (await once(sent, "response")) as [{ statusCode?: number; resume(): void }];
  response.resume();
  return response.statusCode;
}
const own = base.slice("http://".length);
tell(
  "a name for this address",
  await answered({ host: `evil.example:${own.split(":")[1] ?? ""}` }, "GET", "/-/manual/"),
);
tell("no origin", await answered({ host: own }, "POST", "/-/send"));
const secret = (await page.locator("meta[name=faithful-manual]").getAttribute("content")) ?? "";
tell(
  "another origin with the secret",
  await answered({ host: own, origin: "http://evil.example", "faithful-manual": secret }, "POST", "/-/send"),
);
tell("ours", await answered({ host: own, origin: base, "faithful-manual": secret }, "POST", "/-/send"), asked - before);

serving.kill("SIGINT");
const [status] = (await once(serving, "exit")) as [number | null];
tell("it ends", status);
await page.locator(".banner:visible").waitFor();
tell("the page says so", ((await page.locator(".banner").textContent()) ?? "").slice(0, 60));
await browser.close();
liar.closeAllConnections();
liar.close();
hostile.close();
