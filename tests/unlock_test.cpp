// Unlocks are true: a decision that a pass says another program would have changed is changed by that
// program, for every unlock that says what to do to it.
#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <random>

#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/notes.h"
#include "porphyry/sample/sample.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

// Where a note points: the instruction that makes its value, or is it, or ends the block of that name.
Instruction place_of(const Module& m, const Function& f, const std::string& value) {
  for (Block b : f.blocks()) {
    for (Instruction i : f.instructions(b)) {
      for (Value v : f.results(i))
        if (value_text(m, f, v) == value) return i;
      if (f.op(i) == Op::Store && value.starts_with("store") && write_text(m, f, i) == value) return i;
    }
    if (block_text(m, f, b) == value) return f.terminator(b);
  }
  return {};
}

struct Place {
  Module& module;
  Symbol symbol;
  Function& function;
  Instruction at;
};

void divide_by(const Place& p, int divisor) {
  const Slot slot = p.function.operand_slot(p.at, 1);
  p.function.set(slot, p.function.constant(p.function.type(p.function.operand(p.at, 1)), divisor));
}
void access_plainly(const Place& p) {
  Function& f = p.function;
  for (Slot s : f.uses(f.result(p.at))) {
    const Instruction user = f.use(s).user;
    if (f.op(user) != Op::Load && f.op(user) != Op::Store) continue;
    Address a = f.address(user);
    a.is_volatile = false;
    f.set_address(user, a);
  }
}
void mark_sole(const Place& p) {
  const auto& types = p.function.signature().parameters;
  FunctionFacts& facts = p.module[p.symbol].facts;
  for (size_t k = 0; k < types.size(); ++k)
    if (types[k].is_pointer()) facts.set_marks(k, facts.marks_of(k) | mark::sole);
}
void forget_weights(const Place& p) {
  p.function.set_hint(p.at, Function::Hint::None);
  for (Edge e : p.function.edges(p.at)) p.function.set_weight(e, Function::no_weight);
}
SymbolRow& called(const Place& p) { return p.module[p.function.symbol(p.at)]; }

// What an unlock begins with, and what it asks for.
const std::vector<std::pair<const char*, std::function<void(const Place&)>>> changes = {
    {"no 'never inline'", [](const Place& p) { called(p).facts.inlining = Inlining::Free; }},
    {"'prefer inline'", [](const Place& p) { called(p).facts.inlining = Inlining::Prefer; }},
    {"a definition that is not weak", [](const Place& p) { called(p).is_weak = false; }},
    {"a caller that is not to be kept small",
     [](const Place& p) { p.module[p.symbol].facts.keep_small = false; }},
    {"a function that is not to be kept small",
     [](const Place& p) { p.module[p.symbol].facts.keep_small = false; }},
    {"a divisor that is shown not to be zero", [](const Place& p) { divide_by(p, 3); }},
    {"operands for which it has a result", [](const Place& p) { divide_by(p, 1); }},
    {"plain accesses", access_plainly},
    {"pointers that are marked 'sole'", mark_sole},
    {"ways taken alike often", forget_weights},
};

// Facts and hints at random, so that there is something to decline for.
void spoil(Module& module, std::mt19937& random) {
  for (Symbol s : module.functions()) {
    SymbolRow& row = module[s];
    if (random() % 4 == 0) row.facts.inlining = Inlining::Never;
    if (random() % 6 == 0 && !row.is_local) row.is_weak = true;
    if (random() % 4 == 0) row.facts.keep_small = true;
    Function& f = module.function(s);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        if (f.op(i) == Op::When && random() % 3 == 0) f.set_hint(i, Function::Hint::Likely);
        if (f.op(i) != Op::Load && f.op(i) != Op::Store) continue;
        Address a = f.address(i);
        a.is_volatile |= random() % 8 == 0;
        f.set_address(i, a);
      }
  }
}

constexpr const char* row_of_trees = R"(module trees

func water(from: ptr, to: ptr, n: i64, shed: i32) -> i32 {
enter:
  unused = div.s 40, shed
  never  = div.u 40:i32, 0
  go tree(0)
tree(k: i64):
  v    = load i32 [from + k*4]
  store v, [to + k*4]
  k2   = add k, 1
  more = lt.u k2, n
  when more go tree(k2) else done
done:
  return never
}
)";

class Unlocks {
 public:
  void try_all(const Module& module) {
    for (const char* pass : {"inline", "divide", "sweep", "fold", "promote", "bulk", "flatten"}) {
      Notes notes;
      auto built = clone(module);
      run_pipeline(*built, *read_pipeline(pass), {.notes = &notes});
      for (const Note& n : notes)
        if (n.kind == Note::Kind::Declined) one(module, pass, n);
    }
  }
  size_t tried(const char* unlock) { return tried_[unlock]; }

 private:
  void one(const Module& module, const char* pass, const Note& n) {
    for (const auto& [unlock, change] : changes) {
      if (!n.unlock.starts_with(unlock)) continue;
      auto changed = clone(module);
      const Symbol s = changed->find(n.function);
      Function& f = changed->function(s);
      const Instruction at = place_of(*changed, f, n.value);
      if (!at.exists()) continue;  // the pass itself has made it
      change({*changed, s, f, at});
      Notes again;
      run_pipeline(*changed, *read_pipeline(pass), {.notes = &again});
      for (const Note& a : again)
        EXPECT_FALSE(a.kind == n.kind && a.function == n.function && a.value == n.value && a.what == n.what &&
                     a.why == n.why)
            << pass << ": " << render({n}) << write_text(module, module.find(n.function));
      ++tried_[unlock];
    }
  }

  std::map<std::string, size_t> tried_;
};

TEST(Unlocks, ChangeTheDecision) {
  Unlocks unlocks;
  for (uint64_t seed = 1; seed <= testing::part_of(64); ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .functions = 5, .statements = 24}).module);
    std::mt19937 random(static_cast<uint32_t>(seed));
    spoil(*module, random);
    unlocks.try_all(*module);
    run_pipeline(*module, *read_pipeline("promote; tidy"));
    unlocks.try_all(*module);
  }
  Realm realm;
  unlocks.try_all(*testing::must_read(realm, row_of_trees));
  for (const char* file : {"frostwatch.por", "ledger.por", "night.por"}) {
    SourceText source(file, testing::contents(PORPHYRY_ROOT "/demo/" + std::string(file)));
    auto module = load_text(realm, source);
    for (const char* before : {"tidy", "trim; tail; fold; sweep; tidy"}) {
      run_pipeline(**module, *read_pipeline(before));
      unlocks.try_all(**module);
      for (Symbol s : (*module)->functions()) (**module)[s].facts.keep_small = true;
      unlocks.try_all(**module);
    }
  }
  for (const auto& [unlock, change] : changes)
    EXPECT_TRUE(unlocks.tried(unlock) > 0 || testing::checked_part > 1) << unlock;
}

}  // namespace
}  // namespace porphyry
