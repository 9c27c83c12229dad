<script>
"use strict";
const data = JSON.parse(document.getElementById("data").textContent);
const $ = id => document.getElementById(id);
const make = (tag, text, name) => { const e = document.createElement(tag); if (text != null) e.textContent = text; if (name) e.className = name; return e; };
const state = { view: data.view, build: data.build, against: 0, function: 0, notes: true, byCode: false, find: "" };
state.against = data.builds.length > 1 ? (state.build === 0 ? data.builds.length - 1 : 0) : 0;

// All names of functions, in the order of the first build that has them.
const names = [];
for (const b of data.builds) for (const f of b.functions) if (!names.includes(f.name)) names.push(f.name);
state.function = Math.max(0, names.indexOf(data.function));
const functionOf = (build, name) => data.builds[build].functions.find(f => f.name === name);
const plural = (n, word) => `${n} ${word}${n === 1 ? "" : "s"}`;
const hex = n => n.toString(16).padStart(4, "0");

// ---- the program: source, IR and code in one row each
function sourceOf(position) {
  const m = /^(.*):(\d+):(\d+)/.exec(position || "");
  if (!m) return "";
  const lines = data.sources[m[1]];
  const text = lines && lines[m[2] - 1];
  return text == null ? `${m[1]}:${m[2]}` : `${m[2]}  ${text.trim()}`;
}

function noteElement(n) {
  const e = make("div", null, "note " + n.kind);
  e.append(make("b", `${n.pass} ${n.kind}`), ` ${n.value ? n.value + ": " : ""}${n.what}: ${n.why}`);
  const more = [Object.entries(n.figures).map(([name, v]) => `${name} ${v}`).join(", "), n.unlock && "would act with: " + n.unlock].filter(Boolean).join(". ");
  if (more) e.append(make("div", more, "more"));
  return e;
}

function codeLine([offset, text, role], row) {
  const e = make("div", null, "mono");
  e.dataset.offset = offset;
  e.append(make("span", hex(offset), "off"), text);
  if (role) e.append(make("span", role, "role"));
  return e;
}

function rowElement(row, depth, notes, lastSource) {
  const tr = make("tr");
  tr.tabIndex = -1;
  const line = (row.p || "").replace(/:\d+( .*)?$/, "");
  if (line) tr.dataset.line = line;
  if (row.v) tr.dataset.value = row.v;
  const source = sourceOf(row.p);
  const src = make("td", source && source !== lastSource ? source : "", "src mono");
  src.title = row.p || "";
  const ir = make("td", null, "ir mono");
  ir.style.setProperty("--depth", depth);
  ir.append(row.t);
  if (state.notes && row.v && notes.has(row.v)) for (const n of notes.get(row.v)) ir.append(noteElement(n));
  const code = make("td", null, "code");
  for (const c of row.c) code.append(codeLine(c));
  if (row.in) code.append(make("div", "part of " + row.in, "part mono"));
  tr.append(src, ir, code);
  return [tr, source || lastSource];
}

function facts(f) {
  const list = places => places.map(([n, t, w]) => n ? `${n} in ${w}` : w).join(", ");
  const t = f.totals;
  return [f.arrives.length && "arrives: " + list(f.arrives), f.leaves.length && "leaves: " + list(f.leaves),
    f.frame && `frame: ${plural(f.frame, "byte")}`, plural(t.instructions, "instruction"), plural(t.bytes, "byte"),
    t.calls && plural(t.calls, "call"), t.spills && plural(t.spills, "spill"), t.reloads && plural(t.reloads, "reload"),
    t.spilled_in_loops && `${t.spilled_in_loops} of both in loops`]
    .filter(Boolean).join("; ");
}

function notesByValue(build, name) {
  const by = new Map(), rest = [];
  const values = new Set();
  const f = functionOf(build, name);
  if (f) for (const b of f.blocks) for (const r of b.rows) if (r.v) values.add(r.v);
  for (const n of data.builds[build].notes) {
    if (n.function !== name) continue;
    if (n.value && values.has(n.value)) by.set(n.value, [...(by.get(n.value) || []), n]); else rest.push(n);
  }
  return [by, rest];
}

