// Opens a page in Chromium and prints what it wrote: drive.js URL.
import { chromium } from "playwright-core";

const browser = await chromium.launch({
  executablePath: process.env["CHROMIUM"] ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
});
const page = await browser.newPage();
page.on("pageerror", (problem) => {
  console.error(problem);
});
await page.goto(process.argv[2] ?? "");
await page.waitForFunction('document.title === "done"', undefined, { timeout: 60_000 });
console.log(await page.textContent("body"));
await browser.close();
