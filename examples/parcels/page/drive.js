// Uses the page as a visitor does, in Chromium, and prints what the page says: node drive.js URL PHOTO [PICTURE].
import { chromium } from "playwright-core";

const [url = "", photo = "", picture] = process.argv.slice(2);
const browser = await chromium.launch({
  executablePath: process.env["CHROMIUM"] ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
page.on("pageerror", (problem) => {
  console.error(problem);
});
await page.goto(url);

async function told(act) {
  await page.evaluate(() => {
    document.getElementById("told").textContent = "";
  });
  await act();
  await page.waitForFunction(() => document.getElementById("told").textContent !== "");
  console.log(await page.textContent("#told"));
}

await told(() => page.click("#sign-in button"));
console.log("the page sees", (await page.evaluate(() => document.cookie)) || "no cookie");
await page.fill("#send [name=grams]", "31000");
await told(() => page.click("#send button"));
await page.fill("#send [name=grams]", "1200");
await told(() => page.click("#send button"));
console.log(await page.textContent("#shown"));
await told(() => page.click("#look"));
await page.fill("#amend [name=grams]", "1500");
await page.fill("#amend [name=note]", "");
await told(() => page.click("#amend button"));
console.log(await page.textContent("#shown"));
await told(() => page.setInputFiles("#file", photo));
if (picture !== undefined) {
  await page.screenshot({ path: picture, fullPage: true });
}
await told(() => page.click("#look"));
await browser.close();
