// Reasons are true: what is left over is there and goes when its unlock is applied, calls that notes say were
// inlined are gone, rules that notes say match do.
#include <gtest/gtest.h>

#include "porphyry/ask/code.h"
#include "porphyry/ask/why.h"
#include "porphyry/ir/clone.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/select.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/notes.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/json.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

std::unique_ptr<Module> demo(Realm& realm, const std::string& file) {
  SourceText source(file, testing::contents(PORPHYRY_ROOT "/demo/" + file));
  auto module = load_text(realm, source);
  EXPECT_TRUE(module.good());
  return std::move(*module);
}

constexpr const char* everything_left = R"(module left

func helper(a: i32) -> i32 {
enter:
  r = mul a, 3
  return r
}

func all(at: ptr, n: i32, d: i32) -> i32 {
enter:
  box = reserve 16 align 8
  store n, [box + 4]
  some = gt.s n, 0
  when some go round(0, 5, 0) else done(0)
round(k: i32, other: i32, sum: i32):
  c     = call helper(k)
  same  = mul n, 7
  q     = div.s c, d
  wrong = lt.s q, -4000
  when wrong go stop else more
more:
  s1    = add sum, q
  s2    = add s1, same
  s3    = add s2, other
  k2    = add k, 1
  o2    = add other, 1
  on    = lt.s k2, n
  when on go round(k2, o2, s3) else done(s3)
stop:
  trap
done(r: i32):
  when true go last else stop
last:
  return r
}
)";

TEST(Leftovers, OfEachKindAreFound) {
  Realm realm;
  auto module = testing::must_read(realm, everything_left);
  Notes left = leftovers(*module);
  std::map<std::string, std::string> found;  // what, by value
  for (const Note& n : left) {
    EXPECT_EQ(n.kind, Note::Kind::Left);
    EXPECT_EQ(n.function, "all");
    EXPECT_FALSE(n.what.empty() || n.why.empty() || n.unlock.empty());
    found[n.value] = n.what;
  }
  const std::map<std::string, std::string> meant = {
      {"box", "a store that nothing reads"},         {"c", "a call of 'helper', whose body is known"},
      {"same", "the same in every round of a loop"}, {"q", "a division in a loop"},
      {"wrong", "a check in front of a trap"},       {"other", "a counter that moves on as k does"},
      {"true", "a branch on a known constant"}};
  EXPECT_EQ(found, meant);
  // With their passes run, only what needs more than a pass stays.
  Notes notes;
  const Pipeline pipeline = level_named("-O2")->pipeline();
  run_pipeline(*module, pipeline, {.notes = &notes});
  for (const Note& n : leftovers(*module, notes, pipeline.names()))
    EXPECT_TRUE(n.what == "a division in a loop" || n.what == "a check in front of a trap")
        << n.value << ": " << n.what;
}

// The pass that a note names, where it names one at its beginning.
std::string pass_in(const std::string& unlock) {
  if (!unlock.starts_with("'")) return "";
  return unlock.substr(1, unlock.find('\'', 1) - 1);
}

Instruction maker(const Module& m, const Function& f, const std::string& value) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      for (Value v : f.results(i))
        if (value_text(m, f, v) == value) return i;
  return {};
}

bool has_note(const Notes& notes, const Note& like) {
  return std::any_of(notes.begin(), notes.end(), [&](const Note& n) {
    return n.what == like.what && n.function == like.function && n.value == like.value;
  });
}

// Every leftover whose unlock can be applied: then it is gone, or the pass says why it is not.
TEST(Leftovers, GoWhenTheirUnlockIsApplied) {
  size_t by_pass = 0, by_divisor = 0, by_fact = 0;
  auto try_all = [&](const Module& module, const char* passes) {
    Notes notes;
    auto built = clone(module);
    Pipeline pipeline = *read_pipeline(passes);
    run_pipeline(*built, pipeline, {.notes = &notes});
    for (const Note& n : leftovers(*built, notes, pipeline.names())) {
      auto changed = clone(*built);
      Function& f = changed->function(changed->find(n.function));
      Notes after;
      if (std::string pass = pass_in(n.unlock); standard_passes().find(pass)) {
        run_pipeline(*changed, *read_pipeline(pass + "; sweep"), {.notes = &after});
        ++by_pass;
      } else if (n.unlock == "a divisor that is a constant") {
        Instruction i = maker(*changed, f, n.value);
        if (!i.exists() || f.type(f.operand(i, 1)).has_lanes() || f.type(f.operand(i, 1)).bits() > 64)
          continue;
        f.set(f.operand_slot(i, 1), f.constant(f.type(f.operand(i, 1)), 3));
        run_pipeline(*changed, *read_pipeline("divide; sweep"), {.notes = &after});
        ++by_divisor;
      } else if (n.unlock.starts_with("a fact by which ")) {
        Instruction i = maker(*changed, f, n.value);
        if (!i.exists()) continue;
        f.replace_uses(f.result(i), f.constant(Type::boolean(), n.unlock.ends_with("true")));
        run_pipeline(*changed, *read_pipeline("fold; sweep"), {.notes = &after});
        ++by_fact;
      } else {
        continue;
      }
      const bool declined = std::any_of(after.begin(), after.end(), [&](const Note& d) {
        return d.kind == Note::Kind::Declined && d.function == n.function && d.value == n.value;
      });
      EXPECT_TRUE(declined || !has_note(leftovers(*changed, after), n))
          << passes << ": " << render({n}) << write_text(*changed, changed->find(n.function));
    }
  };
  for (const char* passes : {"promote; fold; sweep", "tidy", "trim; tail; inline; fold; sweep; tidy"}) {
    for (const char* file : {"frostwatch.por", "ledger.por", "night.por"}) {
      Realm realm;
      try_all(*demo(realm, file), passes);
    }
    for (uint64_t seed = 1; seed <= testing::part_of(32); ++seed) {
      Realm realm;
      try_all(*make_sample(realm, {.seed = seed}).module, passes);
    }
    Realm realm;
    try_all(*testing::must_read(realm, everything_left), passes);
  }
  EXPECT_GT(by_pass, testing::part_of(60));
  EXPECT_GT(by_divisor, testing::part_of(3));
  EXPECT_GT(by_fact, testing::part_of(3));
}

