/** One call's form on its page: filling it in, sending it, and what comes back. */

import { outgoing, wrongIn } from "./calling.js";
import type { Filled } from "./calling.js";
import { Checker } from "./checking.js";
import type { Wrong } from "./checking.js";
import { copies } from "./copies.js";
import { button, h, id } from "./dom.js";
import { Form } from "./form.js";
import { Digits, isObject, parse, write } from "./json.js";
import type { Json } from "./json.js";
import { named } from "./model.js";
import type { CallModel, CredentialModel, Model } from "./model.js";
import type { Outcome, Sender, Sent } from "./sending.js";
import { WireError } from "../../stubs/typescript/support/values.js";

/** What the panels of a page share. */
export interface Surroundings {
  /** Undefined for pages from a disk. */
  readonly sender: Sender | undefined;
  /** Where copies are sent. */
  readonly base: string;
  /** From the page to the folder of the manual. */
  readonly up: string;
  /** Typed once, and kept in memory only; by full name. */
  readonly credentials: Map<string, string>;
}

/** A message as a form and as JSON, which are in step. */
class Side {
  readonly element: HTMLElement;
  private model: Model;
  private readonly message: string;
  private readonly without: string | undefined;
  readonly form: Form;
  private readonly area: HTMLTextAreaElement;
  private readonly note: HTMLElement;
  private readonly changed: () => void;
  private readable = true;

  constructor(
    title: string,
    model: Model,
    message: string,
    without: string | undefined,
    sample: string,
    changed: () => void,
  ) {
    this.model = model;
    this.message = message;
    this.without = without;
    this.changed = changed;
    this.form = new Form(model, message, without, () => {
      this.area.value = this.form.text("  ");
      this.readable = true;
      this.say("");
      this.changed();
    });
    const label = `${title} as JSON`;
    this.note = h("p", { class: "wrong", id: id(), hidden: true });
    this.area = h("textarea", {
      "aria-label": label,
      "aria-describedby": this.note.id,
      spellcheck: "false",
      rows: "10",
      oninput: () => {
        this.read();
      },
    });
    this.element = h(
      "div",
      { class: "side" },
      h("div", { class: "fields", role: "group", "aria-label": title }, h("h4", {}, title), this.form.element),
      h("div", { class: "text" }, h("h4", {}, label), this.examples(title), this.area, this.note),
    );
    this.area.value = sample;
    this.read();
  }

  /** A choice of the declared examples, if there are several. */
  private examples(title: string): HTMLElement | undefined {
    const { examples } = named(this.model.messages, this.message);
    if (examples === undefined) {
      return undefined;
    }
    const choice = h(
      "select",
      {
        "aria-label": `${title}: fill in an example`,
        onchange: () => {
          const chosen = examples.find(({ name }) => name === choice.value);
          if (chosen !== undefined) {
            this.set(pretty(chosen.text));
          }
        },
      },
      h("option", { value: "" }, "fill in an example"),
      ...examples.map(({ name }) => h("option", { value: name }, name)),
    );
    return h("p", {}, choice);
  }

  get text(): string {
    return this.area.value;
  }

  /** Takes a message over, written anew. */
  set(text: string): void {
    this.area.value = text;
    this.read();
  }

  /** Takes over what definitions have become, and keeps what was typed. */
  update(model: Model): void {
    this.model = model;
    const json = this.json();
    if (isObject(json)) {
      this.form.show(json, model);
    }
  }

  private json(): Json | undefined {
    try {
      return parse(this.area.value);
    } catch {
      return undefined;
    }
  }

  private read(): void {
    try {
      const json = parse(this.area.value);
      if (!isObject(json)) {
        throw new WireError("expected an object");
      }
      this.form.show(json, this.model);
      this.readable = true;
      this.say("");
    } catch (problem) {
      if (!(problem instanceof WireError)) {
        throw problem;
      }
      this.readable = false;
      this.say(problem.detail);
    }
    this.changed();
  }

  private say(words: string): void {
    this.note.textContent = words;
    this.note.hidden = words === "";
  }

  /** What is wrong, said where it is. */
  check(checker: Checker, wrongs?: readonly Wrong[]): readonly Wrong[] {
    if (!this.readable) {
      return [{ pointer: "", detail: this.note.textContent }];
    }
    const list = wrongs ?? checker.check(this.message, this.form.text(), this.without);
    const elsewhere = this.form.mark(list);
    this.say(elsewhere.map((one) => `${one.pointer} ${one.detail}`.trim()).join("; "));
    return list;
  }
}