function showProgram(into) {
  const name = names[state.function], f = functionOf(state.build, name);
  into.append(make("h2", name + (f ? f.signature : "")));
  if (!f) { into.append(make("p", `${data.builds[state.build].name} has no code for it: its callers took its body, or nothing calls it.`, "facts")); return; }
  into.append(make("p", facts(f), "facts"));
  const [notes, rest] = notesByValue(state.build, name);
  if (state.byCode) return showCode(into, f);
  const table = make("table"), head = make("tr");
  for (const t of ["source", "program, as code was selected from it", `code for ${data.target}`]) head.append(make("th", t));
  table.append(head);
  const most = Math.max(1, ...f.blocks.map(b => b.times));
  for (const b of f.blocks) {
    const tr = make("tr", null, "head"), td = make("td", null, "mono");
    td.colSpan = 3;
    td.append(b.label || "(made by lowering)", make("span", b.times === 1 ? "once" : b.times ? `${+b.times.toPrecision(3)} times` : "", "times"));
    const heat = make("span", null, "heat");
    heat.style.width = Math.round(90 * Math.log(1 + b.times) / Math.log(1 + most)) + "px";
    td.append(heat);
    tr.append(td);
    table.append(tr);
    let last = "";
    for (const r of b.rows) { const [e, source] = rowElement(r, b.depth, notes, last); last = source; table.append(e); }
  }
  into.append(table);
  if (state.notes && rest.length) {
    into.append(make("h2", "notes about what is gone, or has another name now"));
    for (const n of rest) into.append(noteElement(n));
  }
}

function showCode(into, f) {
  const all = [];
  for (const b of f.blocks) for (const r of b.rows) for (const c of r.c) all.push([c, r, b]);
  all.sort((a, b) => a[0][0] - b[0][0]);
  const table = make("table"), head = make("tr");
  for (const t of ["source", `from`, `code for ${data.target}`]) head.append(make("th", t));
  table.append(head);
  let last = null, lastSource = "";
  for (const [c, r, b] of all) {
    const [tr, source] = rowElement({ ...r, t: r === last ? "" : r.t, c: [c], in: null }, b.depth, new Map(), r === last ? sourceOf(r.p) : "");
    lastSource = source; last = r;
    table.append(tr);
  }
  into.append(table);
}

// ---- notes of all functions
function showNotes(into) {
  const name = names[state.function];
  const all = data.builds[state.build].notes;
  const kinds = ["left", "declined", "done", "seen"];
  into.append(make("h2", `notes of ${data.builds[state.build].name}: ${plural(all.length, "note")}`));
  for (const kind of kinds) {
    const some = all.filter(n => n.kind === kind);
    if (!some.length) continue;
    into.append(make("h2", { left: "what is left over", declined: "what was declined", done: "what was done", seen: "what was seen" }[kind] + ` (${some.length})`));
    for (const n of some) {
      const e = noteElement(n);
      e.prepend(make("span", `${n.function}${n.position ? " at " + n.position : ""}  `, "mono"));
      e.dataset.line = n.position.replace(/:\d+( .*)?$/, "");
      into.append(e);
    }
  }
}

// ---- differences: figures in a grid, and the code of one function in two builds
function lines(f) {
  const all = [];
  for (const b of f.blocks) for (const r of b.rows) for (const c of r.c) if (c[2] !== "padding") all.push([c[0], c[1], r.p || "", c[3]]);
  return all.sort((a, b) => a[0] - b[0]);
}

// The longest common subsequence of shapes, which are numbers: lines alike but for registers have one.
function align(a, b) {
  const n = a.length, m = b.length, sa = a.map(l => l[3]), sb = b.map(l => l[3]);
  if (n * m > 3e7) return null;
  const best = new Uint16Array((n + 1) * (m + 1)), w = m + 1;
  for (let i = n - 1; i >= 0; --i) for (let j = m - 1; j >= 0; --j)
    best[i * w + j] = sa[i] === sb[j] ? best[(i + 1) * w + j + 1] + 1 : Math.max(best[(i + 1) * w + j], best[i * w + j + 1]);
  const out = [];
  let i = 0, j = 0;
  while (i < n || j < m) {
    if (i < n && j < m && sa[i] === sb[j]) out.push([a[i++], b[j++]]);
    else if (j >= m || (i < n && best[(i + 1) * w + j] >= best[i * w + j + 1])) out.push([a[i++], null]);
    else out.push([null, b[j++]]);
  }
  return out;
}