// A call that a note says was inlined is gone, one that was declined is there; hints change the decision as
// it says.
TEST(Why, InlinedCallsAreGoneAndDeclinedOnesAreThere) {
  size_t gone = 0, there = 0, hinted = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(64); ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .functions = 5, .statements = 24}).module);
    Notes notes;
    auto built = clone(*module);
    run_pipeline(*built, *read_pipeline("inline"), {.notes = &notes});
    for (const Note& n : notes) {
      if (n.kind == Note::Kind::Declined && n.value.empty()) continue;
      const Function& f = built->function(built->find(n.function));
      Instruction i = maker(*built, f, n.value);
      const bool calls = i.exists() && info(f.op(i)).layout == Layout::Call;
      EXPECT_FALSE(calls && n.kind == Note::Kind::Done && n.what.starts_with("the call of")) << render({n});
      gone += n.kind == Note::Kind::Done;
      if (n.kind != Note::Kind::Declined ||
          !maker(*module, module->function(module->find(n.function)), n.value).exists())
        continue;
      EXPECT_TRUE(calls) << render({n});
      ++there;
      if (n.unlock.find("'prefer inline'") == std::string::npos) continue;
      auto preferred = clone(*module);
      const Function& before = preferred->function(preferred->find(n.function));
      Symbol callee = before.symbol(maker(*preferred, before, n.value));
      (*preferred)[callee].facts.inlining = Inlining::Prefer;
      Notes again;
      run_pipeline(*preferred, *read_pipeline("inline"), {.notes = &again});
      const Function& after = preferred->function(preferred->find(n.function));
      Instruction now = maker(*preferred, after, n.value);
      EXPECT_FALSE(now.exists() && info(after.op(now)).layout == Layout::Call)
          << render({n}) << render(again);
      ++hinted;
    }
  }
  EXPECT_GT(gone, testing::part_of(50));
  EXPECT_GT(there, testing::part_of(20));
  EXPECT_GE(hinted, testing::part_of(3));
}

// The rule that won is the one that selection used, it is the cheapest, and what is said of those that do not
// match holds.
TEST(WhyCode, TheRuleThatWonIsTheOneThatWasUsed) {
  const machine::Target& target = *native_target();
  const machine::RuleIndex rules(target, target.usual_features);
  size_t won = 0, inside = 0, claims = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(16); ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .layout = MemoryLayout{}, .lanes = 20}).module);
    machine::legalize(*module, target, machine::Coverage(target, target.usual_features), {});
    for (Symbol s : module->functions()) {
      auto selected = machine::select(*module, s, rules);
      ASSERT_TRUE(selected.good());
      const Function& f = module->function(s);
      size_t looked_at = 0;
      for (Block b : f.blocks())
        for (Instruction i : f.instructions(b)) {
          if (info(f.op(i)).marks() || info(f.op(i)).calls() || f.op(i) == Op::Go || f.op(i) == Op::Return)
            continue;
          if (++looked_at > 40) continue;
          auto reasons = machine::explain_selection(*module, s, i, rules);
          const uint16_t used = selected->rules[i.index];
          ASSERT_EQ(reasons.written, used != 0);
          inside += reasons.inside.exists();
          for (const auto& r : reasons.rules) {
            EXPECT_EQ(r.matched, r.missed.empty()) << r.name;
            EXPECT_TRUE(!r.matched || r.cost >= reasons.rules[0].cost) << r.name;
            if (!r.won) continue;
            ++won;
            EXPECT_TRUE(!used || r.name == target.rules[used - 1u].name) << r.name;
          }
          // Of claims about a value that is named, those that a reader would check first.
          auto claim = [&](bool said, bool holds) {
            EXPECT_TRUE(!said || holds);
            claims += said;
          };
          for (const auto& r : reasons.rules)
            for (Value v : f.operands(i)) {
              const std::string name = value_text(*module, f, v);
              claim(r.missed == name + " has other uses", !f.has_one_use(v));
              claim(r.missed == name + " is no constant", !f.is_constant(v));
              claim(r.missed == name + " is made in another block", f.defining_block(v) != b);
            }
        }
    }
  }
  EXPECT_GT(won, testing::part_of(500));
  EXPECT_GT(inside, testing::part_of(50));
  EXPECT_GT(claims, testing::part_of(200));
}