/** The form of one call. */
export class Panel {
  private model: Model;
  private call: CallModel;
  private checker: Checker;
  private readonly around: Surroundings;
  private readonly place: HTMLElement;
  private readonly head: Side | undefined;
  private readonly request: Side | undefined;
  private raw: File | undefined;
  private readonly media = h("input", {
    type: "text",
    "aria-label": "media type of the body",
    autocomplete: "off",
    size: "16",
  });
  private readonly rawNote = h("p", { class: "wrong", hidden: true });
  private readonly summary = h("p", { class: "summary", role: "status" });
  private readonly anyway = h("input", { type: "checkbox" });
  private readonly outcome = h("div", { class: "outcome" });
  private readonly copied = h("div", { class: "copies" });
  private readonly send: HTMLButtonElement;
  private readonly stop: HTMLButtonElement;
  private readonly next: HTMLButtonElement;
  private readonly finish: HTMLButtonElement;
  private sent: Sent | undefined;
  private writing: ReturnType<typeof setTimeout> | undefined;

  /** before is what this takes the place of: what was typed there is taken over. */
  constructor(place: HTMLElement, model: Model, call: CallModel, around: Surroundings, before?: Panel) {
    this.place = place;
    this.model = model;
    this.call = call;
    this.around = around;
    this.checker = new Checker(model);
    const changed = (): void => {
      this.changed();
    };
    if (call.head !== undefined) {
      const typed = before?.head?.text ?? pretty(call.sampleHead);
      this.head = new Side("Before the stream", model, call.head, undefined, typed, changed);
    }
    if (call.request !== undefined) {
      this.request = new Side(
        call.sends === true ? "Element" : "Request",
        model,
        call.request,
        call.raw?.field,
        before?.request?.text ?? pretty(call.sample),
        changed,
      );
    }
    this.send = button(
      "Send",
      () => {
        this.begin();
      },
      { class: "send" },
    );
    this.stop = button("Stop", () => this.sent?.stop(), { hidden: true });
    this.next = button(
      "Send this element",
      () => {
        this.element();
      },
      { hidden: true },
    );
    this.finish = button(
      "No more elements",
      () => {
        this.sent?.finish();
        this.next.hidden = true;
        this.finish.hidden = true;
      },
      { hidden: true },
    );
    this.build();
    this.changed();
    place.closest("details")?.addEventListener("toggle", ({ target }) => {
      if (target instanceof HTMLDetailsElement && target.matches(".try") && place.contains(this.copied)) {
        if (target.open) {
          this.changed();
        } else {
          clearTimeout(this.writing);
          this.replace(new Set());
        }
      }
    });
  }

  private build(): void {
    const { call, around } = this;
    const parts: (Node | undefined)[] = [this.head?.element, this.request?.element];
    if (call.request === undefined) {
      parts.push(h("p", { class: "hint" }, "It is called without a request."));
    }
    if (call.raw !== undefined) {
      const file = h("input", {
        type: "file",
        "aria-label": `${call.raw.field}: a file`,
        ...(call.raw.type === "*/*" ? {} : { accept: call.raw.type }),
        onchange: () => {
          [this.raw] = file.files ?? [];
          this.media.value = this.raw?.type ?? "";
          this.changed();
        },
      });
      this.media.addEventListener("input", () => {
        this.changed();
      });
      parts.push(
        h(
          "div",
          { class: "row" },
          h(
            "div",
            { class: "name" },
            h("b", {}, call.raw.field),
            " ",
            h("span", { class: "kind" }, `the body as it is, ${call.raw.type}`),
          ),
          h("div", { class: "value more" }, file, this.media),
          this.rawNote,
        ),
      );
    }
    for (const one of distinct(call.needs)) {
      if (around.sender?.keeps(one) !== true) {
        parts.push(this.credential(one));
      }
    }
    const buttons = h("div", { class: "buttons" });
    const why = around.sender?.refuses(call);
    if (around.sender === undefined) {
      parts.push(
        h(
          "p",
          { class: "hint" },
          "To send it from here, run ",
          h("code", {}, `faithful manual --serve --to ${around.base}`),
          "; or take it along:",
        ),
      );
    } else if (why !== undefined) {
      parts.push(h("p", { class: "hint" }, `${why} Take it along instead:`));
    } else {
      const note = around.sender.notes(call);
      if (note !== undefined) {
        parts.push(h("p", { class: "hint" }, note));
      }
      buttons.append(
        this.send,
        this.next,
        this.finish,
        this.stop,
        h("label", { class: "anyway", hidden: true }, this.anyway, " send it all the same"),
      );
    }
    this.place.replaceChildren(
      ...parts.filter((part) => part !== undefined),
      this.summary,
      buttons,
      this.outcome,
      this.copied,
    );
  }

