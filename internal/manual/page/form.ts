/** Inputs for a message, in step with its JSON: an input for each field, by its type. */

import { Digits, isObject, parse, write } from "./json.js";
import type { Json, JsonObject } from "./json.js";
import { bare } from "./checking.js";
import type { Wrong } from "./checking.js";
import { button, h, id } from "./dom.js";
import { named } from "./model.js";
import type { Bounds, FieldModel, Model, TypeModel } from "./model.js";
import { pointer, toBase64, WireError } from "../../stubs/typescript/support/values.js";

/** Where a value of the form is kept. */
interface Slot {
  readonly at: string; // a JSON Pointer
  get(): Json | undefined;
  set(value: Json | undefined): void;
}

const numbers = new Set<string>([
  "int8",
  "int16",
  "int32",
  "int64",
  "uint8",
  "uint16",
  "uint32",
  "uint64",
  "float32",
  "float64",
]);

/** A form of one message. */
export class Form {
  readonly element: HTMLElement = h("div", { class: "form" });
  private readonly changed: () => void;
  private readonly message: string;
  private readonly without: string | undefined;
  private model: Model;
  private json: JsonObject = new Map<string, Json>();
  private depth = 0;

  constructor(model: Model, message: string, without: string | undefined, changed: () => void) {
    this.model = model;
    this.message = message;
    this.without = without;
    this.changed = changed;
  }

  /** The message in JSON, with what the form has no input for. */
  text(indent = ""): string {
    return write(this.json, indent);
  }

  /** Shows a message. */
  show(json: JsonObject, model: Model = this.model): void {
    this.json = json;
    this.model = model;
    this.element.replaceChildren(
      ...this.fields(this.message, { at: "", get: () => this.json, set: () => undefined }, this.without),
    );
  }

  /** Says what is wrong where it is, and returns what has no place here. */
  mark(list: readonly Wrong[]): Wrong[] {
    for (const note of this.element.querySelectorAll<HTMLElement>(".wrong")) {
      note.hidden = true;
      note.textContent = "";
    }
    for (const input of this.element.querySelectorAll("[aria-invalid]")) {
      input.removeAttribute("aria-invalid");
    }
    const elsewhere: Wrong[] = [];
    for (const wrong of list) {
      const row = this.row(wrong.pointer);
      const note = row?.querySelector<HTMLElement>(":scope > .wrong, :scope > fieldset > .wrong");
      if (row === undefined || note === null || note === undefined) {
        elsewhere.push(wrong);
        continue;
      }
      const below = wrong.pointer.slice((row.dataset["at"] ?? "").length);
      note.textContent += `${note.hidden ? "" : "; "}${below === "" ? "" : `${below} `}${wrong.detail}`;
      note.hidden = false;
      row.querySelector("input:not([type=checkbox]), select, textarea")?.setAttribute("aria-invalid", "true");
    }
    return elsewhere;
  }

  /** The row of a value, or of the nearest one around it. */
  private row(at: string): HTMLElement | undefined {
    for (let here = at; here !== ""; here = here.slice(0, here.lastIndexOf("/"))) {
      const found = this.element.querySelector<HTMLElement>(`[data-at=${CSS.escape(here)}]`);
      if (found !== null) {
        return found;
      }
    }
    return undefined;
  }

  private fields(message: string, slot: Slot, without?: string): Node[] {
    const model = named(this.model.messages, message);
    const shown = model.fields.filter((field) => field.name !== without);
    if (shown.length === 0) {
      return [h("p", { class: "hint" }, "It has no fields.")];
    }
    return shown.map((field) =>
      this.field(field, model.patch === true, {
        at: slot.at + pointer(field.name),
        get: () => {
          const object = slot.get();
          return isObject(object) ? object.get(field.name) : undefined;
        },
        set: (value) => {
          const object = slot.get();
          if (!isObject(object)) {
            return;
          }
          if (value === undefined) {
            object.delete(field.name);
          } else if (object.has(field.name)) {
            object.set(field.name, value);
          } else {
            // Fields stay in the order of their declaration, what is unlisted after them.
            const members = new Map([...object, [field.name, value]]);
            object.clear();
            for (const { name } of model.fields) {
              if (members.has(name)) {
                object.set(name, members.get(name) ?? null);
              }
            }
            for (const [name, other] of members) {
              object.set(name, other);
            }
          }
        },
      }),
    );
  }

