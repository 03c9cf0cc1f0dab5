"use strict";
// What needs a script on the pages of runs: tables that sort and filter, and the tasks and
// facts, of which only as many are drawn as are looked at. The filter of the tasks is in
// the address, so that a link carries it.

const el = (name, attrs = {}, ...children) => {
  const e = document.createElement(name);
  for (const [k, v] of Object.entries(attrs)) if (v !== false && v != null) e.setAttribute(k, v);
  e.append(...children.filter((c) => c != null));
  return e;
};
const seconds = (ms) => (ms < 1000 ? ms + " ms" : (ms / 1000).toFixed(ms < 10000 ? 1 : 0) + " s");
const bad = new Set(["failed", "blocked"]);
const moodOf = (status) => (bad.has(status) ? "bad" : status === "changed" ? "loud" : "quiet");

// Tables whose rows are all there: sorted by a click on a heading, filtered by words.
for (const table of document.querySelectorAll("table.sortable")) {
  table.querySelectorAll("thead th").forEach((th, column) => {
    const button = el("button", { type: "button" }, th.textContent);
    th.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = th.getAttribute("aria-sort") === "ascending";
      table.querySelectorAll("thead th").forEach((h) => h.removeAttribute("aria-sort"));
      th.setAttribute("aria-sort", down ? "descending" : "ascending");
      const body = table.tBodies[0];
      const value = (row) => row.cells[column].dataset.sort ?? row.cells[column].textContent.trim();
      const rows = [...body.rows].map((row) => [value(row), row]);
      const numbers = rows.every(([v]) => v === "" || !isNaN(v));
      rows.sort(([a], [b]) => (numbers ? a - b : a.localeCompare(b, undefined, { numeric: true })));
      if (down) rows.reverse();
      body.append(...rows.map(([, row]) => row));
    });
  });
}
for (const input of document.querySelectorAll("input[data-rows]")) {
  const table = document.getElementById(input.dataset.rows);
  const output = document.querySelector(`output[data-count="${input.dataset.rows}"]`);
  const rows = [...table.tBodies[0].rows];
  const texts = rows.map((row) => row.textContent.toLowerCase());
  const show = () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    let n = 0;
    rows.forEach((row, i) => {
      row.hidden = !words.every((w) => texts[i].includes(w));
      if (!row.hidden) n++;
    });
    output.textContent = words.length ? `${n} of ${rows.length}` : `${rows.length}`;
  };
  input.addEventListener("input", show);
  show();
}

const holder = document.getElementById("data");
if (holder) runPage(JSON.parse(holder.textContent));