  private credential(one: CredentialModel): HTMLElement {
    const input = h("input", {
      type: "password",
      autocomplete: "off",
      spellcheck: "false",
      "data-credential": one.name,
      placeholder: one.kind === "basic" ? "user:password" : "",
    });
    input.value = this.around.credentials.get(one.name) ?? "";
    input.addEventListener("input", () => {
      if (input.value === "") {
        this.around.credentials.delete(one.name);
      } else {
        this.around.credentials.set(one.name, input.value);
      }
      for (const other of document.querySelectorAll<HTMLInputElement>("[data-credential]")) {
        if (other !== input && other.dataset["credential"] === one.name) {
          other.value = input.value;
        }
      }
    });
    return h(
      "div",
      { class: "row" },
      h(
        "label",
        { class: "name" },
        h("b", {}, one.name.slice(one.name.lastIndexOf(".") + 1)),
        " ",
        h("span", { class: "kind" }, `credential, ${carried(one)}; forgotten when this page is closed`),
        h("div", { class: "value" }, input),
      ),
    );
  }

  /** Whether this panel is still the one of a call: it has the same messages, and travels in the same way. */
  fits(call: CallModel): boolean {
    const shape = ({ head, request, raw, sends, receives, needs, status }: CallModel): string =>
      JSON.stringify([head, request, raw, sends, receives, needs, status]);
    return shape(call) === shape(this.call);
  }

  /** Takes over what definitions have become. */
  update(model: Model, call: CallModel): void {
    const focus = this.focused();
    this.model = model;
    this.call = call;
    this.checker = new Checker(model);
    this.head?.update(model);
    this.request?.update(model);
    this.changed();
    focus();
  }

  /** Remembers which input is typed into, and returns what goes back there. */
  private focused(): () => void {
    const active = document.activeElement;
    const row = active?.closest<HTMLElement>("[data-at]");
    if (
      !(
        active instanceof HTMLInputElement ||
        active instanceof HTMLTextAreaElement ||
        active instanceof HTMLSelectElement
      ) ||
      row == null ||
      !this.place.contains(active)
    ) {
      return () => undefined;
    }
    const label = active.getAttribute("aria-label");
    const where = row.dataset["at"] ?? "";
    const [start, end] =
      active instanceof HTMLTextAreaElement || (active instanceof HTMLInputElement && active.type === "text")
        ? [active.selectionStart, active.selectionEnd]
        : [null, null];
    return () => {
      const again = [
        ...this.place.querySelectorAll<HTMLInputElement | HTMLTextAreaElement | HTMLSelectElement>(
          `[data-at=${CSS.escape(where)}] :is(input, select, textarea)`,
        ),
      ].find((one) => one.getAttribute("aria-label") === label);
      again?.focus();
      if (start !== null && end !== null && again !== undefined && !(again instanceof HTMLSelectElement)) {
        again.setSelectionRange(start, end);
      }
    };
  }

  private filled(): Filled {
    const { raw } = this;
    return {
      head: this.head?.text ?? "",
      request: this.request?.text ?? "",
      raw: raw === undefined ? undefined : raw.slice(0, raw.size, this.media.value),
      mediaType: this.media.value,
      credentials: new Map([...this.around.credentials].filter(([, value]) => value !== "")),
      unchecked: this.anyway.checked,
    };
  }

  /** Checks what was typed, and writes the copies anew. */
  private changed(): void {
    const count = this.wrongs().length;
    this.summary.textContent =
      count === 0 ? "" : `The definitions refuse this: ${count === 1 ? "1 violation" : `${String(count)} violations`}.`;
    this.place.querySelector<HTMLElement>(".anyway")?.toggleAttribute("hidden", count === 0);
    clearTimeout(this.writing);
    this.writing = setTimeout(() => {
      void this.copy();
    }, 100);
  }