  private field(field: FieldModel, patch: boolean, slot: Slot): HTMLElement {
    const given = slot.get() !== undefined;
    const open = field.must === "required" && !patch;
    const kind = `${this.words(field.type)}${open ? "" : field.default === undefined ? ", optional" : `, defaults to ${plain(field.default)}`}${field.secret === true ? ", secret" : ""}`;
    const row = h("div", { class: "row", "data-at": slot.at });
    const place = h("div", { class: "value" });
    const fill = (): void => {
      const value = slot.get();
      if (value === undefined) {
        place.replaceChildren(
          ...(open
            ? [
                button(`Fill in ${field.name}`, () => {
                  slot.set(this.blank(field.type, new Set()));
                  fill();
                  this.changed();
                  place.querySelector<HTMLElement>("input, select, textarea, button")?.focus();
                }),
              ]
            : []),
        );
      } else if (value === null && field.type.kind !== "any") {
        place.replaceChildren(
          h("p", { class: "hint" }, patch ? "null: the field is cleared" : "null: as if it were left out"),
        );
      } else {
        place.replaceChildren(
          this.editor(field.type, slot, {
            label: field.name,
            bounds: field.bounds,
            secret: field.secret === true,
            describedBy: note.id,
          }),
        );
      }
    };
    const note = h("p", { class: "wrong", id: id(), hidden: true });
    const hints = [...hintsOf(field.bounds), ...hintsOf(field.type.bounds)];
    const name = h("div", { class: "name" });
    if (open) {
      name.append(h("b", {}, field.name), h("span", { class: "must", title: "It must be there." }, " *"));
    } else if (patch) {
      const state = (): string => (slot.get() === undefined ? "leave" : slot.get() === null ? "clear" : "set");
      const choices = ["leave", "set", ...(field.type.clear === true ? ["clear"] : [])];
      const choice = h(
        "select",
        {
          "aria-label": `${field.name}: leave, set or clear`,
          onchange: () => {
            slot.set(
              choice.value === "leave"
                ? undefined
                : choice.value === "clear"
                  ? null
                  : this.blank(field.type, new Set()),
            );
            fill();
            this.changed();
          },
        },
        ...choices.map((one) => h("option", { selected: one === state() }, one)),
      );
      name.append(h("b", {}, field.name), " ", choice);
    } else {
      const box = h("input", {
        type: "checkbox",
        checked: given,
        onchange: () => {
          slot.set(
            box.checked
              ? field.default === undefined
                ? this.blank(field.type, new Set())
                : parse(field.default)
              : undefined,
          );
          fill();
          this.changed();
        },
      });
      name.append(h("label", {}, box, " ", h("b", {}, field.name)));
    }
    name.append(" ", h("span", { class: "kind" }, kind));
    row.append(
      name,
      ...(field.doc === undefined ? [] : [h("p", { class: "hint" }, field.doc)]),
      place,
      ...(field.old === undefined ? [] : [h("p", { class: "hint" }, `Deprecated: ${field.old}`)]),
      ...(hints.length > 0 ? [h("p", { class: "hint" }, hints.join("; "))] : []),
      note,
    );
    fill();
    return row;
  }

  /** What a type is called next to a field. */
  private words(type: TypeModel): string {
    switch (type.kind) {
      case "list":
        return `list of ${this.words(type.elem as TypeModel)}`;
      case "map":
        return `map of ${this.words(type.key as TypeModel)} to ${this.words(type.elem as TypeModel)}`;
      case "enum":
        return named(this.model.enums, type.of).name;
      case "union":
        return named(this.model.unions, type.of).name;
      case "message":
        return `${type.of?.startsWith("patch ") === true ? "patch " : ""}${named(this.model.messages, type.of).name}`;
      default:
        return type.kind;
    }
  }

  /** A value to begin with. */
  private blank(type: TypeModel, inside: Set<string>): Json {
    switch (type.kind) {
      case "message": {
        const object: JsonObject = new Map<string, Json>();
        const { fields, patch } = named(this.model.messages, type.of);
        if (patch !== true && !inside.has(type.of ?? "")) {
          for (const field of fields.filter(({ must }) => must === "required")) {
            object.set(field.name, this.blank(field.type, new Set([...inside, type.of ?? ""])));
          }
        }
        return object;
      }
      case "list":
        return [];
      case "map":
        return new Map<string, Json>();
      case "union": {
        const [first] = named(this.model.unions, type.of).alternatives;
        return new Map(
          first === undefined ? [] : [[first.name, inside.size > 20 ? null : this.blank(first.type, inside)]],
        );
      }
      case "enum":
        return named(this.model.enums, type.of).members[0]?.name ?? "";
      case "bool":
        return false;
      case "any":
        return null;
      default:
        return numbers.has(type.kind) ? new Digits("0") : "";
    }
  }

