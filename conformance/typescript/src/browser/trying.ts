// Tries calls of every kind from the pages of a server's manual: trying.js BASE.
import { launched, judged, opened, panelOf } from "./chromium.js";

const base = process.argv[2] ?? "";
const browser = await launched();
const page = await opened(browser, base);
const tell = (name: string, ...said: unknown[]): void => {
  console.log(`${name}:`, said.map(String).join(", "));
};

await page.goto(`${base}/-/manual`);
tell("at", page.url().slice(base.length), await page.locator("h1").textContent());
await page.goto(`${base}/-/manual/services/skerry.matrix.Pier.html`);

tell("copies lead here", !/:8080/.test((await page.locator("#echo .elsewhere code").allTextContents()).join()));

// Both views, and finding.
const number = page.locator("#echo td.number").first();
const views = [await number.isVisible()];
for (const view of ["wire", "names"]) {
  await page.locator(`#view-${view}`).click();
  views.push(await number.isVisible());
}
tell("views", ...views);
await page.keyboard.press("/");
await page.keyboard.type("bearth");
await page.keyboard.press("Enter");
await page.waitForURL(/#berth$/);
tell("found", page.url().slice(base.length));

// A request that is refused while it is typed, sent all the same, then mended.
const echo = await panelOf(page, "echo");
await echo.setJson('{"names":{}}');
await echo.give("/text");
await echo.type("/text", "");
tell("refused as typed", await echo.wrong("/text"), (await echo.text(".summary")).join(""));
await echo.press("Send");
tell("not sent", (await echo.text(".summary")).join(""), (await echo.text(".state")).length);
await page.locator("#echo .anyway input").check();
tell(
  "sent all the same",
  await echo.send(),
  (await echo.text(".failed")).join(),
  (await echo.text(".outcome li")).join(),
);
await page.locator("#echo .anyway input").uncheck();
await echo.type("/text", "ü");
await echo.give("/at");
await page.locator('#echo [data-at="/at"] input[type=datetime-local]').fill("2026-07-15T09:30:05");
await echo.press("Add to names");
await page.locator('#echo [data-at="/names"] li input').first().fill("a");
await page.keyboard.press("Tab");
await echo.type("/names/a", "9007199254740993");
tell("mended", await echo.json(), await echo.send());
tell("answered", (await echo.text(".tree")).join(" "));

// Every place, and an answer in headers.
const berth = await panelOf(page, "look");
await berth.setJson('{"code":"a/b ü","side":"South","ratio":0.1,"name":"n"}');
tell("path and query", await berth.send(), (await berth.text(".tree")).join(" "));
const stamp = await panelOf(page, "stamp");
await stamp.setJson('{"code":"kept","visit":"hello","how":"so"}');
tell("headers and a cookie", await stamp.send(), (await stamp.text(".tree")).join(" "));
tell("copies", (await stamp.copies()).join());

// A body as it is, both ways.
const hang = await panelOf(page, "hang");
await hang.setJson('{"name":"n","tags":["a"]}');
await page
  .locator("#hang .panel input[type=file]")
  .setInputFiles({ name: "p.png", mimeType: "image/png", buffer: Buffer.alloc(100_000, 1) });
tell("upload", await hang.send(), (await hang.text(".tree dd")).join());
const photo = await panelOf(page, "photo");
await photo.setJson('{"name":"n","size":70000}');
tell("download", await photo.send(), (await photo.text(".answer a")).join(), (await photo.text(".tree")).join(" "));

// Streams.
const count = await panelOf(page, "count");
await count.setJson('{"count":20}');
tell("answer stream", await count.send(), (await count.text(".elements li")).length);
await count.setJson('{"count":5,"fails_after":2}');
tell("that fails", await count.send(), (await count.text(".elements li")).length, (await count.text(".failed")).join());
const drift = await panelOf(page, "drift");
await drift.press("Send");
await page.locator("#drift .elements li").nth(3).waitFor();
await drift.press("Stop");
tell("stopped", (await drift.state()).replace(/\d+ elements/, "some elements"), (await drift.text(".failed")).join());
const sum = await panelOf(page, "sum");
await sum.setJson('{"n":4}');
await sum.press("Send");
await sum.setJson('{"n":5}');
await sum.press("Send this element");
await sum.press("No more elements");
tell("request stream", await sum.state(), (await sum.text(".tree")).join());
const mirror = await panelOf(page, "mirror");
await mirror.setJson('{"n":1}');
await mirror.press("Send");
await page.locator("#mirror .elements li").first().waitFor();
await mirror.setJson('{"n":2}');
await mirror.press("Send this element");
await page.locator("#mirror .elements li").nth(1).waitFor();
await mirror.press("No more elements");
tell("both ways", await mirror.state(), (await mirror.text(".elements li .tree")).join());

// Credentials, typed once for all forms.
const guarded = await panelOf(page, "guarded");
tell("without credentials", await guarded.send(), (await guarded.text(".failed")).join());
await page.locator('#guarded [data-credential$=".desk"]').fill("key");
await page.locator('#guarded [data-credential$=".crew"]').fill("Ada");
tell("with them", await guarded.send(), (await guarded.text(".tree dd")).at(-1));
const again = await panelOf(page, "guarded_sum");
await again.setJson('{"n":1}');
await again.press("Send");
await again.press("No more elements");
tell("in the next form", await again.state());
const talk = await panelOf(page, "guarded_mirror");
if ((await talk.text(".send")).length > 0) {
  await talk.setJson('{"n":1}');
  await talk.press("Send");
  await talk.press("No more elements");
  tell("a header and a WebSocket", await talk.state());
} else {
  tell("a header and a WebSocket", (await talk.text(".hint")).at(-1), (await talk.copies()).join());
}
const move = await panelOf(page, "move");
if ((await move.text(".send")).length > 0) {
  await move.setJson('{"to":"/elsewhere"}');
  tell("a redirect", await move.send(), (await move.text(".tree")).join(" "));
} else {
  tell("a redirect", (await move.text(".hint")).at(-1), (await move.copies()).join());
}

// What fails.
const refuse = await panelOf(page, "refuse");
await refuse.setJson('{"how":"declared"}');
tell(
  "a declared error",
  await refuse.send(),
  (await refuse.text(".failed")).join(),
  (await refuse.text(".failed + .tree")).join(),
);
const unwritten = await panelOf(page, "unwritten");
tell("not implemented", await unwritten.send(), (await unwritten.text(".failed")).join());
const sleep = await panelOf(page, "sleep");
await sleep.press("Send");
await page.waitForTimeout(200);
await sleep.press("Stop");
tell("a server that hangs", await sleep.state(), (await sleep.text(".failed")).join());

for (const found of await judged(page)) {
  console.log(found);
}
await browser.close();