  private wrongs(): readonly Wrong[] {
    const head = this.head?.check(this.checker) ?? [];
    if (this.request === undefined) {
      return head;
    }
    const { raw, request } = this.call;
    let list: readonly Wrong[] | undefined;
    if (raw !== undefined) {
      try {
        const all = wrongIn(this.checker, request ?? "", outgoing(this.request.text, this.filled().raw), raw);
        const own = all.filter((one) => one.pointer === `/${raw.field}`);
        this.rawNote.textContent = this.raw === undefined ? "choose a file" : own.map((one) => one.detail).join("; ");
        this.rawNote.hidden = this.rawNote.textContent === "";
        list = all.filter((one) => !own.includes(one));
        return [...head, ...own, ...this.request.check(this.checker, list)];
      } catch {
        // What can't be read is said next to the text.
      }
    }
    return [...head, ...this.request.check(this.checker, list)];
  }

  private async copy(): Promise<void> {
    const filled = this.filled();
    const list = await copies(
      this.model,
      this.call,
      this.around.base,
      filled,
      this.raw?.name ?? this.call.raw?.field ?? "",
    );
    try {
      list.push(...((await this.around.sender?.code(this.call, filled)) ?? []));
    } catch {
      // The program that serves the page has ended, which the page says.
    }
    this.replace(new Set(list.map(({ as }) => as)));
    const open = new Set(
      Array.from(this.copied.querySelectorAll<HTMLDetailsElement>("details[open]"), (one) => one.dataset["as"]),
    );
    this.copied.replaceChildren(
      ...list.map(({ as, text }) =>
        h(
          "details",
          { class: "sample", "data-as": as, open: open.has(as) },
          h("summary", {}, as),
          h("pre", { tabindex: "0" }, h("code", {}, text)),
          button("Copy", () => void navigator.clipboard.writeText(text)),
        ),
      ),
    );
  }

  /** Hides what is copied from the page itself while it can be copied from here, as it was filled in. */
  private replace(live: ReadonlySet<string>): void {
    const elsewhere = this.place.closest(".try")?.parentElement?.querySelector<HTMLElement>(":scope > .elsewhere");
    let left = false;
    for (const one of elsewhere?.querySelectorAll<HTMLElement>("[data-as]") ?? []) {
      one.hidden = live.has(one.dataset["as"] ?? "");
      left ||= !one.hidden;
    }
    elsewhere?.toggleAttribute("hidden", !left);
  }

  private begin(): void {
    const { sender } = this.around;
    if (sender === undefined || (this.wrongs().length > 0 && !this.anyway.checked)) {
      this.summary.textContent = `Nothing was sent: ${this.summary.textContent.replace(/^Nothing was sent: /, "")}`;
      this.place.querySelector<HTMLElement>("[aria-invalid]")?.focus();
      return;
    }
    const shown = new Shown(this.call, this.around.up, (wrongs) => {
      this.request?.check(this.checker, wrongs);
    });
    this.outcome.replaceChildren(shown.element);
    this.send.disabled = true;
    this.stop.hidden = false;
    if (this.call.sends === true) {
      this.next.hidden = false;
      this.finish.hidden = false;
    }
    const sent = sender.send(this.model, this.call, this.filled(), (outcome) => {
      shown.add(outcome);
    });
    this.sent = sent;
    void sent.over.then(() => {
      shown.end();
      this.sent = undefined;
      this.send.disabled = false;
      for (const one of [this.stop, this.next, this.finish]) {
        one.hidden = true;
      }
    });
    if (this.call.sends === true) {
      this.element();
    }
  }

  /** Sends one element of a request that is a stream. */
  private element(): void {
    if (this.request === undefined || this.sent === undefined || (this.wrongs().length > 0 && !this.anyway.checked)) {
      return;
    }
    const { text } = this.request;
    this.sent.next(text);
    this.outcome.querySelector(".sent")?.append(h("li", {}, h("code", {}, write(parse(text)))));
  }
}

/** What comes of a call. */
class Shown {
  readonly element: HTMLElement = h("div", {});
  private readonly state = h("p", { class: "state", role: "status" }, "Under way …");
  private readonly list = h("ol", {
    class: "elements",
    tabindex: "0",
    "aria-label": "Elements of the answer",
    "aria-live": "polite",
    "aria-relevant": "additions",
  });
  private readonly rest = h("div", {});
  private readonly up: string;
  private readonly marked: (wrongs: readonly Wrong[]) => void;
  private waiting: { readonly text: string; readonly wrong: readonly Wrong[] }[] = [];
  private readonly stream: boolean;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private count = 0;
  private words = "";