  private editor(type: TypeModel, slot: Slot, about: About): HTMLElement {
    switch (type.kind) {
      case "message":
        return this.group(about, slot, "message", (body) => {
          if (++this.depth > 60) {
            body.append(h("p", { class: "hint" }, "Write what is deeper as JSON."));
          } else {
            body.append(...this.fields(type.of ?? "", slot));
          }
          this.depth--;
        });
      case "list":
        return this.list(type.elem as TypeModel, slot, about);
      case "map":
        return this.map(type, slot, about);
      case "union":
        return this.union(type, slot, about);
      case "enum":
        return this.choice(type, slot, about);
      case "bool":
        return this.select(["false", "true"], write(slot.get() ?? false), about, (chosen) => {
          this.put(slot, chosen === "true");
        });
      default:
        return this.scalar(type, slot, about);
    }
  }

  private put(slot: Slot, value: Json): void {
    slot.set(value);
    this.changed();
  }

  private group(about: About, slot: Slot, kind: string, fill: (body: HTMLElement) => void): HTMLElement {
    if (kind === "message" && !isObject(slot.get())) {
      return h("p", { class: "hint" }, "The JSON has something else here.");
    }
    const body = h("fieldset", { class: kind }, h("legend", {}, about.label));
    fill(body);
    return body;
  }

  private select(
    options: readonly string[],
    chosen: string,
    about: About,
    onchange: (value: string) => void,
  ): HTMLSelectElement {
    const listed = options.includes(chosen) ? options : [chosen, ...options];
    const select = h(
      "select",
      {
        "aria-label": about.label,
        "aria-describedby": about.describedBy,
        onchange: () => {
          onchange(select.value);
        },
      },
      ...listed.map((option) => h("option", { selected: option === chosen, value: option }, option)),
    );
    return select;
  }

  private choice(type: TypeModel, slot: Slot, about: About): HTMLElement {
    const { members } = named(this.model.enums, type.of);
    const now = slot.get();
    const select = this.select(
      members.map(({ name }) => name),
      typeof now === "string"
        ? now
        : now instanceof Digits
          ? (members.find(({ number }) => String(number) === now.text)?.name ?? now.text)
          : "",
      about,
      (chosen) => {
        this.put(
          slot,
          members.some(({ name }) => name === chosen) || !/^\d+$/.test(chosen) ? chosen : new Digits(chosen),
        );
      },
    );
    for (const option of select.options) {
      const doc = members.find(({ name }) => name === option.value)?.doc;
      if (doc !== undefined) {
        option.title = doc;
      }
    }
    return select;
  }

  private union(type: TypeModel, slot: Slot, about: About): HTMLElement {
    const { alternatives } = named(this.model.unions, type.of);
    const now = slot.get();
    const [name] = isObject(now) ? [...now.keys()] : [];
    const body = h("div", { class: "union" });
    const inner = h("div", {});
    const fill = (chosen: string): void => {
      const alternative = alternatives.find((one) => one.name === chosen);
      const there: Slot = {
        at: slot.at + pointer(chosen),
        get: () => {
          const object = slot.get();
          return isObject(object) ? object.get(chosen) : undefined;
        },
        set: (value) => {
          slot.set(new Map([[chosen, value ?? null]]));
        },
      };
      inner.replaceChildren(
        alternative === undefined
          ? h("p", { class: "hint" }, "It is not listed; the JSON has it.")
          : this.entry(alternative.type, there, {
              label: chosen,
              bounds: undefined,
              secret: false,
              describedBy: about.describedBy,
            }),
      );
    };
    body.append(
      this.select(
        alternatives.map((one) => one.name),
        name ?? "",
        { ...about, label: `${about.label}: which one` },
        (chosen) => {
          const alternative = alternatives.find((one) => one.name === chosen);
          slot.set(new Map([[chosen, alternative === undefined ? null : this.blank(alternative.type, new Set())]]));
          fill(chosen);
          this.changed();
        },
      ),
      inner,
    );
    if (name !== undefined) {
      fill(name);
    }
    return body;
  }

