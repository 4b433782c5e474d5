// What every program that opens pages in Chromium needs.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";

import { chromium, type Browser, type Page } from "playwright-core";

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");

/** Starts the browser. */
export function launched(): Promise<Browser> {
  return chromium.launch({
    executablePath: process.env["CHROMIUM"] ?? "/usr/bin/chromium",
    args: [
      "--no-sandbox",
      "--disable-gpu",
      "--no-first-run",
      "--disable-background-networking",
      "--disable-component-update",
    ],
  });
}

/** A page that writes down what goes wrong in it, and what it asks for from elsewhere than below a URL. */
export async function opened(browser: Browser, below: string): Promise<Page> {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, acceptDownloads: true });
  const page = await context.newPage();
  page.setDefaultTimeout(20_000);
  page.on("pageerror", (problem) => {
    console.log("error", problem.message);
  });
  page.on("console", (message) => {
    if (
      message.type() === "error" &&
      !/the server responded with a status|ERR_CONNECTION|ERR_INCOMPLETE|ERR_EMPTY/.test(message.text())
    ) {
      console.log("console", message.text());
    }
  });
  page.on("request", (request) => {
    if (!request.url().startsWith(below) && !request.url().startsWith("blob:")) {
      console.log("asked for", request.url());
    }
  });
  return page;
}

/** What the rules of accessibility find on a page. */
export async function judged(page: Page): Promise<string[]> {
  // Policies let no script in but the page's own; what a debugger evaluates is not held by them.
  await page.evaluate(axe);
  return page.evaluate(async () => {
    const { axe: rules } = globalThis as unknown as {
      axe: { run(options: { preload: boolean }): Promise<{ violations: { id: string; nodes: { html: string }[] }[] }> };
    };
    const { violations } = await rules.run({ preload: false }); // from a disk, styles can't be fetched
    return violations.map(({ id, nodes }) => `${id} ${nodes[0]?.html ?? ""}`);
  });
}

/** The form of a call, opened. */
export async function panelOf(page: Page, call: string): Promise<Panel> {
  await page.locator(`#${call} .try > summary`).click();
  return new Panel(page, call);
}

export class Panel {
  private readonly page: Page;
  private readonly call: string;

  constructor(page: Page, call: string) {
    this.page = page;
    this.call = call;
  }

  /** Types into the input of a field, by its JSON Pointer. */
  async type(pointer: string, text: string): Promise<void> {
    await this.page
      .locator(`#${this.call} [data-at="${pointer}"] :is(input:not([type=checkbox], [type=file]), textarea)`)
      .first()
      .fill(text);
  }

  /** Gives a field that may be left out, or leaves it out. */
  async give(pointer: string, given = true): Promise<void> {
    await this.page.locator(`#${this.call} [data-at="${pointer}"] > .name input[type=checkbox]`).setChecked(given);
  }

  async choose(pointer: string, option: string): Promise<void> {
    await this.page.locator(`#${this.call} [data-at="${pointer}"] select`).first().selectOption(option);
  }

  async press(button: string): Promise<void> {
    await this.page.locator(`#${this.call} .panel`).getByRole("button", { name: button, exact: true }).first().click();
  }

  /** The request as JSON, written by the page. */
  async json(): Promise<string> {
    return (await this.page.locator(`#${this.call} .side .text textarea`).last().inputValue()).replace(/\n */g, "");
  }

  /** What the request can be copied as. */
  async copies(): Promise<string[]> {
    await this.page.locator(`#${this.call} .panel .copies summary`).first().waitFor();
    return this.text(".copies summary");
  }

  async setJson(text: string): Promise<void> {
    await this.page.locator(`#${this.call} .side .text textarea`).last().fill(text);
  }

  /** What is said to be wrong with a field. */
  async wrong(pointer: string): Promise<string> {
    return (await this.page.locator(`#${this.call} [data-at="${pointer}"] > .wrong`).textContent()) ?? "";
  }

  text(selector: string): Promise<string[]> {
    return this.page.locator(`#${this.call} .panel ${selector}`).allTextContents();
  }

  /** Waits until a call has ended, and returns what it says, without times and sizes. */
  async state(): Promise<string> {
    const state = this.page.locator(`#${this.call} .state`);
    await this.page.waitForFunction(
      (call) => !/under way|^$/i.test(document.querySelector(`#${call} .state`)?.textContent ?? ""),
      this.call,
    );
    return ((await state.textContent()) ?? "").replace(/, \d+ ms(?:, \d+ bytes)?$/, "");
  }

  async send(): Promise<string> {
    await this.press("Send");
    return this.state();
  }
}
