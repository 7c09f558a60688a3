"use strict";
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const all = data.changes;
  const byId = new Map(all.map((c) => [c.i, c]));
  const marks = new Map(); // change → {reject, because, until}
  const $ = (id) => document.getElementById(id);
  const most = 100; // rows that are drawn at once
  document.documentElement.classList.add("js");

  // element makes an element; texts are set as text, never as markup.
  function element(name, props = {}, ...children) {
    const e = document.createElement(name);
    for (const [key, value] of Object.entries(props)) {
      if (key === "class") e.className = value;
      else if (key === "on") for (const [event, f] of Object.entries(value)) e.addEventListener(event, f);
      else e.setAttribute(key, value);
    }
    e.append(...children);
    return e;
  }
  const plural = (n, one, many) => n.toLocaleString("en") + " " + (n === 1 ? one : many);

  // along is what is decided along with some changes: what they need, or what needs them.
  const needing = new Map();
  for (const c of all) for (const need of c.x || []) needing.set(need, [...(needing.get(need) || []), c.i]);
  function along(ids, reject) {
    const chosen = new Set(ids), out = [], queue = [...ids];
    while (queue.length) {
      const c = byId.get(queue.pop());
      const next = !c ? [] : reject ? needing.get(c.i) || [] : c.x || [];
      for (const id of next) if (!chosen.has(id) && byId.has(id)) { chosen.add(id); out.push(id); queue.push(id); }
    }
    return out;
  }

  function state(c) {
    const m = marks.get(c.i);
    return m ? (m.reject ? "to reject" : "to accept") + (m.with ? " along with another" : "") : c.d;
  }
  function states(list) {
    const counts = new Map();
    for (const c of list) counts.set(state(c), (counts.get(state(c)) || 0) + 1);
    return [...counts].map(([name, n]) => n.toLocaleString("en") + " " + name).join(", ");
  }

  // key is what a change is grouped by.
  const keys = {
    cause: (c) => data.causes[c.c] || "no cause", person: (c) => (c.p < 0 ? "accounts of nobody, and definitions" : data.people[c.p].join("  ")),
    kit: (c) => (c.k ? "kit " + c.k : "no kit"), thing: (c) => c.t || "accounts themselves", app: (c) => c.a, verb: (c) => c.v,
  };
  const keyOf = (by) => keys[by] || ((c) => by + ": " + ((c.q || {})[by] || "none"));

  function found() {
    const words = $("search").value.toLowerCase().split(/\s+/).filter(Boolean), only = $("only").value;
    return all.filter((c) => {
      if (only && state(c) !== only && c.e !== only && !(only === "held" && c.h)) return false;
      if (!words.length) return true;
      if (!c.text) c.text = [c.i, c.s, c.u, c.p < 0 ? "" : data.people[c.p].join(" "), data.causes[c.c], c.k, c.d].join(" ").toLowerCase();
      return words.every((w) => c.text.includes(w));
    });
  }
  // called is what a group is called: of a cause, what most of its changes do as well.
  function called(title, list) {
    if ($("by").value !== "cause") return title;
    const folds = grouped(list, (c) => data.alike[c.f]), more = list.length - folds[0][1].length;
    const one = folds.length === 1 && list.length === 1 && list[0].p >= 0 ? ", " + data.people[list[0].p][1] : "";
    return folds[0][0] + one + (more ? " and " + more.toLocaleString("en") + " more" : "") + "; cause: " + title;
  }
  function grouped(list, key) {
    const groups = new Map();
    for (const c of list) { const k = key(c); if (!groups.has(k)) groups.set(k, []); groups.get(k).push(c); }
    return [...groups].sort((x, y) => y[1].length - x[1].length);
  }

  // rows adds so many elements at first, and a button for the rest.
  function rows(into, list, make) {
    let at = 0;
    const more = element("button", { type: "button", on: { click: add } });
    function add() {
      const focus = document.activeElement === more;
      more.remove();
      const first = at;
      for (; at < Math.min(first + most, list.length); at++) into.append(make(list[at]));
      if (at < list.length) { more.textContent = "Show " + plural(Math.min(most, list.length - at), "more", "more") + " of " + (list.length - at).toLocaleString("en"); into.append(more); }
      if (focus) { const target = into.children[first]; if (target) { target.tabIndex = -1; target.focus(); } }
    }
    add();
  }

  function change(c) {
    const box = element("div", { class: "change", "data-id": c.i });
    const effect = element("span", { class: "effect " + c.e }, c.e);
    const status = element("span", { class: "mark" }, " " + state(c));
    status.dataset.state = c.i;
    box.append(effect, " " + c.s + (c.g ? ", for good" : "") + " ", element("span", { class: "dim" }, "number " + c.n + ", " + c.i + ":"), status);
    const why = element("ul");
    for (const r of c.r || []) why.append(element("li", {}, data.reasons[r]));
    for (const h of c.h || []) why.append(element("li", { class: "hold" }, "held by " + data.holds[h]));
    box.append(why, acts([c], c.s));
    return box;
  }
  function acts(list, of) {
    const box = element("div", { class: "acts" });
    if (!list.some((c) => c.d !== "done")) return box;
    const button = (text, what) => element("button", { type: "button", "aria-label": text + ": " + of, on: { click: () => ask(list, what) } }, text);
    box.append(button("Accept", "accept"), button("Reject", "reject"), button("Leave open", "leave"));
    return box;
  }
  function fold(title, list, inside, level) {
    const summary = element("summary", {}, element("span", { class: "count" }, list.length.toLocaleString("en")), title);
    const status = element("span", { class: "state" }, states(list));
    status.dataset.of = list.map((c) => c.i).join(" ");
    summary.append(status);
    const d = element("details", { class: list.some((c) => c.h && c.d === "held") ? "held" : "" }, summary);
    let drawn = false;
    d.addEventListener("toggle", () => {
      if (d.open && !drawn) { drawn = true; d.append(acts(list, title)); inside(d); }
    });
    return d;
  }
  function draw() {
    const list = found(), into = $("groups");
    into.replaceChildren();
    $("found").textContent = list.length === all.length ? plural(all.length, "change", "changes") : list.length.toLocaleString("en") + " of " + plural(all.length, "change", "changes");
    rows(into, grouped(list, keyOf($("by").value)), ([title, of]) => fold(called(title, of), of, (d) => {
      const folds = grouped(of, (c) => data.alike[c.f]);
      rows(d, folds, ([text, some]) => (some.length === 1 ? change(some[0]) : fold(text, some, (f) => rows(f, some, change))));
    }));
    if (!list.length) into.append(element("p", {}, "No change has all of these words."));
  }

  // redraw says anew what is decided, without closing anything.
  function redraw() {
    for (const e of document.querySelectorAll("[data-state]")) e.textContent = " " + state(byId.get(e.dataset.state));
    for (const e of document.querySelectorAll("[data-of]")) e.textContent = states(e.dataset.of.split(" ").map((id) => byId.get(id)));
    let accepted = 0, rejected = 0;
    for (const m of marks.values()) m.reject ? rejected++ : accepted++;
    $("sum").textContent = marks.size
      ? accepted.toLocaleString("en") + " to accept, " + rejected.toLocaleString("en") + " to reject, " + all.filter((c) => !marks.has(c.i) && (c.d === "undecided" || c.d === "held")).length.toLocaleString("en") + " open"
      : "Nothing is decided on this page yet.";
    $("write").disabled = !marks.size;
  }

  let asked = null;
  function ask(list, what) {
    const open = list.filter((c) => c.d !== "done");
    if (what === "leave") { for (const c of open) marks.delete(c.i); settle(); return; }
    const alone = open.length === 1;
    const chosen = what === "accept" && !alone ? open.filter((c) => !c.g && c.d !== "rejected") : open;
    asked = { what, chosen, left: open.length - chosen.length };
    $("ask-title").textContent = (what === "accept" ? "Accept " : "Reject ") + plural(chosen.length, "change", "changes");
    const held = chosen.filter((c) => c.d === "held").length;
    $("ask-note").textContent =
      (asked.left ? plural(asked.left, "change is", "changes are") + " left out, because they cannot be undone or were rejected before: accept each of them individually. " : "") +
      (what === "accept" && held ? plural(held, "change stays", "changes stay") + " held until the administrators lift the guard. " : "");
    $("until-row").hidden = what !== "reject";
    $("ask").showModal();
    $("because").focus();
  }
  $("ask-form").addEventListener("submit", (event) => {
    if (event.submitter && event.submitter.value === "no") return;
    const because = $("because").value.trim();
    if (!because) { event.preventDefault(); $("because").focus(); return; }
    const reject = asked.what === "reject";
    for (const c of asked.chosen) marks.set(c.i, { reject, because, until: reject ? $("until").value : "" });
    settle();
  });
  // settle works out what is decided along with the rest.
  function settle() {
    for (const [id, m] of marks) if (m.with) marks.delete(id);
    for (const reject of [true, false]) {
      const own = [...marks].filter(([, m]) => m.reject === reject && !m.with);
      for (const [id, m] of own) for (const other of along([id], reject)) {
        const was = marks.get(other);
        if (was && was.reject === reject) continue;
        if (byId.get(other).d === "done") continue;
        if (was && reject === false) { marks.delete(id); break; } // it needs what is rejected
        marks.set(other, { reject, because: m.because, until: m.until, with: id });
      }
    }
    redraw();
  }

  // decisions are what was decided, one for each reason, in the form in which Pravet records them.
  function decisions() {
    const parts = new Map();
    for (const c of all) {
      const m = marks.get(c.i);
      if (!m) continue;
      const own = m.with ? marks.get(m.with) : m;
      if (!own) continue;
      const key = JSON.stringify([own.reject, own.because, own.until || ""]);
      if (!parts.has(key)) parts.set(key, { reject: own.reject, because: own.because, until: own.until, own: [], with: [] });
      parts.get(key)[m.with ? "with" : "own"].push(c);
    }
    const sorted = [...parts.values()].sort((x, y) => (y.reject ? 1 : 0) - (x.reject ? 1 : 0));
    return sorted.map((x, n) => {
      const d = {};
      if (n === 0) { d.plan = data.plan; d.digest = data.digest; }
      d.verdict = x.reject ? "reject" : "accept";
      d.all = false;
      d.changes = x.own.map((c) => c.i);
      d.what = x.own.map((c) => c.s);
      d.marks = x.own.map((c) => c.m);
      const people = [...new Set(x.own.filter((c) => c.p >= 0).map((c) => data.people[c.p][0]))];
      if (people.length) d.people = people;
      d.things = [...new Set(x.own.map((c) => c.o))];
      if (x.with.length) d.along = x.with.map((c) => c.i);
      if (x.until) d.until = x.until;
      d.because = x.because;
      return d;
    });
  }
  function statement(by) {
    const list = decisions();
    if (!list.length) return null;
    const first = list[0];
    if (list.length > 1) first.more = list.slice(1);
    const now = new Date(), two = (n) => String(n).padStart(2, "0");
    return { organization: data.organization, environment: data.environment, day: now.getFullYear() + "-" + two(now.getMonth() + 1) + "-" + two(now.getDate()), by, decision: first };
  }
  $("write").addEventListener("click", () => { line(); $("save").showModal(); $("by-name").focus(); });
  function fileName() { return "decision-" + data.plan + ".json"; }
  function line() {
    $("sign").textContent = "ssh-keygen -Y sign -n " + data.namespace + " -f ~/.ssh/id_ed25519 " + fileName();
  }
  $("save-form").addEventListener("submit", (event) => {
    if (event.submitter && event.submitter.value === "no") return;
    event.preventDefault();
    const by = $("by-name").value.trim();
    if (!by) { $("by-name").focus(); return; }
    const text = JSON.stringify(statement(by), null, 2) + "\n";
    const url = URL.createObjectURL(new Blob([text], { type: "application/json" }));
    const a = element("a", { href: url, download: fileName() });
    document.body.append(a);
    a.click();
    a.remove();
    setTimeout(() => URL.revokeObjectURL(url), 10000);
    $("saved").textContent = "Written: " + fileName() + ". Send it to the administrators, who record it with: pravet decisions take " + fileName();
  });
  $("copy").addEventListener("click", async () => {
    try { await navigator.clipboard.writeText($("sign").textContent); $("saved").textContent = "Copied."; } catch (e) {
      const range = document.createRange(); range.selectNodeContents($("sign"));
      getSelection().removeAllRanges(); getSelection().addRange(range);
      $("saved").textContent = "Selected; copy it with the keys of your system.";
    }
  });
  for (const id of ["search", "by", "only"]) $(id).addEventListener("input", draw);
  addEventListener("beforeunload", (event) => { if (marks.size && !$("saved").textContent) event.preventDefault(); });
  draw();
  redraw();
})();