  constructor(call: CallModel, up: string, marked: (wrongs: readonly Wrong[]) => void) {
    this.up = up;
    this.marked = marked;
    this.stream = call.receives === true;
    this.element.append(this.state);
    if (call.sends === true) {
      this.element.append(h("h4", {}, "Sent"), h("ol", { class: "sent" }));
    }
    if (this.stream) {
      this.element.append(h("h4", {}, "Answered"), this.list);
    }
    this.element.append(this.rest);
  }

  add(outcome: Outcome): void {
    switch (outcome.kind) {
      case "head":
        this.words = this.status(outcome.status);
        this.state.textContent = `${this.words}, under way …`;
        this.rest.append(
          h(
            "details",
            { class: "sample" },
            h("summary", {}, "Headers"),
            h("pre", { tabindex: "0" }, outcome.headers.map(([name, value]) => `${name}: ${value}`).join("\n")),
          ),
        );
        break;
      case "value":
        this.count++;
        if (this.stream) {
          this.later(outcome);
        } else {
          this.rest.prepend(h("div", { class: "answer" }, ...answer(outcome.text, outcome.wrong)));
        }
        break;
      case "raw":
        this.rest.prepend(body(outcome.content));
        break;
      case "declared":
        this.words = this.status(outcome.status);
        this.rest.prepend(
          h(
            "p",
            { class: "failed" },
            "It failed with ",
            h("a", { href: `${this.up}errors.html#${outcome.name}` }, outcome.name),
            ", as the call declares:",
          ),
          ...answer(outcome.text, []),
        );
        break;
      case "problem":
        this.words = this.status(outcome.status);
        this.rest.prepend(
          h(
            "p",
            { class: "failed" },
            outcome.title,
            " (",
            h("a", { href: `${this.up}errors.html#${outcome.problem}` }, outcome.problem),
            ")",
          ),
          h("p", {}, outcome.detail),
          h(
            "ul",
            {},
            ...outcome.violations.map((one) =>
              h(
                "li",
                {},
                h("code", {}, one.pointer),
                ` ${one.detail}${one.in === undefined ? "" : `, in the ${one.in}`}`,
              ),
            ),
          ),
        );
        this.marked(outcome.violations);
        break;
      case "refused":
        this.rest.prepend(
          h("p", { class: "failed" }, "Nothing was sent: the definitions refuse it."),
          h("ul", {}, ...outcome.violations.map((one) => h("li", {}, h("code", {}, one.pointer), ` ${one.detail}`))),
        );
        this.marked(outcome.violations);
        break;
      case "failed":
        this.words = this.words === "" ? "No answer" : this.words;
        this.rest.prepend(h("p", { class: "failed" }, outcome.words));
        break;
      case "end": {
        const elements = this.stream ? `, ${String(this.count)} ${this.count === 1 ? "element" : "elements"}` : "";
        this.flush();
        this.state.textContent = `${this.words === "" ? "Ended" : this.words}${elements}${Number.isNaN(outcome.milliseconds) ? "" : `, ${String(Math.round(outcome.milliseconds))} ms${outcome.bytes === 0 ? "" : `, ${String(outcome.bytes)} bytes`}`}`;
      }
    }
  }

  end(): void {
    this.flush();
  }

  /** A status in words. A stream that has begun keeps its own, whatever it ends with. */
  private status(code: number): string {
    return this.stream && this.words !== "" ? this.words : `${String(code)} ${phrases[code] ?? ""}`.trim();
  }

  /** Elements may come faster than anybody can hear of them. */
  private later(element: { readonly text: string; readonly wrong: readonly Wrong[] }): void {
    this.waiting.push(element);
    if (this.waiting.length > 2 * mostShown) {
      this.waiting = this.waiting.slice(-mostShown); // nobody will see the others
    }
    this.timer ??= setTimeout(() => {
      this.flush();
    }, 200);
  }

  private flush(): void {
    clearTimeout(this.timer);
    this.timer = undefined;
    this.list.append(
      ...this.waiting
        .splice(0)
        .slice(-mostShown)
        .map(({ text, wrong }) =>
          h("li", {}, ...answer(text, wrong).filter((part) => !(part instanceof HTMLDetailsElement))),
        ),
    );
    while (this.list.childElementCount > mostShown) {
      this.list.firstElementChild?.remove();
    }
    this.list.start = Math.max(1, this.count - mostShown + 1);
  }
}

