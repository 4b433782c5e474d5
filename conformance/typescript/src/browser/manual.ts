// Reads a manual from disk in Chromium, as its users do: manual.js FOLDER FILE LARGE, of which FILE is the same manual in
// one file, and LARGE a manual with very many names.
import { pathToFileURL } from "node:url";

import { judged, launched, opened, panelOf } from "./chromium.js";

const [folder = "", file = "", large = ""] = process.argv.slice(2).map((path) => pathToFileURL(path).href);
const browser = await launched();
const page = await opened(browser, folder.slice(0, folder.lastIndexOf("/", folder.lastIndexOf("/") - 1)));
const below = `${folder}/`;

for (const colours of ["light", "dark"] as const) {
  for (const width of [1280, 390]) {
    await page.emulateMedia({ colorScheme: colours });
    await page.setViewportSize({ width, height: 800 });
    for (const url of [
      "index.html",
      "services/skerry.quay.Quay.html",
      "modules/skerry.quay.html",
      "changes.html",
      "changes/1.0.0..draft.html",
      "deprecated.html",
      "errors.html",
      "credentials.html",
      "names.html",
      file,
    ]) {
      await page.goto(url.startsWith("file:") ? `${url}#services/skerry.booking.Bookings` : below + url);
      for (const summary of await page.locator(".try:visible > summary").all()) {
        await summary.click();
      }
      await page.evaluate(() => {
        for (const details of document.querySelectorAll("details:not(.try)")) {
          (details as HTMLDetailsElement).open = true;
        }
      });
      for (const found of await judged(page)) {
        console.log(colours, width, url.slice(-30), found);
      }
      const wider = await page.evaluate(
        () => document.documentElement.scrollWidth - document.documentElement.clientWidth,
      );
      if (wider > 0) {
        console.log(colours, width, url.slice(-30), `is ${String(wider)} px too wide`);
      }
    }
  }
}

// The view of the wire, on a phone.
for (const url of ["services/skerry.quay.Quay.html", "modules/skerry.quay.html"]) {
  await page.goto(below + url);
  await page.locator("#view-wire").click();
  await page.evaluate(() => {
    for (const details of document.querySelectorAll("details:not(.try)")) {
      (details as HTMLDetailsElement).open = true;
    }
  });
  await page.waitForTimeout(50); // until what was opened is laid out
  for (const found of await judged(page)) {
    console.log("wire", url, found);
  }
  await page.locator("#view-names").click();
}

// A policy holds, from disk too: what is not the pages' own does not run, and nothing is asked for.
const tampered = await browser.newPage();
for (const url of [`${below}index.html`, file, `${large}/modules/skerry.many-M1.html`]) {
  await page.goto(url);
  for (const found of await judged(page)) {
    console.log(url.slice(-30), found);
  }
  await tampered.goto(url);
  const ran = await tampered.evaluate(async () => {
    const script = document.createElement("script");
    script.textContent = "document.body.dataset.ran = 'yes'";
    document.body.append(script);
    document.body.insertAdjacentHTML(
      "beforeend",
      '<img src="x" onerror="document.body.dataset.ran = 1"><p style="color: red">',
    );
    const fetched = await fetch("http://127.0.0.1:1/").then(
      () => "answered",
      () => "refused",
    );
    return `${document.body.dataset["ran"] ?? "nothing"} ran, ${fetched}`;
  });
  console.log("a policy:", ran, await tampered.locator("html.script").count());
}

// Two views, which are remembered from page to page.
await page.setViewportSize({ width: 1280, height: 800 });
await page.goto(`${below}services/skerry.booking.Bookings.html`);
const numbers = page.locator("#book td.number").first();
console.log("names:", await numbers.isVisible());
await page.keyboard.press("Tab"); // to the content
for (let i = 0; i < 20 && !(await page.locator("#view-wire:focus").count()); i++) {
  await page.keyboard.press("Tab");
}
await page.keyboard.press("Enter");
console.log("wire:", await numbers.isVisible(), await numbers.textContent());
await page.goto(`${below}modules/skerry.booking.html`);
console.log("remembered:", await page.locator("#Booking td.number").first().isVisible());

