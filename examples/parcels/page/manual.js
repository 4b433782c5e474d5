// Sends a parcel from the server's own manual, in Chromium: node manual.js URL PHOTO.
import { chromium } from "playwright-core";

const [url = "", photo = ""] = process.argv.slice(2);
const browser = await chromium.launch({
  executablePath: process.env["CHROMIUM"] ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update"],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
page.on("pageerror", (problem) => {
  console.error(problem);
});
await page.goto(`${url}/-/manual/services/skerry.parcels.Parcels.html`);

/** Opens the form of a call, writes its request, and sends it. */
async function send(call, request, more = async () => {}) {
  const form = page.locator(`#${call} .try`);
  if ((await form.getAttribute("open")) === null) {
    await form.locator("> summary").click();
  }
  await form.locator(".side textarea").last().fill(JSON.stringify(request));
  await more(form);
  await form.getByRole("button", { name: "Send", exact: true }).click();
  await page.waitForFunction((name) => !/under way|^$/i.test(document.querySelector(`#${name} .state`)?.textContent ?? ""), call);
  console.log(call, (await form.locator(".state").textContent()).replace(/, \d+ ms.*/, ""), (await form.locator(".failed").allTextContents()).join());
  return form;
}

await send("send", { parcel: { to: "Marit Skua", quay: "Skerry", grams: 1200, note: "Glass." } });
await send("sign_in", { name: "Ada Petrel" });
console.log("the page sees", (await page.evaluate(() => document.cookie)) || "no cookie");
const sent = await send("send", { parcel: { to: "Marit Skua", quay: "Skerry", grams: 1200, note: "Glass." } });
const values = await sent.locator(".tree > dl > dd").allTextContents();
const id = values.map((text) => text.slice(1, -1)).find((text) => /^[0-9a-f-]{36}$/.test(text));
const tag = JSON.parse(values.find((text) => text.startsWith('"\\"')));
const changed = await send("amend", { id, known: tag, changes: { grams: 1500, note: null } });
console.log((await changed.locator(".tree").textContent()).includes("1500"));
await send("put_photo", { id }, (form) => form.locator("input[type=file]").setInputFiles(photo));
const got = await send("photo", { id });
await got.locator(".answer img").waitFor();
console.log("the photo is", await got.locator(".answer img").evaluate(async (image) => {
  await image.decode();
  return `${image.naturalWidth} by ${image.naturalHeight}`;
}));
await browser.close();
