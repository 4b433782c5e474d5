// What pages of the manual do besides being read: two views of each table, and finding names.
"use strict";

(() => {
  const root = document.documentElement;
  const up = document.body.dataset.up ?? "";
  const byId = (id) => document.getElementById(id);
  const stored = (key, value) => {
    try {
      if (value !== undefined) {
        localStorage.setItem(key, value);
      }
      return localStorage.getItem(key);
    } catch {
      return null; // some browsers keep nothing for pages from a disk
    }
  };

  root.classList.add("script");
  document.querySelector(".tools").hidden = false;
  for (const link of document.querySelectorAll("nav a")) {
    if (link.pathname === location.pathname) {
      link.setAttribute("aria-current", "page");
    }
  }

  const show = (wire) => {
    root.classList.toggle("wire", wire);
    byId("view-wire").setAttribute("aria-pressed", String(wire));
    byId("view-names").setAttribute("aria-pressed", String(!wire));
  };
  for (const view of ["names", "wire"]) {
    byId(`view-${view}`).addEventListener("click", () => {
      show(view === "wire");
      stored("faithful manual view", view);
    });
  }
  show(stored("faithful manual view") === "wire");

  // How far a name is from what was typed; lower is nearer, Infinity is not found.
  const distance = (typed, entry) => {
    const name = entry.lower;
    const last = entry.short;
    if (last === typed) {
      return 0;
    }
    if (last.startsWith(typed)) {
      return 1 + (last.length - typed.length) / 100;
    }
    const at = name.indexOf(typed);
    if (at >= 0) {
      return 2 + at / 1000;
    }
    if (entry.more.includes(typed)) {
      return 3;
    }
    if (entry.doc.includes(typed)) {
      return 4;
    }
    return near(typed, last) ? 5 : Infinity;
  };

  // Whether two words differ by one slip: a letter too many, missing, another one, or two that changed places.
  const near = (a, b) => {
    if (a.length < 4 || Math.abs(a.length - b.length) > 1) {
      return false;
    }
    let i = 0;
    while (i < a.length && a[i] === b[i]) {
      i++;
    }
    const rest = (text, from) => text.slice(from);
    return rest(a, i + 1) === rest(b, i + 1) || rest(a, i + 1) === rest(b, i) || rest(a, i) === rest(b, i + 1) || (a[i] === b[i + 1] && a[i + 1] === b[i] && rest(a, i + 2) === rest(b, i + 2));
  };

  let entries = [];
  window.manualNames = (list) => {
    entries = list.map((entry) => ({
      ...entry,
      lower: entry.n.toLowerCase(),
      short: entry.n.slice(entry.n.lastIndexOf(".") + 1).toLowerCase(),
      more: (entry.m ?? "").toLowerCase(),
      doc: (entry.d ?? "").toLowerCase(),
    }));
  };

  const dialog = byId("search");
  const query = byId("query");
  const answers = byId("answers");
  const slash = byId("slash");
  slash.checked = stored("faithful manual slash") !== "off";
  slash.addEventListener("change", () => stored("faithful manual slash", slash.checked ? "on" : "off"));
  let found = [];
  let chosen = 0;

  const choose = (n) => {
    chosen = Math.max(0, Math.min(n, found.length - 1));
    for (const [i, li] of [...answers.children].entries()) {
      li.setAttribute("aria-selected", String(i === chosen));
    }
    const current = answers.children[chosen];
    query.setAttribute("aria-activedescendant", current?.id ?? "");
    current?.scrollIntoView({ block: "nearest" });
  };
  const go = () => {
    const entry = found[chosen];
    if (entry !== undefined) {
      dialog.close();
      location.href = up + entry.t;
    }
  };
  const search = () => {
    const typed = query.value.trim().toLowerCase();
    found = [];
    if (typed !== "") {
      const ranked = [];
      for (const entry of entries) {
        const d = distance(typed, entry);
        if (d < Infinity) {
          ranked.push([d, entry]);
        }
      }
      found = ranked.sort((a, b) => a[0] - b[0] || a[1].n.length - b[1].n.length).slice(0, 30).map(([, entry]) => entry);
    }
    answers.replaceChildren(
      ...found.map((entry, i) => {
        const li = document.createElement("li");
        li.id = `answer-${i}`;
        li.setAttribute("role", "option");
        const name = document.createElement("b");
        name.textContent = entry.n;
        const more = document.createElement("small");
        more.textContent = ` ${entry.k}${entry.m ? ` ${entry.m}` : ""}${entry.d ? `: ${entry.d}` : ""}`;
        li.append(name, more);
        li.addEventListener("click", () => {
          choose(i);
          go();
        });
        return li;
      }),
    );
    choose(0);
  };
  const open = () => {
    if (!dialog.open) {
      dialog.showModal();
      query.select();
    }
  };
  byId("find").addEventListener("click", open);
  query.addEventListener("input", search);
  query.addEventListener("keydown", (event) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      choose(chosen + (event.key === "ArrowDown" ? 1 : -1));
    } else if (event.key === "Enter") {
      event.preventDefault();
      go();
    }
  });
  addEventListener("keydown", (event) => {
    const typing = event.target instanceof Element && event.target.closest("input, textarea, select, [contenteditable]");
    if ((event.key === "/" && slash.checked && !typing && !event.ctrlKey && !event.metaKey && !event.altKey) || (event.key === "k" && (event.ctrlKey || event.metaKey))) {
      event.preventDefault();
      open();
    }
  });
})();
