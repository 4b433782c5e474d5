/**
 * What pages of the manual do besides being read: two views of each table, finding names, trying calls, and following
 * saves. It is bundled into manual.js by go generate.
 *
 *   model.ts     what pages know of calls
 *   json.ts      JSON that loses no digits
 *   checking.ts  holding JSON against definitions
 *   form.ts      inputs for a message
 *   calling.ts   a call, as the client of the stubs makes it
 *   sending.ts   sending it, from here or through faithful manual --serve
 *   copies.ts    the same request for a terminal
 *   trying.ts    the form of a call, and what comes back
 *   search.ts    finding names
 *   live.ts      following saves
 *   dom.ts       elements of the page
 */

import { button, byId, stored } from "./dom.js";
import { Live } from "./live.js";
import type { CallModel, Model } from "./model.js";
import { Search } from "./search.js";
import type { Name } from "./search.js";
import { Own, Relay } from "./sending.js";
import type { Sender } from "./sending.js";
import { Panel } from "./trying.js";
import type { Surroundings } from "./trying.js";

declare global {
  interface Window {
    manualNames: (list: readonly Name[]) => void;
    manualForms: (model: Model) => void;
  }
}

const root = document.documentElement;
const { up = "", send = "", to = "", single } = document.body.dataset;

root.classList.add("script");
document.querySelector(".tools")?.removeAttribute("hidden");

/** Marks the page that is read in the list of pages. */
function mark(is: (link: HTMLAnchorElement) => boolean): void {
  for (const link of document.querySelectorAll<HTMLAnchorElement>("nav a")) {
    if (is(link)) {
      link.setAttribute("aria-current", "page");
    } else {
      link.removeAttribute("aria-current");
    }
  }
}

if (single === undefined) {
  mark((link) => link.pathname === location.pathname);
} else {
  // All pages are in this one file: that one is shown which the address names.
  const turn = (): void => {
    const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    const page = target?.closest(".page") ?? document.querySelector(".page");
    for (const other of document.querySelectorAll<HTMLElement>(".page")) {
      other.hidden = other !== page;
    }
    mark((link) => link.getAttribute("href") === `#${page?.id ?? ""}`);
    if (target === page) {
      scrollTo(0, 0);
    } else {
      target?.scrollIntoView();
    }
  };
  addEventListener("hashchange", turn);
  turn();
}

/** Has the keyboard reach tables that are wider than the page, and no others. */
function reach(): void {
  for (const wide of document.querySelectorAll<HTMLElement>(".wide")) {
    if (wide.scrollWidth > wide.clientWidth) {
      wide.tabIndex = 0;
      wide.role = "group";
      wide.ariaLabel = "A table that scrolls sideways";
    } else {
      for (const name of ["tabindex", "role", "aria-label"]) {
        wide.removeAttribute(name);
      }
    }
  }
}
addEventListener("resize", reach);
document.addEventListener("toggle", reach, true);

function show(wire: boolean): void {
  root.classList.toggle("wire", wire);
  byId("view-wire").setAttribute("aria-pressed", String(wire));
  byId("view-names").setAttribute("aria-pressed", String(!wire));
  reach();
}
for (const view of ["names", "wire"]) {
  byId(`view-${view}`).addEventListener("click", () => {
    show(view === "wire");
    stored("faithful manual view", view);
  });
}
show(stored("faithful manual view") === "wire");

// What can be copied has a button for that.
for (const text of document.querySelectorAll<HTMLElement>("main details.sample pre")) {
  text.after(button("Copy", () => void navigator.clipboard.writeText(text.textContent)));
}

const search = new Search((address) =>
  single === undefined ? up + address : `#${address.replace(/\.html(#|$)/, (_, hash) => (hash === "#" ? "--" : ""))}`,
);
window.manualNames = (list) => {
  search.know(list);
};

/** Where the server of these pages is: they are below {base}/-/manual/. */
const base = send === "own" ? new URL(`${up}../..`, location.href).href.replace(/\/$/, "") : to;

if (send === "own") {
  // What is to be copied names an example of a server.
  for (const code of document.querySelectorAll("[data-as] code, details.sample code")) {
    code.textContent = code.textContent.replaceAll(to, base);
  }
}

function sender(): Sender | undefined {
  switch (send) {
    case "own":
      return new Own(base);
    case "relay":
      return new Relay("/-/send", document.querySelector<HTMLMetaElement>("meta[name=faithful-manual]")?.content ?? "");
    default:
      return undefined;
  }
}

const around: Surroundings = { sender: sender(), base, up, credentials: new Map<string, string>() };
const panels = new Map<string, Panel>();
const models = new Map<string, Model>(); // by service

window.manualForms = (model) => {
  const same = (other: Model | undefined): boolean =>
    other !== undefined && JSON.stringify({ ...other, digest: "" }) === JSON.stringify({ ...model, digest: "" });
  if (same(models.get(model.service))) {
    return; // what was saved is not about these calls
  }
  models.set(model.service, model);
  for (const place of document.querySelectorAll<HTMLDetailsElement>(".try")) {
    const call = model.calls.find(({ full }) => full === place.dataset["call"]);
    if (call === undefined) {
      continue;
    }
    const panel = panels.get(call.full);
    const body = place.querySelector<HTMLElement>(".panel");
    if (panel !== undefined && body !== null && place.dataset["made"] === "yes") {
      if (panel.fits(call)) {
        panel.update(model, call);
      } else {
        panels.set(call.full, new Panel(body, model, call, around, panel));
      }
    } else if (place.dataset["waits"] !== "yes") {
      place.dataset["waits"] = "yes";
      place.hidden = false;
      open(place, model.service, call.full);
    }
  }
};

/** Makes a panel when it is opened. */
function open(place: HTMLDetailsElement, service: string, full: string): void {
  const make = (): void => {
    const model = models.get(service);
    const call: CallModel | undefined = model?.calls.find((one) => one.full === full);
    const body = place.querySelector<HTMLElement>(".panel");
    if (place.open && place.dataset["made"] !== "yes" && body !== null && model !== undefined && call !== undefined) {
      place.dataset["made"] = "yes";
      panels.set(full, new Panel(body, model, call, around));
    }
  };
  place.addEventListener("toggle", make);
  make();
}

if (send === "relay") {
  new Live("/-/manual/saves", (text) => {
    const json = /^manualForms\((.*)\);\s*$/s.exec(text)?.[1];
    if (json !== undefined) {
      window.manualForms(JSON.parse(json) as Model);
    }
  });
}