// Finding: with a slip, by a path, and with the keyboard alone.
for (const typed of ["pasenger", "/quay/board", "#65535", "Guillemot"]) {
  await page.keyboard.press("/");
  await page.keyboard.type(typed);
  console.log(
    "find",
    `${typed}:`,
    (await page.locator("#answers [aria-selected=true] b").allTextContents()).join() || "nothing",
  );
  if (typed === "pasenger") {
    await page.keyboard.press("Enter");
    await page.waitForURL(/#Passenger$/);
    console.log("at", page.url().slice(below.length));
  } else {
    await page.keyboard.press("Escape");
  }
}
await page.keyboard.press("Control+k");
await page.locator("#slash").uncheck();
await page.keyboard.press("Escape");
await page.keyboard.press("/");
console.log("switched off:", !(await page.locator("#search").isVisible()));

// A form with the keyboard alone, from the summary to a field of an element that is added. From disk nothing is sent.
await page.goto(`${below}services/skerry.booking.Bookings.html`);
await page.locator("#book .try > summary").focus();
await page.keyboard.press("Enter");
await page.locator("#book .form input").first().waitFor();
await page.keyboard.press("Tab");
await page.keyboard.press("Control+a");
await page.keyboard.type("EID-0716");
for (
  let i = 0;
  i < 40 && (await page.evaluate(() => document.activeElement?.textContent)) !== "Add to passengers";
  i++
) {
  await page.keyboard.press("Tab");
}
await page.keyboard.press("Enter");
await page.keyboard.type("Tom Skua");
await page.waitForTimeout(300);
const typed = (await page.locator("#book .copies code").first().textContent()) ?? "";
console.log("typed:", /"sailing":"EID-0716".*"name":"Tom Skua"/.test(typed), await page.locator("#book .send").count());
console.log("to send:", (await page.locator("#book .panel > .hint code").allTextContents()).join());

// The copies of each form are those that the page has without scripts.
let [same, different] = [0, 0];
for (const service of ["booking.Bookings", "fleet.Fleet", "quay.Quay"]) {
  await page.goto(`${below}services/skerry.${service}.html`);
  for (const call of await page.locator("section.call").all()) {
    await call.locator(".try > summary").click();
    await call.locator(".panel .copies summary").first().waitFor();
    const live = await call.locator(".panel .copies code").allTextContents();
    const made = await call.locator(".elsewhere code").allTextContents();
    if (live.length > 0 && live.every((text, i) => text === made[i])) {
      same++;
    } else {
      different++;
    }
  }
}
console.log("copies:", same, "the same,", different, "others");

// One file: one page at a time, links, search and forms.
await page.goto(file);
console.log("one file:", await page.locator(".page:visible").count(), await page.locator("h1:visible").textContent());
await page.locator(".page:visible").getByRole("link", { name: "book", exact: true }).click();
console.log("a link:", (await page.locator("h1:visible").allTextContents()).join(), new URL(page.url()).hash);
await panelOf(page, "services\\/skerry\\.booking\\.Bookings--book");
console.log("a form:", await page.locator("[data-at='/sailing'] input").inputValue());
await page.keyboard.press("Control+k");
await page.keyboard.type("NoticeRequest");
await page.keyboard.press("Enter");
await page.waitForURL(/NoticeRequest$/);
console.log("found:", new URL(page.url()).hash, await page.locator("h1:visible").textContent());

// Very many names answer within a frame, a letter each.
const crowded = await opened(browser, large.slice(0, large.lastIndexOf("/")));
await crowded.goto(`${large}/index.html`);
await crowded.keyboard.press("/");
const { times, count } = await crowded.evaluate(async () => {
  const query = document.querySelector<HTMLInputElement>("#query");
  const took: number[] = [];
  let answers = 0;
  for (const word of ["field_17", "message", "lighthose", "#12"]) {
    for (let i = 1; i <= word.length; i++) {
      await new Promise(requestAnimationFrame);
      const begin = performance.now();
      if (query !== null) {
        query.value = word.slice(0, i);
      }
      query?.dispatchEvent(new Event("input"));
      took.push(performance.now() - begin);
      answers += document.querySelectorAll("#answers li").length;
    }
  }
  return { times: took.sort((a, b) => a - b), count: answers };
});
const median = times[Math.floor(times.length / 2)] ?? NaN;
const tenth = times[Math.floor(times.length * 0.9)] ?? NaN;
console.log("within a frame:", median < 16 ? true : `${String(median)} ms, ${String(tenth)} ms`, count > 100);

// Without scripts, everything can be read.
const plain = await browser.newContext({ javaScriptEnabled: false });
const read = await plain.newPage();
await read.goto(`${below}services/skerry.booking.Bookings.html`);
console.log(
  "without scripts:",
  await read.locator("#book td.number").first().isVisible(),
  await read.locator("#find").isVisible(),
  await read.locator(".try:visible").count(),
);
await read.goto(file);
console.log("one file without scripts:", await read.locator("h1:visible").count());

// On paper there is what is read, and nothing to press.
await page.goto(`${below}services/skerry.booking.Bookings.html`);
await page.emulateMedia({ media: "print" });
console.log(
  "printed:",
  await page.locator("#book table").first().isVisible(),
  await page.locator("nav, header, .try").filter({ visible: true }).count(),
);
await browser.close();