/** How many elements of a stream are shown; earlier ones make room. */
const mostShown = 200;

/** How many characters of an answer are laid out: browsers stand still over more. */
const mostRead = 500_000;

/** An answer as a tree and as text, with what the definitions refuse in it. */
function answer(text: string, wrong: readonly Wrong[]): Node[] {
  if (text.length > mostRead) {
    return [
      h(
        "p",
        { class: "hint" },
        `It has ${String(text.length)} characters, too many to lay out; this is how it begins:`,
      ),
      h("pre", { tabindex: "0" }, h("code", {}, text.slice(0, 10_000))),
    ];
  }
  const json = parse(text);
  return [
    ...(wrong.length > 0
      ? [
          h("p", { class: "failed" }, "The definitions refuse this answer:"),
          h("ul", {}, ...wrong.map((one) => h("li", {}, h("code", {}, one.pointer), ` ${one.detail}`))),
        ]
      : []),
    h("div", { class: "tree" }, tree(json, "", wrong)),
    h(
      "details",
      { class: "sample" },
      h("summary", {}, "As text"),
      h("pre", { tabindex: "0" }, h("code", {}, write(json, "  "))),
    ),
  ];
}

function tree(json: Json, pointer: string, wrong: readonly Wrong[]): HTMLElement {
  const bad = wrong.some((one) => one.pointer === pointer && pointer !== "");
  const entries: [string, Json][] = Array.isArray(json)
    ? json.map((one, i) => [String(i), one])
    : isObject(json)
      ? [...json]
      : [];
  if (entries.length === 0) {
    return h("span", { class: bad ? "refused" : kindOf(json) }, write(json));
  }
  return h(
    "dl",
    bad ? { class: "refused" } : {},
    ...entries.flatMap(([name, value]) => [
      h("dt", {}, name),
      h("dd", {}, tree(value, `${pointer}/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`, wrong)),
    ]),
  );
}

function kindOf(json: Json): string {
  return typeof json === "string" ? "text" : json instanceof Digits ? "number" : "word";
}

/** A body as it is: shown where a browser can show it, and to be saved. */
function body(content: Blob): HTMLElement {
  const url = URL.createObjectURL(content);
  const save = h(
    "a",
    { href: url, download: "body" },
    `Save it: ${String(content.size)} bytes of ${content.type === "" ? "no type" : content.type}`,
  );
  return h(
    "div",
    { class: "answer" },
    ...(/^image\/(?:png|jpeg|gif|webp|avif)$/.test(content.type)
      ? [h("p", {}, h("img", { src: url, alt: "the body of the answer" }))]
      : []),
    h("p", {}, save),
  );
}

function pretty(sample: string | undefined): string {
  return sample === undefined ? "{}" : write(parse(sample), "  ");
}

/** Each credential that a call may need, once. */
function distinct(needs: readonly (readonly CredentialModel[])[]): CredentialModel[] {
  return [...new Map(needs.flat().map((one) => [one.name, one])).values()];
}

function carried({ kind, key }: CredentialModel): string {
  switch (kind) {
    case "bearer":
      return "Authorization: Bearer";
    case "basic":
      return "Authorization: Basic";
    case "query":
      return `query "${key ?? ""}"`;
    default:
      return `${kind} "${key ?? ""}"`;
  }
}

/** Reason phrases (RFC 9110, section 15). */
const phrases: Readonly<Record<number, string>> = {
  101: "Switching Protocols",
  200: "OK",
  201: "Created",
  202: "Accepted",
  204: "No Content",
  301: "Moved Permanently",
  302: "Found",
  303: "See Other",
  304: "Not Modified",
  307: "Temporary Redirect",
  308: "Permanent Redirect",
  400: "Bad Request",
  401: "Unauthorized",
  403: "Forbidden",
  404: "Not Found",
  405: "Method Not Allowed",
  406: "Not Acceptable",
  409: "Conflict",
  410: "Gone",
  413: "Content Too Large",
  415: "Unsupported Media Type",
  416: "Range Not Satisfiable",
  422: "Unprocessable Content",
  429: "Too Many Requests",
  500: "Internal Server Error",
  501: "Not Implemented",
  502: "Bad Gateway",
  503: "Service Unavailable",
  504: "Gateway Timeout",
};