TEST(Why, QuestionsPickNotesAndLinesHoldThem) {
  Realm realm;
  auto module = demo(realm, "frostwatch.por"), before = clone(*module);
  Notes notes;
  run_pipeline(*module, level_named("-O2")->pipeline(), {.notes = &notes});
  Notes picked = about(notes, {.function = "alarm", .pass = "promote"});
  EXPECT_EQ(picked.size(), 4u);
  EXPECT_EQ(about(notes, {.line = "frost.fml:42"}).size(), about(notes, {.line = "42"}).size());
  EXPECT_FALSE(about(notes, {.line = "42"}).empty());
  for (const Note& n : about(notes, {.text = "trap"})) EXPECT_NE(render({n}).find("trap"), std::string::npos);
  for (const Note& n : about(notes, {.kind = Note::Kind::Declined})) EXPECT_EQ(n.kind, Note::Kind::Declined);
  // Each note stands once, below a line of its function.
  Annotated text = annotate_text("frostwatch.por", *before, notes);
  std::vector<size_t> seen(notes.size());
  std::string function;
  for (const auto& line : text.lines) {
    if (line.text.starts_with("func ")) function = line.text.substr(5, line.text.find('(') - 5);
    for (size_t k : line.notes) {
      ++seen[k];
      EXPECT_EQ(notes[k].function, function);
    }
  }
  for (size_t k : text.elsewhere) ++seen[k];
  EXPECT_TRUE(std::all_of(seen.begin(), seen.end(), [](size_t n) { return n == 1; }));
  Annotated source = annotate_source("frost.fml", std::string(60, '\n'), notes);
  for (const auto& line : source.lines)
    for (size_t k : line.notes) {
      const std::string place = fmt::format("frost.fml:{}:", line.number);
      EXPECT_TRUE(notes[k].position.starts_with(place)) << notes[k].position;
    }
}

TEST(Why, SarifHasWhatTheStandardAsksFor) {
  const std::string tool = PORPHYRY_TOOL, file = PORPHYRY_ROOT "/demo/frostwatch.por";
  auto all = testing::read_json(testing::run_command(tool + " why --sarif -O2 " + file).out);
  EXPECT_EQ(all["version"], "2.1.0");
  const auto& run = all["runs"][0];
  EXPECT_EQ(run["tool"]["driver"]["name"], "porphyry");
  const auto& rules = run["tool"]["driver"]["rules"];
  ASSERT_GT(run["results"].size(), 20u);
  for (const auto& r : run["results"]) {
    EXPECT_EQ(rules[r["ruleIndex"].get<size_t>()]["id"], r["ruleId"]);
    EXPECT_FALSE(r["message"]["text"].get<std::string>().empty());
    EXPECT_TRUE(r["level"] == "none" || r["level"] == "warning");
    EXPECT_EQ(r["level"] == "none", r["kind"] != "fail");  // section 3.27.10
    const auto& place = r["locations"][0]["physicalLocation"];
    EXPECT_FALSE(place["artifactLocation"]["uri"].get<std::string>().empty());
    EXPECT_TRUE(!place.contains("region") || place["region"]["startLine"].get<int>() >= 1);
  }
}

TEST(Why, TheToolAnswersAndRefuses) {
  const std::string tool = PORPHYRY_TOOL, file = PORPHYRY_ROOT "/demo/frostwatch.por";
  auto ran = [&](const std::string& words) {
    return testing::run_command(tool + " why " + file + " " + words + " 2>&1");
  };
  EXPECT_NE(ran("-O2 --function chill --code next").out.find("chosen  float add"), std::string::npos);
  const std::string listing =
      testing::run_command(tool + " lower -O2 " + file + " --function chill --no-colour").out;
  const size_t line = listing.rfind('\n', listing.find("next = add total, gap"));
  const std::string offset = listing.substr(listing.find_first_of("0123456789abcdef", line), 4);
  EXPECT_NE(ran("-O2 --function chill --code 0x" + offset).out.find("next = add total, gap"),
            std::string::npos);
  EXPECT_NE(ran("-O2 --kind left").out.find("checks left in route, lost: a check in front of a trap"),
            std::string::npos);
  EXPECT_NE(ran("--beside --function seal").out.find("func seal"), std::string::npos);
  EXPECT_EQ(ran("--kind lost").status, 2);
  EXPECT_EQ(ran("--pass inlines").status, 2);
  EXPECT_EQ(ran("--code next").status, 2);
  EXPECT_EQ(ran("--function chill --code nextt").status, 2);
  EXPECT_EQ(ran("--function chill --code 0x99999").status, 2);
  EXPECT_EQ(ran("--sarif --json").status, 2);
}

}  // namespace
}  // namespace porphyry