function runPage(data) {
  const T = data.texts;
  const hostNames = data.hosts.map((h) => T[h]);
  const tasks = data.tasks.map(([host, kind, name, status, after, took, file, line, labels, detail], i) => ({
    i, host: hostNames[host], kind: T[kind], name: T[name], task: T[kind] + " " + T[name], status: T[status], after, took,
    file: T[file], line, labels: labels ? data.labels[labels - 1] : [], detail: detail ? data.details[detail - 1] : null,
  }));
  const form = document.getElementById("filter");
  const body = document.querySelector("#tasks-table tbody");
  const more = document.getElementById("more");
  const output = document.getElementById("count");
  const page = 200; // rows that are drawn at once
  const order = ["failed", "blocked", "changed", "unchanged", "skipped"];
  const said = (status) => (data.would && status === "changed" ? "to change" : status);

  const options = (name, values, show = (v) => v) =>
    form.elements[name].replaceChildren(el("option", { value: "" }, "any"), ...values.map((v) => el("option", { value: v }, show(v))));
  const of = (key) => [...new Set(tasks.map((t) => t[key]))].sort((a, b) => a.localeCompare(b, undefined, { numeric: true }));
  options("status", order.filter((s) => tasks.some((t) => t.status === s)), said);
  options("host", hostNames.slice().sort((a, b) => a.localeCompare(b, undefined, { numeric: true })));
  options("kind", of("kind"));
  options("label", [...new Set(data.labels.flat())].sort());

  // words of a task, made when they are first asked for: most never are
  const details = new Map();
  const words = (t) => {
    if (t.words === undefined) {
      let d = t.detail ? details.get(t.detail) : "";
      if (d === undefined) {
        d = JSON.stringify(t.detail).toLowerCase();
        details.set(t.detail, d);
      }
      t.words = `${t.host} ${t.task} ${said(t.status)} ${t.file} ${t.labels.join(" ")} ${d}`.toLowerCase();
    }
    return t.words;
  };

  let found = tasks, drawn = 0, sort = "", down = false;
  const fields = ["q", "status", "host", "kind", "task", "label"];
  const state = () => {
    const p = new URLSearchParams();
    for (const f of fields) if (form.elements[f].value) p.set(f, form.elements[f].value);
    if (sort) p.set("sort", (down ? "-" : "") + sort);
    return p;
  };

  function search() {
    const v = Object.fromEntries(fields.map((f) => [f, form.elements[f].value]));
    const q = v.q.toLowerCase().split(/\s+/).filter(Boolean);
    const part = v.task.toLowerCase();
    found = tasks.filter((t) =>
      (!v.status || t.status === v.status) && (!v.host || t.host === v.host) && (!v.kind || t.kind === v.kind) &&
      (!part || t.task.toLowerCase().includes(part)) && (!v.label || t.labels.includes(v.label)) &&
      q.every((w) => words(t).includes(w)));
    if (sort) {
      const by = { host: (t) => t.host, task: (t) => t.task, status: (t) => order.indexOf(t.status), after: (t) => t.after, took: (t) => t.took }[sort];
      const compare = new Intl.Collator(undefined, { numeric: true }).compare;
      found.sort((a, b) => { const x = by(a), y = by(b); return typeof x === "string" ? compare(x, y) : x - y; });
      if (down) found.reverse();
    } else {
      found.sort((a, b) => order.indexOf(a.status) - order.indexOf(b.status) || a.i - b.i);
    }
    document.querySelectorAll("#tasks-table th[data-key]").forEach((th) => {
      if (th.dataset.key === sort) th.setAttribute("aria-sort", down ? "descending" : "ascending");
      else th.removeAttribute("aria-sort");
    });
    body.replaceChildren();
    drawn = 0;
    draw();
    output.textContent = found.length === tasks.length ? `${tasks.length} tasks` : `${found.length} of ${tasks.length} tasks`;
  }

  function draw() {
    const next = found.slice(drawn, drawn + page);
    drawn += next.length;
    body.append(...next.map(row));
    more.hidden = drawn >= found.length;
    more.textContent = `Show ${Math.min(page, found.length - drawn)} more of ${found.length - drawn}`;
  }

  const address = (t) => `task/${t.host}/${t.kind}/${t.name}`;

  function row(t) {
    const open = el("button", { type: "button", class: "open", "aria-expanded": "false" }, t.task);
    const tr = el("tr", { id: address(t) },
      el("th", { scope: "row" }, t.host), el("td", {}, open), el("td", { class: moodOf(t.status) }, said(t.status)),
      el("td", { class: "n" }, seconds(t.after)), el("td", { class: "n" }, seconds(t.took)),
      el("td", {}, t.file ? el("a", { href: "#file/" + t.file + ":" + t.line }, `${t.file}:${t.line}`) : ""),
      el("td", {}, t.labels.join(", ")));
    open.addEventListener("click", () => toggle(t, tr, open));
    return tr;
  }

  function toggle(t, tr, open) {
    if (open.getAttribute("aria-expanded") === "true") {
      tr.nextElementSibling.remove();
      open.setAttribute("aria-expanded", "false");
      return;
    }
    open.setAttribute("aria-expanded", "true");
    tr.after(el("tr", { class: "more" }, el("td", { colspan: 7 }, ...whole(t))));
  }

  // whole shows all of a task: why, what differed, what it printed, and its lines.
  function whole(t) {
    const d = t.detail ?? {}, out = [];
    if (d.message) out.push(el("pre", {}, d.message));
    if (d.blocked_by) out.push(el("p", {}, "Blocked by ", el("a", { href: `#task/${t.host}/${d.blocked_by.replace(" ", "/")}` }, d.blocked_by)));
    if (d.drift) out.push(el("p", {}, { host: "Modified on the host.", declaration: "Declaration changed.", both: "Modified on the host, and the declaration changed.", undeclared: "No longer declared." }[d.drift] ?? ""));
    for (const c of d.changes ?? []) out.push(...change(c));
    if (d.written) out.push(el("p", {}, `Last applied by ${d.by || "an unknown user"}:`), ...d.written.flatMap(change));
    if (d.output) out.push(el("p", {}, "Output"), el("pre", {}, d.output));
    if (d.do) out.push(el("p", { class: "do" }, d.do));
    if (d.tries) out.push(el("p", {}, `${d.tries} attempts`));
    const lines = declaration(t);
    if (lines) out.push(el("p", { class: "where" }, el("a", { href: `#file/${t.file}:${t.line}` }, `${t.file}:${t.line}`)), lines);
    out.push(el("p", {}, el("a", { href: "#" + address(t) }, "Permalink")));
    return out;
  }

  function change(c) {
    const text = c.what === "existence" ? (c.becomes === "absent" ? "removed" : "created") : c.was ? `${c.what}: ${c.was} → ${c.becomes || "none"}` : `${c.what}: ${c.becomes}`;
    const out = [el("p", { class: "change" }, text)];
    if (c.diff) {
      out.push(el("pre", {}, ...c.diff.replace(/\n$/, "").split("\n").map((line, i) => // the first two lines name the sides
        el("span", { class: i < 2 ? "quiet" : line[0] === "+" ? "plus" : line[0] === "-" ? "minus" : false }, line + "\n"))));
    }
    return out;
  }

  // declaration gives the lines of a task's declaration, out of the manifest in the page.
  function declaration(t) {
    const file = t.file && document.getElementById("file/" + t.file);
    if (!file) return null;
    const spans = file.querySelectorAll("pre.lines span"), out = el("pre", { class: "lines" });
    for (let i = t.line - 1; i < spans.length && i < t.line + 30; i++) {
      const text = spans[i].lastChild?.textContent ?? "";
      if (i >= t.line && text.startsWith("[")) break;
      const copy = spans[i].cloneNode(true);
      copy.removeAttribute("id");
      out.append(copy);
    }
    while (out.lastChild && !(out.lastChild.lastChild?.textContent ?? "").trim()) out.lastChild.remove();
    return out;
  }

  // The address: #tasks?..., #task/HOST/KIND/NAME, #file/PATH:LINE, #host/NAME.
  const keep = () => {
    const p = state().toString();
    history.replaceState(null, "", p ? "#tasks?" + p : "#tasks");
  };
  function follow() {
    const hash = decodeURIComponent(location.hash.slice(1));
    document.querySelectorAll(".lit").forEach((e) => e.classList.remove("lit"));
    if (hash.startsWith("tasks?")) {
      const p = new URLSearchParams(location.hash.slice("#tasks?".length));
      for (const f of fields) form.elements[f].value = p.get(f) ?? "";
      sort = (p.get("sort") ?? "").replace(/^-/, "");
      down = (p.get("sort") ?? "").startsWith("-");
      search();
      document.getElementById("tasks").scrollIntoView();
      return;
    }
    if (hash.startsWith("task/")) {
      const t = tasks.find((t) => address(t) === hash);
      if (!t) return;
      if (!document.getElementById(hash)) {
        // not by reset, whose event would take the address and close the task again
        for (const f of fields) form.elements[f].value = "";
        [sort, down] = ["", false];
        form.elements.host.value = t.host;
        search();
        while (!document.getElementById(hash) && drawn < found.length) draw();
      }
      const tr = document.getElementById(hash), open = tr.querySelector(".open");
      if (open.getAttribute("aria-expanded") !== "true") toggle(t, tr, open);
      tr.classList.add("lit");
      tr.scrollIntoView({ block: "center" });
      open.focus({ preventScroll: true });
      return;
    }
    const e = document.getElementById(hash);
    if (!e) return;
    const details = e.closest("details");
    if (details) details.open = true;
    if (e !== details) e.classList.add("lit");
    e.scrollIntoView({ block: hash.includes(":") ? "center" : "start" });
  }

  let due = 0;
  form.addEventListener("input", () => {
    clearTimeout(due);
    due = setTimeout(() => { search(); keep(); }, tasks.length > 20000 ? 150 : 0);
  });
  form.addEventListener("reset", () => setTimeout(() => { sort = ""; down = false; search(); keep(); }));
  form.addEventListener("submit", (e) => e.preventDefault());
  more.addEventListener("click", draw);
  document.querySelectorAll("#tasks-table th[data-key] button").forEach((b) => b.addEventListener("click", () => {
    const key = b.parentElement.dataset.key;
    [sort, down] = sort === key ? [key, !down] : [key, key === "took"];
    search();
    keep();
  }));
  addEventListener("hashchange", follow);
  addEventListener("keydown", (e) => {
    if (e.key === "/" && !/INPUT|SELECT|TEXTAREA/.test(document.activeElement.tagName)) {
      e.preventDefault();
      form.elements.q.focus();
      form.scrollIntoView();
    }
  });
  search();
  if (location.hash) follow();
  facts(data, hostNames);
}

// facts shows facts by words, at most so many.
function facts(data, hostNames) {
  const most = 300;
  const input = document.getElementById("facts-words"), body = document.querySelector("#facts-table tbody");
  const output = document.getElementById("facts-count");
  const show = () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    const rows = [];
    let n = 0;
    for (const [host, ...pairs] of data.facts) {
      for (let i = 0; i < pairs.length; i += 2) {
        const path = data.texts[pairs[i]], value = data.texts[pairs[i + 1]];
        if (!words.every((w) => hostNames[host].toLowerCase().includes(w) || path.toLowerCase().includes(w) || value.toLowerCase().includes(w))) continue;
        if (n++ < most) rows.push(el("tr", {}, el("th", { scope: "row" }, hostNames[host]), el("td", {}, el("code", {}, path)), el("td", {}, value)));
      }
    }
    body.replaceChildren(...rows);
    output.textContent = n > most ? `the first ${most} of ${n}` : `${n}`;
  };
  input.addEventListener("input", show);
  show();
}
