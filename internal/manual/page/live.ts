/** Follows what faithful manual --serve says: pages show every save, and keep what was typed. */

import { h } from "./dom.js";

/** The page as it was served last, to tell what a save changed. */
export class Live {
  private served: Document | undefined;
  private last: Promise<void> = Promise.resolve();
  private readonly banner = h("div", { class: "banner", role: "alert", hidden: true });
  private readonly forms: (text: string) => void;

  /** forms is handed what the script with the page's forms says. */
  constructor(to: string, forms: (text: string) => void) {
    this.forms = forms;
    document.querySelector("main")?.before(this.banner);
    void this.read().then((page) => {
      this.served ??= page;
    });
    const events = new EventSource(to);
    events.addEventListener("changed", () => {
      void this.show();
    });
    events.addEventListener("wrong", (event: MessageEvent<string>) => {
      const { findings } = JSON.parse(event.data) as { findings: string };
      this.banner.replaceChildren(
        h("p", {}, "The definitions are wrong. What is below is their last good state."),
        h("pre", { tabindex: "0" }, findings),
      );
      this.banner.hidden = false;
    });
    events.onerror = () => {
      this.banner.replaceChildren(
        h("p", {}, "faithful manual --serve has ended, or can't be reached. This page stays as it is."),
      );
      this.banner.hidden = false;
    };
    events.onopen = () => {
      if (this.banner.firstChild?.textContent?.startsWith("faithful manual") === true) {
        this.banner.hidden = true;
        void this.show();
      }
    };
  }

  private async read(): Promise<Document | undefined> {
    const response = await fetch(location.pathname, { cache: "no-store" });
    return response.ok ? new DOMParser().parseFromString(await response.text(), "text/html") : undefined;
  }

  /** Shows what was saved last, one save after the other. */
  private show(): Promise<void> {
    this.last = this.last.then(() => this.update()).catch(() => undefined); // who can't be reached is told of by onerror
    return this.last;
  }

  private async update(): Promise<void> {
    const page = await this.read();
    if (page === undefined) {
      this.banner.replaceChildren(h("p", {}, "What this page told of is gone from the definitions."));
      this.banner.hidden = false;
      return;
    }
    this.banner.hidden = true;
    const before = this.served;
    this.served = page;
    document.title = page.title;
    for (const place of ["header .project", "nav", "main"]) {
      const [old, now, here] = [before?.querySelector(place), page.querySelector(place), document.querySelector(place)];
      if (now != null && here !== null) {
        merge(here, old ?? undefined, now);
      }
    }
    const script = page.querySelector<HTMLScriptElement>("script[data-forms]")?.getAttribute("src");
    if (script != null) {
      this.forms(await (await fetch(script, { cache: "no-store" })).text());
    }
    dispatchEvent(new Event("resize")); // for tables that are wider now
    document.documentElement.dataset["shown"] = String(Number(document.documentElement.dataset["shown"] ?? "0") + 1);
  }
}

/** Brings what is shown from what was served before to what is served now; panels stay where they are. */
function merge(here: Element, before: Element | undefined, now: Element): void {
  if (before?.outerHTML === now.outerHTML) {
    return;
  }
  if (here.querySelector(".try") === null || here.matches(".try")) {
    here.replaceChildren(...Array.from(now.childNodes, (node) => document.importNode(node, true)));
    return;
  }
  const byId = (all: Element | undefined, id: string): Element | undefined =>
    [...(all?.children ?? [])].find((one) => one.id === id);
  // What holds a panel is found again by its id; the panel itself is never touched, so that typing goes on.
  const kept = new Map(
    Array.from(here.children, (one) => [one.matches(".try") ? "a panel" : one.id, one] as const).filter(
      ([key, one]) => key !== "" && (one.matches(".try") || one.querySelector(".try") !== null),
    ),
  );
  const wanted: Node[] = [];
  for (const node of now.childNodes) {
    const key = node instanceof Element ? (node.matches(".try") ? "a panel" : node.id) : "";
    const old = kept.get(key);
    if (old !== undefined && node instanceof Element) {
      if (key !== "a panel") {
        merge(old, byId(before, key), node);
      }
      kept.delete(key);
      wanted.push(old);
    } else {
      wanted.push(document.importNode(node, true));
    }
  }
  const stay = new Set(wanted);
  for (const node of [...here.childNodes]) {
    if (!stay.has(node)) {
      node.remove();
    }
  }
  let next = here.firstChild;
  for (const node of wanted) {
    if (node === next) {
      next = next.nextSibling;
    } else {
      here.insertBefore(node, next);
    }
  }
}
