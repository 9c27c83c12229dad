// The page, in a browser: every instruction stands in it once, what belongs together is marked, keys do what
// they say.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/json.h"
#include "support/process.h"

namespace porphyry {
namespace {

using testing::run_command;

const std::string tool = PORPHYRY_TOOL, demo = PORPHYRY_ROOT "/demo/";

// Opens a page, runs a script behind its own, and takes what that leaves in `out`.
nlohmann::json in_browser(const testing::TemporaryFolder& folder, const std::string& page,
                          const std::string& script) {
  std::string html = testing::contents(page);
  const std::string end = "</body>";
  html.replace(html.rfind(end), end.size(),
               "<script>try{const out={};" + script +
                   ";document.documentElement.innerHTML='<pre>RESULT'+JSON.stringify(out)+'END</"
                   "pre>'}catch(e){document."
                   "documentElement.innerHTML='<pre>RESULT{\"error\":'+JSON.stringify(String(e))+'}END</"
                   "pre>'}</script></body>");
  const std::string file = folder.write("tested.html", html);
  const std::string dom =
      run_command("timeout 60 chromium --headless=new --no-sandbox --disable-gpu --user-data-dir=" +
                  folder.file("profile") + " --dump-dom file://" + file + " 2>/dev/null")
          .out;
  const size_t from = dom.find("RESULT"), to = dom.rfind("END</pre>");
  EXPECT_NE(from, dom.npos) << dom.substr(0, 400);
  if (from == dom.npos) return {};
  std::string text = dom.substr(from + 6, to - from - 6);
  for (auto [escaped, plain] : {std::pair("&lt;", "<"), std::pair("&gt;", ">"), std::pair("&amp;", "&")})
    for (size_t at = 0; (at = text.find(escaped, at)) != text.npos; ++at)
      text.replace(at, std::string(escaped).size(), plain);
  return testing::read_json(text);
}

TEST(Page, HoldsEveryInstructionAndLinksWhatBelongsTogether) {
  testing::TemporaryFolder folder;
  const std::string page = folder.file("p.html");
  ASSERT_EQ(run_command(tool + " lower " + demo + "frostwatch.por -O2 --function chill -o " + page).status,
            0);
  EXPECT_EQ(testing::contents(page).find("http"), std::string::npos);  // it asks nobody
  auto out = in_browser(folder, page, R"(
    out.title = $("title").textContent; out.builds = data.builds.map(b => b.name); out.first = names[state.function];
    out.counts = [];
    for (let b = 0; b < data.builds.length; ++b) for (const code of [false, true]) for (let k = 0; k < names.length; ++k) {
      state.build = b; state.byCode = code; state.function = k; draw();
      const f = functionOf(b, names[k]);
      out.counts.push([document.querySelectorAll("#content [data-offset]").length, f.totals.instructions]);
      if (code) { const at = [...document.querySelectorAll("#content [data-offset]")].map(e => +e.dataset.offset); out.sorted = (out.sorted ?? true) && at.every((v, i) => !i || at[i - 1] <= v); }
    }
    state.byCode = false; state.build = 2; state.function = names.indexOf("chill"); draw();
    const row = [...document.querySelectorAll("#content tr[tabindex]")].find(r => r.dataset.value === "next");
    link(row);
    out.line = row.dataset.line; out.here = row.classList.contains("here");
    out.same = document.querySelectorAll("#content .same").length; out.of_line = document.querySelectorAll('[data-line="' + row.dataset.line + '"]').length;
    out.carry = $("carry").textContent; out.lives = functionOf(2, "chill").lives.map(l => l.v);
  )");
  ASSERT_FALSE(out.contains("error")) << out["error"];
  EXPECT_EQ(out["title"], "frostwatch.por");
  EXPECT_EQ(out["builds"].size(), 6u);
  EXPECT_EQ(out["first"], "chill");
  for (const auto& pair : out["counts"]) EXPECT_EQ(pair[0], pair[1]);
  EXPECT_EQ(out["sorted"], true);
  EXPECT_EQ(out["here"], true);
  EXPECT_EQ(out["line"], "frost.fml:24");
  EXPECT_EQ(out["same"], out["of_line"]);
  EXPECT_GT(out["same"], 3);
  // What the listing says of registers at that instruction.
  const std::string carry = out["carry"];
  EXPECT_NE(carry.find("xmm"), std::string::npos) << carry;
  EXPECT_NE(carry.find("next"), std::string::npos) << carry;
}

TEST(Page, WorksFromTheKeyboard) {
  testing::TemporaryFolder folder;
  const std::string page = folder.file("c.html");
  ASSERT_EQ(run_command(tool + " compare " + demo + "ledger.por --side -O1 --side -O2 -o " + page).status, 0);
  auto out = in_browser(folder, page, R"(
    const press = key => document.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
    out.view = state.view; out.rows = document.querySelectorAll("table.lines tr").length;
    press("p"); out.program = state.view; press("2"); out.build = state.build; press("f"); out.next = state.function; press("F"); out.back = state.function;
    press("ArrowDown"); press("ArrowDown"); out.focus = [...document.querySelectorAll("#content tr[tabindex]")].indexOf(document.activeElement);
    press("n"); out.notes = state.notes; press("o"); out.code = state.byCode; press("m"); out.list = document.querySelectorAll("#content .note").length;
    out.all = data.builds[1].notes.length;
    const dark = document.documentElement.classList.contains("dark"); press("d"); out.dark = document.documentElement.classList.contains("dark") !== dark;
    $("find").value = "inline"; $("find").dispatchEvent(new Event("input"));
    const seen = [...document.querySelectorAll("#content .note")].filter(e => !e.hidden);
    out.found = seen.length; out.right = seen.every(e => e.textContent.toLowerCase().includes("inline"));
    $("find").value = ""; $("find").dispatchEvent(new Event("input")); press("v");
    out.pairs = names.map(n => { state.function = names.indexOf(n); const a = functionOf(0, n), b = functionOf(1, n); if (!a || !b) return true;
      const p = align(lines(a), lines(b)); return p.filter(x => x[0]).length === lines(a).length && p.filter(x => x[1]).length === lines(b).length; });
  )");
  ASSERT_FALSE(out.contains("error")) << out["error"];
  EXPECT_EQ(out["view"], "differences");
  EXPECT_GT(out["rows"], 10);
  EXPECT_EQ(out["program"], "program");
  EXPECT_EQ(out["build"], 1);
  EXPECT_EQ(out["next"], 1);
  EXPECT_EQ(out["back"], 0);
  EXPECT_EQ(out["focus"], 1);
  EXPECT_EQ(out["notes"], false);
  EXPECT_EQ(out["code"], true);
  EXPECT_EQ(out["list"], out["all"]);
  EXPECT_EQ(out["dark"], true);
  EXPECT_GT(out["found"], 0);
  EXPECT_LT(out["found"], out["all"]);
  EXPECT_EQ(out["right"], true);
  for (const auto& right : out["pairs"]) EXPECT_EQ(right, true);
}

// 10,000 instructions, and names that look like markup.
TEST(Page, IsDrawnForLargeFunctionsAndOddNames) {
  testing::TemporaryFolder folder;
  std::string text = "module big\n\nfunc \"</script><b>\"(a: i64, b: i64) -> i64 {\nenter:\n";
  std::string last = "a";
  for (int k = 0; k < 10'000; ++k) {
    text += fmt::format("  v{} = {} {}, b\n", k, k % 2 ? "add" : "xor", last);
    last = fmt::format("v{}", k);
  }
  text += "  return " + last + "\n}\n";
  const std::string page = folder.file("big.html");
  auto made = run_command(tool + " lower " + folder.write("big.por", text) + " --pipeline sweep -o " + page +
                          " 2>&1");
  ASSERT_EQ(made.status, 0) << made.out;
  auto out = in_browser(
      folder, page,
      "out.rows = document.querySelectorAll('#content tr[tabindex]').length; out.bold = "
      "document.querySelectorAll('#content h2 b').length; out.name = names[0] === '<' + '/script><b>'");
  ASSERT_FALSE(out.contains("error")) << out["error"];
  EXPECT_GE(out["rows"], 10'001);
  EXPECT_EQ(out["bold"], 0);
  EXPECT_EQ(out["name"], true);
}

}  // namespace
}  // namespace porphyry
