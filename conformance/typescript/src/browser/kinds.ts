// Fills in a form with a field of every kind, from disk: kinds.js PAGE. Form and JSON are in step, both ways.
import { pathToFileURL } from "node:url";

import { judged, launched, opened, panelOf } from "./chromium.js";

const url = pathToFileURL(process.argv[2] ?? "").href;
const browser = await launched();
const page = await opened(browser, url.slice(0, url.lastIndexOf("/services")));
await page.goto(url);
const form = await panelOf(page, "keep");
const tell = (name: string, ...said: unknown[]): void => {
  console.log(`${name}:`, said.map(String).join(", "));
};
const typed: Record<string, string> = {
  small: "-128",
  large: "-9007199254740993",
  huge: "18446744073709551615",
  ratio: "0.1",
  exact: "1e400",
  half: "NaN",
  name: 'ü"\\',
  note: "two\nlines",
  key: "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f",
  at: "2026-07-15T09:30:00Z",
  day: "2026-02-28",
  wait: "PT90S",
  price: "12.50",
  extra: '{"a":[1,2.50]}',
  content: "AAEC",
  word: "hidden",
};
tell("made", (await form.text(".summary")).join("") === "" && (await form.json()).startsWith('{"open": '));
await form.setJson("{}");
tell("missing", (await page.locator("#keep .wrong:visible").allTextContents()).join());
await page.locator('#keep [data-at="/change"]').getByRole("button", { name: "Fill in change" }).click();
for (const field of ["open", ...Object.keys(typed), "lane", "load", "list", "texts", "numbers", "lanes"]) {
  await page
    .locator(`#keep [data-at="/${field}"]`)
    .getByRole("button", { name: `Fill in ${field}` })
    .click();
}
tell("to begin with", await form.json());

for (const [field, text] of Object.entries(typed)) {
  await form.type(`/${field}`, text);
}
await form.choose("/open", "true");
await form.choose("/lane", "Right");
await form.choose("/load", "crate");
await form.type("/load/crate/label", "glass");
await form.press("Add to list");
await form.type("/list/0", "7");
await form.press("Add to list");
await form.type("/list/1", "7");
await form.press("Add to texts");
await form.type("/texts/", "x");
await page.locator('#keep [data-at="/texts"] li > input').first().fill("a/b~c");
await page.keyboard.press("Tab");
await form.press("Add to numbers");
await page.locator('#keep [data-at="/numbers"] li > input').first().fill("-5");
await page.keyboard.press("Tab");
await form.type("/numbers/-5", "n");
await form.press("Add to lanes");
await page.locator('#keep [data-at="/lanes"] li > select').first().selectOption("Right");
await form.give("/crate");
await form.type("/crate/label", "in");
await page.locator('#keep [data-at="/change"] [data-at="/change/label"] > .name select').selectOption("set");
await form.type("/change/label", "new");
await page.locator('#keep [data-at="/change/note"] > .name select').selectOption("clear");
await form.give("/seats");
tell("typed", await form.json());
tell("what is wrong", (await page.locator("#keep .wrong:visible").allTextContents()).join("; "));
tell("a secret is hidden", await page.locator('#keep [data-at="/word"] input').getAttribute("type"));
await form.type("/exact", "1");
await form.type("/list/1", "8");
await form.type("/small", "200");
tell("out of its type", await form.wrong("/small"));
await form.type("/small", "1");
tell(
  "nothing is wrong",
  (await page.locator("#keep .wrong:visible").count()) === 0,
  (await form.text(".summary")).join(""),
);

// What has a button or a picker of its own.
await page.locator('#keep [data-at="/key"]').getByRole("button").click();
await page.locator('#keep [data-at="/at"] input[type=datetime-local]').fill("2026-12-24T18:00:01");
await page.locator('#keep [data-at="/day"] input[type=date]').fill("2026-12-24");
await page
  .locator('#keep [data-at="/content"] input[type=file]')
  .setInputFiles({ name: "c", mimeType: "application/octet-stream", buffer: Buffer.from([255, 254]) });
await page.waitForTimeout(100);
const json = await form.json();
tell(
  "picked",
  /"key": "[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab]/.test(json),
  /"at": "([^"]*)"/.exec(json)?.[1],
  /"day": "([^"]*)"/.exec(json)?.[1],
  /"content": "([^"]*)"/.exec(json)?.[1],
);
await page.locator('#keep [data-at="/list"]').getByRole("button", { name: "Remove list 0" }).click();
tell("removed", /"list": \[[^\]]*\]/.exec(await form.json())?.[0]);

// The other way: what is written as JSON is in the form, and what no field is for is kept.
await form.setJson(
  json
    .replace('"small": 1', '"small": 3, "elsewhere": [1.50], "#900": "9g"')
    .replace('"lane": "Right"', '"lane": 7')
    .replace('"crate":{"label":"glass"}', '"sheep": 4'),
);
tell(
  "in the form",
  await page.locator('#keep [data-at="/small"] input').inputValue(),
  await page.locator('#keep [data-at="/lane"] select').inputValue(),
  await form.wrong("/lane"),
);
await form.type("/small", "4");
tell(
  "kept",
  (await form.json()).includes('"elsewhere": [1.50],"#900": "9g"'),
  (await form.json()).includes('"small": 4'),
);
await form.setJson('{"small": ');
tell(
  "not JSON",
  (await page.locator("#keep .text > .wrong").allTextContents()).join(),
  await page.locator('#keep [data-at="/small"] input').inputValue(),
);
await form.setJson('{"small": 1, "small": 2}');
tell("twice", (await page.locator("#keep .text > .wrong").allTextContents()).join());
await form.setJson("[]");
tell("no object", (await page.locator("#keep .text > .wrong").allTextContents()).join());

await form.setJson(json.replace('"open": true', '"open": "yes"'));
tell("no bool", await page.locator('#keep [data-at="/open"] select').inputValue(), await form.wrong("/open"));

const pick = await panelOf(page, "pick");
const before = await pick.json();
await page.locator('#pick select[aria-label="Request: fill in an example"]').selectOption("second");
tell("examples", before, await pick.json());

for (const found of await judged(page)) {
  console.log(found);
}
await browser.close();
