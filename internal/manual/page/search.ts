/** Finds names, words of documentation, paths and numbers, with slips forgiven. */

import { byId, h, stored } from "./dom.js";

/** What names.js knows of a name: itself, its noun, its place, its documentation, and a path or a number. */
export interface Name {
  readonly n: string;
  readonly k: string;
  readonly t: string;
  readonly d?: string;
  readonly m?: string;
}

interface Entry extends Name {
  readonly lower: string;
  readonly short: string;
  readonly more: string;
  readonly doc: string;
}

/** Names as the search wants them. */
export function entriesOf(list: readonly Name[]): Entry[] {
  return list.map((entry) => ({
    ...entry,
    lower: entry.n.toLowerCase(),
    short: entry.n.slice(entry.n.lastIndexOf(".") + 1).toLowerCase(),
    more: (entry.m ?? "").toLowerCase(),
    doc: (entry.d ?? "").toLowerCase(),
  }));
}

/** How far a name is from what was typed; lower is nearer, Infinity is not found. */
function distance(typed: string, { lower, short, more, doc }: Entry): number {
  if (short === typed) {
    return 0;
  }
  if (short.startsWith(typed)) {
    return 1 + (short.length - typed.length) / 100;
  }
  const at = lower.indexOf(typed);
  if (at >= 0) {
    return 2 + at / 1000;
  }
  if (more.includes(typed)) {
    return 3;
  }
  if (doc.includes(typed)) {
    return 4;
  }
  return near(typed, short) ? 5 : Infinity;
}

/** Whether two words differ by one slip: a letter too many, missing, another one, or two that changed places. */
function near(a: string, b: string): boolean {
  if (a.length < 4 || Math.abs(a.length - b.length) > 1) {
    return false;
  }
  let i = 0;
  while (i < a.length && a[i] === b[i]) {
    i++;
  }
  const same = (from: number, other: number): boolean => a.slice(from) === b.slice(other);
  return (
    same(i + 1, i + 1) ||
    same(i + 1, i) ||
    same(i, i + 1) ||
    (a[i] === b[i + 1] && a[i + 1] === b[i] && same(i + 2, i + 2))
  );
}

/** The nearest names, at most so many: those that are found are not all sorted, since a letter finds nearly all. */
export function nearest(entries: readonly Entry[], typed: string, most: number): Entry[] {
  const best: { readonly far: number; readonly entry: Entry }[] = [];
  for (const entry of entries) {
    const far = distance(typed, entry);
    const before = (other: (typeof best)[number] | undefined): boolean =>
      other !== undefined && (far < other.far || (far === other.far && entry.n.length < other.entry.n.length));
    if (far === Infinity || (best.length === most && !before(best[most - 1]))) {
      continue;
    }
    let i = best.length;
    while (before(best[i - 1])) {
      i--;
    }
    best.splice(i, 0, { far, entry });
    best.length = Math.min(best.length, most);
  }
  return best.map(({ entry }) => entry);
}

/** The dialog that finds names. */
export class Search {
  private entries: Entry[] = [];
  private found: Entry[] = [];
  private chosen = 0;
  private readonly address: (of: string) => string;
  private readonly dialog = byId("search") as HTMLDialogElement;
  private readonly query = byId("query") as HTMLInputElement;
  private readonly answers = byId("answers");
  private readonly slash = byId("slash") as HTMLInputElement;

  /** address is where the page with a name is, from here. */
  constructor(address: (of: string) => string) {
    this.address = address;
    this.slash.checked = stored("faithful manual slash") !== "off";
    this.slash.addEventListener("change", () => stored("faithful manual slash", this.slash.checked ? "on" : "off"));
    byId("find").addEventListener("click", () => {
      this.open();
    });
    this.query.addEventListener("input", () => {
      this.search();
    });
    this.query.addEventListener("keydown", (event) => {
      if (event.key === "ArrowDown" || event.key === "ArrowUp") {
        event.preventDefault();
        this.choose(this.chosen + (event.key === "ArrowDown" ? 1 : -1));
      } else if (event.key === "Enter") {
        event.preventDefault();
        this.go();
      }
    });
    addEventListener("keydown", (event) => {
      const typing =
        event.target instanceof Element && event.target.closest("input, textarea, select, [contenteditable]") !== null;
      const control = event.ctrlKey || event.metaKey;
      if (
        (event.key === "/" && this.slash.checked && !typing && !control && !event.altKey) ||
        (event.key === "k" && control)
      ) {
        event.preventDefault();
        this.open();
      }
    });
  }

  /** Takes the names of names.js. */
  know(list: readonly Name[]): void {
    this.entries = entriesOf(list);
  }

  private open(): void {
    if (!this.dialog.open) {
      this.dialog.showModal();
      this.query.select();
    }
  }

  private choose(n: number): void {
    this.chosen = Math.max(0, Math.min(n, this.found.length - 1));
    for (const [i, li] of [...this.answers.children].entries()) {
      li.setAttribute("aria-selected", String(i === this.chosen));
    }
    const current = this.answers.children[this.chosen];
    this.query.setAttribute("aria-activedescendant", current?.id ?? "");
    current?.scrollIntoView({ block: "nearest" });
  }

  private go(): void {
    const entry = this.found[this.chosen];
    if (entry !== undefined) {
      this.dialog.close();
      location.href = this.address(entry.t);
    }
  }

  private search(): void {
    const typed = this.query.value.trim().toLowerCase();
    this.found = typed === "" ? [] : nearest(this.entries, typed, 30);
    this.answers.replaceChildren(
      ...this.found.map((entry, i) =>
        h(
          "li",
          {
            id: `answer-${String(i)}`,
            role: "option",
            onclick: () => {
              this.choose(i);
              this.go();
            },
          },
          h("b", {}, entry.n),
          h(
            "small",
            {},
            ` ${entry.k}${entry.m === undefined ? "" : ` ${entry.m}`}${entry.d === undefined ? "" : `: ${entry.d}`}`,
          ),
        ),
      ),
    );
    this.choose(0);
  }
}