  /** A value with a place of its own for what is wrong with it. */
  private entry(type: TypeModel, slot: Slot, about: About): HTMLElement {
    const note = h("p", { class: "wrong", id: id(), hidden: true });
    const hints = hintsOf(type.bounds);
    return h(
      "div",
      { class: "row", "data-at": slot.at },
      this.editor(type, slot, { ...about, describedBy: note.id }),
      ...(hints.length > 0 ? [h("p", { class: "hint" }, hints.join("; "))] : []),
      note,
    );
  }

  private list(elem: TypeModel, slot: Slot, about: About): HTMLElement {
    const now = slot.get();
    if (!Array.isArray(now)) {
      return h("p", { class: "hint" }, "The JSON has something else here.");
    }
    return this.group(about, slot, "list", (body) => {
      const rows = h("ol", { start: "0" });
      const fill = (): void => {
        rows.replaceChildren(
          ...now.map((_, i) =>
            h(
              "li",
              {},
              this.entry(
                elem,
                {
                  at: `${slot.at}/${String(i)}`,
                  get: () => now[i],
                  set: (value) => {
                    now[i] = value ?? null;
                  },
                },
                {
                  label: `${about.label} ${String(i)}`,
                  bounds: undefined,
                  secret: about.secret,
                  describedBy: about.describedBy,
                },
              ),
              button(
                "Remove",
                () => {
                  now.splice(i, 1);
                  fill();
                  add.focus();
                  this.changed();
                },
                { "aria-label": `Remove ${about.label} ${String(i)}` },
              ),
            ),
          ),
        );
      };
      const add = button(`Add to ${about.label}`, () => {
        now.push(this.blank(elem, new Set()));
        fill();
        rows.lastElementChild?.querySelector<HTMLElement>("input, select, textarea")?.focus();
        this.changed();
      });
      fill();
      body.append(rows, add);
    });
  }

  private map(type: TypeModel, slot: Slot, about: About): HTMLElement {
    const now = slot.get();
    if (!isObject(now)) {
      return h("p", { class: "hint" }, "The JSON has something else here.");
    }
    const elem = type.elem as TypeModel;
    const members =
      type.key?.kind === "enum" ? named(this.model.enums, type.key.of).members.map(({ name }) => name) : undefined;
    return this.group(about, slot, "map", (body) => {
      const rows = h("ul", {});
      const rename = (from: string, to: string): boolean => {
        if (from !== to && now.has(to)) {
          return false;
        }
        const entries = Array.from(now, ([key, value]): [string, Json] => [key === from ? to : key, value]);
        now.clear();
        for (const [key, value] of entries) {
          now.set(key, value);
        }
        return true;
      };
      const fill = (): void => {
        rows.replaceChildren(
          ...Array.from(now.keys(), (key) => {
            const label = `${about.label} ${key}`;
            const changeKey = (to: string): void => {
              if (rename(key, to)) {
                fill();
                this.changed();
              }
            };
            const input =
              members === undefined
                ? h("input", {
                    type: "text",
                    value: key,
                    "aria-label": `key of ${label}`,
                    onchange: () => {
                      changeKey(input.value);
                    },
                  })
                : this.select(members, key, { ...about, label: `key of ${label}` }, changeKey);
            return h(
              "li",
              {},
              input,
              this.entry(
                elem,
                {
                  at: slot.at + pointer(key),
                  get: () => now.get(key),
                  set: (value) => {
                    now.set(key, value ?? null);
                  },
                },
                { label, bounds: undefined, secret: about.secret, describedBy: about.describedBy },
              ),
              button(
                "Remove",
                () => {
                  now.delete(key);
                  fill();
                  add.focus();
                  this.changed();
                },
                { "aria-label": `Remove ${label}` },
              ),
            );
          }),
        );
      };
      const add = button(`Add to ${about.label}`, () => {
        let fresh =
          members?.find((name) => !now.has(name)) ?? (type.key?.kind === "text" || members !== undefined ? "" : "0");
        for (let n = 1; now.has(fresh); n++) {
          fresh = type.key?.kind === "text" ? `key ${String(n)}` : String(n);
        }
        now.set(fresh, this.blank(elem, new Set()));
        fill();
        rows.lastElementChild?.querySelector<HTMLElement>("input, select")?.focus();
        this.changed();
      });
      fill();
      body.append(rows, add);
    });
  }

