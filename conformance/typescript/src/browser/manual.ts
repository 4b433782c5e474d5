// Reads a manual from disk in Chromium, as its users do: manual.js FOLDER.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";

import { chromium } from "playwright-core";

const folder = pathToFileURL(`${process.argv[2] ?? "."}/`).href;
const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");
const browser = await chromium.launch({
  executablePath: process.env["CHROMIUM"] ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update"],
});
const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
const page = await context.newPage();
page.on("pageerror", (problem) => {
  console.log("error", problem.message);
});
page.on("request", (request) => {
  if (!request.url().startsWith(folder)) {
    console.log("asked for", request.url());
  }
});

/** What the rules of accessibility find on a page. */
async function judged(): Promise<string[]> {
  await page.evaluate(axe);
  return page.evaluate(async () => {
    const { axe: rules } = globalThis as unknown as { axe: { run(): Promise<{ violations: { id: string; nodes: { html: string }[] }[] }> } };
    const { violations } = await rules.run();
    return violations.map(({ id, nodes }) => `${id} ${nodes[0]?.html ?? ""}`);
  });
}

for (const colours of ["light", "dark"] as const) {
  for (const width of [1280, 390]) {
    await page.emulateMedia({ colorScheme: colours });
    await page.setViewportSize({ width, height: 800 });
    for (const path of ["index.html", "services/skerry.quay.Quay.html", "modules/skerry.quay.html", "changes.html", "deprecated.html", "errors.html", "credentials.html", "names.html"]) {
      await page.goto(folder + path);
      await page.evaluate(() => {
        for (const details of document.querySelectorAll("details")) {
          details.open = true;
        }
      });
      for (const found of await judged()) {
        console.log(colours, width, path, found);
      }
      const wider = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
      if (wider > 0) {
        console.log(colours, width, path, `is ${String(wider)} px too wide`);
      }
    }
  }
}

// Two views, which are remembered from page to page.
await page.setViewportSize({ width: 1280, height: 800 });
await page.goto(`${folder}services/skerry.booking.Bookings.html`);
const numbers = page.locator("#book td.number").first();
console.log("names:", await numbers.isVisible());
await page.keyboard.press("Tab"); // to the content
for (let i = 0; i < 20 && !(await page.locator("#view-wire:focus").count()); i++) {
  await page.keyboard.press("Tab");
}
await page.keyboard.press("Enter");
console.log("wire:", await numbers.isVisible(), await numbers.textContent());
await page.goto(`${folder}modules/skerry.booking.html`);
console.log("remembered:", await page.locator("#Booking td.number").first().isVisible());

// Finding: with a slip, by a path, and with the keyboard alone.
for (const typed of ["pasenger", "/quay/board", "#65535", "Guillemot"]) {
  await page.keyboard.press("/");
  await page.keyboard.type(typed);
  console.log("find", `${typed}:`, (await page.locator("#answers [aria-selected=true] b").allTextContents()).join() || "nothing");
  if (typed === "pasenger") {
    await page.keyboard.press("Enter");
    await page.waitForURL(/#Passenger$/);
    console.log("at", page.url().slice(folder.length));
  } else {
    await page.keyboard.press("Escape");
  }
}
await page.keyboard.press("Control+k");
await page.locator("#slash").uncheck();
await page.keyboard.press("Escape");
await page.keyboard.press("/");
console.log("switched off:", !(await page.locator("#search").isVisible()));

// Without scripts, everything can be read.
const plain = await browser.newContext({ javaScriptEnabled: false });
const read = await plain.newPage();
await read.goto(`${folder}services/skerry.booking.Bookings.html`);
console.log("without scripts:", await read.locator("#book td.number").first().isVisible(), await read.locator("#find").isVisible());
await browser.close();