function showDifferences(into) {
  const figures = ["instructions", "bytes", "calls", "branches", "loads", "stores", "spills", "reloads", "spilled_in_loops"];
  const A = data.builds[state.build], B = data.builds[state.against], name = names[state.function];
  into.append(make("h2", "instructions and bytes in each build"));
  const grid = make("table", null, "figures mono"), head = make("tr");
  head.append(make("th", "function"));
  for (const b of data.builds) head.append(make("th", b.name));
  grid.append(head);
  for (const n of names) {
    const tr = make("tr"), all = data.builds.map(b => b.functions.find(f => f.name === n));
    const best = Math.min(...all.filter(Boolean).map(f => f.totals.bytes));
    tr.append(make("td", n));
    for (const f of all) tr.append(make("td", f ? `${f.totals.instructions}, ${f.totals.bytes}` : "-", f && f.totals.bytes === best ? "best" : ""));
    tr.dataset.function = n;
    grid.append(tr);
  }
  const around = make("div", null, "around");
  around.append(grid);
  into.append(around);
  const fa = functionOf(state.build, name), fb = functionOf(state.against, name);
  into.append(make("h2", `${name} in ${A.name} and in ${B.name}`));
  if (!fa || !fb || A === B) { into.append(make("p", A === B ? "both are one build" : "one of them has no code for it", "facts")); return; }
  into.append(make("p", figures.filter(k => fa.totals[k] !== fb.totals[k]).map(k => `${k.replaceAll("_", " ")} ${fa.totals[k]} to ${fb.totals[k]}`).join("; ") || "no figure differs", "facts"));
  const pairs = align(lines(fa), lines(fb));
  if (!pairs) { into.append(make("p", "too long to lay beside each other here", "facts")); return; }
  const left = new Set();
  for (const [a, b] of pairs) if (a && !b) left.add(a[3]);
  const right = new Set();
  for (const [a, b] of pairs) if (b && !a) right.add(b[3]);
  const table = make("table", null, "lines mono"), h = make("tr");
  for (const t of [A.name, "", B.name, "source"]) h.append(make("th", t));
  table.append(h);
  for (const [a, b] of pairs) {
    const s = (a || b)[3], moved = !(a && b) && left.has(s) && right.has(s);
    const tr = make("tr", null, a && b ? "" : moved ? "moved" : "only");
    tr.tabIndex = -1;
    const kind = a && b ? (a[1] === b[1] ? "=" : "~") : moved ? "o" : a ? "<" : ">";
    tr.append(make("td", a ? a[1] : ""), make("td", kind, "kind"), make("td", b ? b[1] : ""), make("td", sourceOf((a || b)[2]), "src"));
    const p = ((a || b)[2] || "").replace(/:\d+( .*)?$/, "");
    if (p) tr.dataset.line = p;
    table.append(tr);
  }
  into.append(table, make("p", "= the same   ~ alike but for registers and places   o moved   < only left   > only right", "facts"));
}

// ---- linking: what belongs together is marked; what registers carry is told below
function carried(offset) {
  const f = functionOf(state.build, names[state.function]), out = [];
  if (f) for (const l of f.lives) for (const [where, from, to] of l.stays) if (from <= offset && offset <= to) out.push([where, l.v, l.why]);
  return out;
}
let marked = [];
function link(row, line) {
  for (const e of marked) e.classList.remove("same", "here");
  marked = [];
  const mark = (e, name) => { e.classList.add(name); marked.push(e); };
  const below = $("carry");
  below.textContent = "";
  if (!row) return;
  if (row.dataset.line) for (const e of document.querySelectorAll(`[data-line="${CSS.escape(row.dataset.line)}"]`)) mark(e, "same");
  mark(row, "here");
  const code = line || row.querySelector("[data-offset]");
  if (!code || state.view !== "program") { below.append(row.dataset.line ? `all that came from ${row.dataset.line}` : ""); return; }
  const all = carried(+code.dataset.offset);
  below.append(make("span", `at ${hex(+code.dataset.offset)}: `, "mono"));
  if (!all.length) below.append("no register is known to carry a value");
  for (const [where, v] of all) { const e = make("span", null, "place mono"); e.append(make("b", where), " " + v); below.append(e); }
  for (const [, v, why] of all) if (v === row.dataset.value) for (const w of why) below.append(make("div", w));
}
$("content").addEventListener("mouseover", e => { const row = e.target.closest("tr,.note"); if (row) link(row, e.target.closest("[data-offset]")); });
$("content").addEventListener("focusin", e => link(e.target.closest("tr,.note")));
$("content").addEventListener("click", e => { const tr = e.target.closest("tr[data-function]"); if (tr) { state.function = names.indexOf(tr.dataset.function); draw(); } });