  private scalar(type: TypeModel, slot: Slot, about: About): HTMLElement {
    const { kind } = type;
    const now = slot.get();
    const shown =
      now === undefined || now === null
        ? kind === "any"
          ? "null"
          : ""
        : now instanceof Digits
          ? now.text
          : typeof now === "string" && kind !== "any"
            ? now
            : write(now);
    const attributes = {
      "aria-label": about.label,
      "aria-describedby": about.describedBy,
      spellcheck: "false",
      autocomplete: "off",
    };
    const read = (typed: string): Json => {
      if (kind === "any") {
        try {
          return parse(typed);
        } catch (problem) {
          if (problem instanceof WireError) {
            return typed;
          }
          throw problem;
        }
      }
      return numbers.has(kind) && /^-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?$/.test(typed)
        ? new Digits(typed)
        : typed;
    };
    const long = kind === "any" || (kind === "text" && (shown.includes("\n") || isLong(about.bounds, type.bounds)));
    const secret = about.secret || type.secret === true;
    const input: HTMLInputElement | HTMLTextAreaElement =
      long && !secret
        ? h("textarea", { ...attributes, rows: "2" })
        : h("input", {
            ...attributes,
            type: secret ? "password" : "text",
            ...(numbers.has(kind)
              ? { inputmode: kind.startsWith("float") ? "decimal" : "numeric", class: "number" }
              : {}),
            ...(examples[kind] === undefined ? {} : { placeholder: examples[kind] }),
          });
    input.value = shown;
    input.addEventListener("input", () => {
      this.put(slot, read(input.value));
    });
    const type_ = (value: string): void => {
      input.value = value;
      this.put(slot, read(value));
    };
    const more: Node[] = [];
    if (kind === "instant") {
      const picker = h("input", {
        type: "datetime-local",
        step: "1",
        "aria-label": `${about.label}: pick, in UTC`,
        onchange: () => {
          if (picker.value !== "") {
            type_(`${picker.value.length === 16 ? `${picker.value}:00` : picker.value.slice(0, 19)}Z`);
          }
        },
      });
      const at = /^(\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2})Z$/.exec(shown)?.[1];
      if (at !== undefined) {
        picker.value = at;
      }
      more.push(
        picker,
        button(
          "now",
          () => {
            type_(`${new Date().toISOString().slice(0, 19)}Z`);
          },
          { "aria-label": `${about.label}: now` },
        ),
      );
    } else if (kind === "date") {
      const picker = h("input", {
        type: "date",
        "aria-label": `${about.label}: pick`,
        onchange: () => {
          if (picker.value !== "") {
            type_(picker.value);
          }
        },
      });
      picker.value = /^\d{4}-\d{2}-\d{2}$/.test(shown) ? shown : "";
      more.push(picker);
    } else if (kind === "uuid") {
      more.push(
        button(
          "a new one",
          () => {
            type_(newUuid());
          },
          { "aria-label": `${about.label}: a new one` },
        ),
      );
    } else if (kind === "bytes") {
      const file = h("input", {
        type: "file",
        "aria-label": `${about.label}: from a file`,
        onchange: () => {
          const [chosen] = file.files ?? [];
          if (chosen !== undefined) {
            void chosen.arrayBuffer().then((content) => {
              type_(toBase64(new Uint8Array(content)));
            });
          }
        },
      });
      more.push(file);
    }
    return more.length === 0 ? input : h("div", { class: "more" }, input, ...more);
  }
}

interface About {
  readonly label: string;
  readonly bounds: Bounds | undefined;
  readonly secret: boolean;
  readonly describedBy: string;
}

const examples: Readonly<Record<string, string>> = {
  instant: "2026-07-15T09:30:00Z",
  date: "2026-07-15",
  duration: "PT90S",
  decimal: "12.50",
  uuid: "6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f",
  bytes: "base64url",
};

/** What bounds ask for, a phrase each. */
function hintsOf(b: Bounds | undefined): string[] {
  if (b === undefined) {
    return [];
  }
  const phrases = [b.range, b.length, b.count]
    .filter((phrase) => phrase !== undefined)
    .map((phrase) => phrase.replace(/^must (?:be|have) /, ""));
  return [
    ...phrases,
    ...(b.pattern === undefined ? [] : [`matches ${b.pattern}`]),
    ...(b.unique === true ? ["no two equal"] : []),
  ];
}

/** Whether a text may be so long that it needs several lines. */
function isLong(...all: readonly (Bounds | undefined)[]): boolean {
  return !all.some((b) => b?.pattern !== undefined || ((b?.lengthMax ?? 0) > 0 && (b?.lengthMax ?? 0) <= 200));
}

function plain(text: string): string {
  return bare(parse(text));
}

/** A random UUID (RFC 9562, section 5.4); pages from a disk have no other way. */
function newUuid(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | 0x40;
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80;
  const hex = Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join("-");
}
