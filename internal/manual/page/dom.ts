/** Elements of the page, made in one expression. */

type Attributes = Readonly<Record<string, string | boolean | undefined | ((event: Event) => void)>>;

let last = 0;

/** An id that no other element has. */
export function id(): string {
  return `m${String(++last)}`;
}

/** An element with attributes, handlers ("onclick") and what is in it. Text is text, never markup. */
export function h<K extends keyof HTMLElementTagNameMap>(
  tag: K,
  attributes: Attributes = {},
  ...children: readonly (Node | string | undefined)[]
): HTMLElementTagNameMap[K] {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (typeof value === "function") {
      element.addEventListener(name.slice(2), value);
    } else if (value === true) {
      element.setAttribute(name, "");
    } else if (value !== undefined && value !== false) {
      element.setAttribute(name, value);
    }
  }
  element.append(...children.filter((child) => child !== undefined));
  return element;
}

export function button(label: string, onclick: (event: Event) => void, attributes: Attributes = {}): HTMLButtonElement {
  return h("button", { type: "button", onclick, ...attributes }, label);
}

/** An element that the page has for sure. */
export function byId(name: string): HTMLElement {
  const found = document.getElementById(name);
  if (found === null) {
    throw new Error(`the page has no ${name}`);
  }
  return found;
}

/** What the browser keeps for the next page. */
export function stored(key: string, value?: string): string | null {
  try {
    if (value !== undefined) {
      localStorage.setItem(key, value);
    }
    return localStorage.getItem(key);
  } catch {
    return null; // some keep nothing for pages from a disk
  }
}