// ---- the bar above, and keys
const views = ["program", "notes", "differences"];
for (const v of views) { const b = make("button", v); b.id = "view-" + v; b.onclick = () => { state.view = v; draw(); }; $("views").append(b, " "); }
data.builds.forEach((b, k) => { const e = make("button", b.name); e.id = "build-" + k; e.onclick = () => { state.build = k; draw(); }; $("builds").append(e, " "); $("against").append(new Option(b.name, k)); });
names.forEach((n, k) => $("function").append(new Option(n, k)));
$("function").onchange = e => { state.function = +e.target.value; draw(); };
$("against").onchange = e => { state.against = +e.target.value; draw(); };
$("order").onclick = () => { state.byCode = !state.byCode; draw(); };
$("show-notes").onclick = () => { state.notes = !state.notes; draw(); };
$("dark").onclick = () => document.documentElement.classList.toggle("dark");
$("keys").onclick = () => { $("help").hidden = !$("help").hidden; };
$("find").oninput = e => { state.find = e.target.value.toLowerCase(); filter(); };
if (matchMedia("(prefers-color-scheme: dark)").matches) document.documentElement.classList.add("dark");
const keys = [["up, down", "the row before, the next one"], ["1 … 9", "the build"], ["f, F", "the next function, the one before"], ["p", "program"], ["m", "notes"], ["v", "differences"],
  ["o", "in the order of the code, or of the program"], ["n", "notes at their rows"], ["/", "find"], ["d", "dark or light"], ["?", "these keys"]];
for (const [k, what] of keys) { const e = make("div"); e.append(make("kbd", k), "  " + what); $("help").append(e); }

function filter() {
  for (const e of document.querySelectorAll("#content tr:not(.head), #content .note"))
    if (!e.querySelector("th")) e.hidden = state.find !== "" && !e.textContent.toLowerCase().includes(state.find);
}
function draw() {
  $("title").textContent = data.title;
  for (const v of views) $("view-" + v).setAttribute("aria-pressed", state.view === v);
  data.builds.forEach((b, k) => $("build-" + k).setAttribute("aria-pressed", state.build === k));
  $("function").value = state.function; $("against").value = state.against;
  $("against-part").hidden = state.view !== "differences";
  $("order").hidden = $("show-notes").hidden = state.view !== "program";
  $("order").setAttribute("aria-pressed", state.byCode); $("show-notes").setAttribute("aria-pressed", state.notes);
  const into = $("content");
  into.textContent = "";
  const fragment = document.createDocumentFragment();
  ({ program: showProgram, notes: showNotes, differences: showDifferences })[state.view](fragment);
  into.append(fragment);
  link(null);
  filter();
}
function step(by) {
  const rows = [...document.querySelectorAll("#content tr[tabindex]")].filter(r => !r.hidden);
  const at = rows.indexOf(document.activeElement);
  const to = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
  if (to) { to.focus({ preventScroll: true }); to.scrollIntoView({ block: "nearest" }); }
}
document.addEventListener("keydown", e => {
  if (e.target.matches?.("input,select")) { if (e.key === "Escape") e.target.blur(); return; }
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  const digit = "123456789".indexOf(e.key);
  if (digit >= 0 && digit < data.builds.length) { state.build = digit; draw(); return; }
  const count = names.length;
  const acts = { ArrowDown: () => step(1), ArrowUp: () => step(-1), f: () => { state.function = (state.function + 1) % count; draw(); },
    F: () => { state.function = (state.function + count - 1) % count; draw(); }, p: () => { state.view = "program"; draw(); },
    m: () => { state.view = "notes"; draw(); }, v: () => { state.view = "differences"; draw(); }, o: () => $("order").click(),
    n: () => $("show-notes").click(), d: () => $("dark").click(), "?": () => $("keys").click(), "/": () => $("find").focus() };
  if (acts[e.key]) { e.preventDefault(); acts[e.key](); }
});
draw();
</script>
</body>
</html>
