// What moves keeps its meaning: scheduled code against the definition of dependence, jumps against their
// distances, passes against themselves.
#include <gtest/gtest.h>

#include <fmt/format.h>

#include <map>
#include <random>

#include "porphyry/machine/legalize.h"
#include "porphyry/machine/lower.h"
#include "porphyry/machine/schedule.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::target;

// Whether a form asks flags for more than to leave them as they are: shifts by nothing do.
bool asks_flags(const Form& form) {
  for (const MeaningStep& m : form.meaning)
    for (const Term& p : m.arguments)
      if (p.kind == TermKind::Flag && !(m.to.kind == TermKind::Flag && m.to.index == p.index)) return true;
  return false;
}

// What a line does, as far as order matters.
struct Deeds {
  std::vector<Register> reads, writes;
  RegisterSet implicit_reads, implicit_writes;
  bool loads = false, stores = false, stays = false;  // stays: in its order with others that do
};

Deeds deeds_of(const Code& code, const CodeLine& line, const Function& f) {
  Deeds out;
  each_register(code, line, [&](Register r, bool read, bool written) {
    if (read) out.reads.push_back(r);
    if (written) out.writes.push_back(r);
  });
  out.implicit_reads = implicit_reads(target(), code, line);
  out.implicit_writes = implicit_writes(target(), code, line);
  for (const CodeOperand& o : code.of(line))
    if (o.kind == OperandKind::Memory) out.loads |= o.read, out.stores |= o.written;
  if (!line.origin.exists()) return out;
  Op op = f.op(line.origin);
  bool is_volatile =
      (op == Op::Load || op == Op::Store) && f.address(line.origin).is_volatile && (out.loads || out.stores);
  out.stays =
      is_volatile ||
      (info(op).may_trap() && line.form >= first_real_form && target().form(line.form).meaning.size() &&
       std::any_of(target().form(line.form).meaning.begin(), target().form(line.form).meaning.end(),
                   [](const MeaningStep& m) { return m.kind == MeaningKind::Trap; }));
  return out;
}

// Whether two lines have to keep their order.
bool depend(const Deeds& a, const Deeds& b) {
  auto meet = [](const std::vector<Register>& x, const std::vector<Register>& y) {
    return std::any_of(x.begin(), x.end(),
                       [&](Register r) { return std::find(y.begin(), y.end(), r) != y.end(); });
  };
  auto bits = [](const std::vector<Register>& list) {
    RegisterSet out;
    for (Register r : list)
      if (is_physical(r)) out.add(r);
    return out;
  };
  if (meet(a.writes, b.reads) || meet(a.reads, b.writes) || meet(a.writes, b.writes)) return true;
  RegisterSet aw = a.implicit_writes | bits(a.writes), ar = a.implicit_reads | bits(a.reads),
              bw = b.implicit_writes | bits(b.writes), br = b.implicit_reads | bits(b.reads);
  if (aw.meets(br | bw) || ar.meets(bw)) return true;
  if ((a.stores && (b.loads || b.stores)) || (a.loads && b.stores)) return true;
  return a.stays && b.stays;
}

TEST(Schedule, KeepsWhatDependsInOrder) {
  size_t moved = 0, pairs = 0;
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Realm realm;
    Sample program =
        make_sample(realm, {.seed = seed, .layout = MemoryLayout{}, .lanes = seed % 3 ? 0u : 50u});
    Module& module = *program.module;
    legalize(module, target(), Coverage(target(), target().usual_features));
    RuleIndex rules(target(), target().usual_features);
    for (Symbol s : module.functions()) {
      auto selected = select(module, s, rules);
      ASSERT_TRUE(selected.good()) << render(selected.why());
      const Function& f = module.function(s);
      const Code before = selected->code;
      Code after = selected->code;
      Scratch work;
      schedule(after, f, testing::in_order(), &work);
      ASSERT_EQ(after.code.size(), before.code.size());
      for (const CodeBlock& b : before.blocks) {
        // A line is known by its first operand, or else by where it stands.
        std::map<uint32_t, uint32_t> place;
        for (uint32_t k = b.first; k < b.first + b.count; ++k)
          if (after.code[k].operand_count) place[after.code[k].first_operand] = k;
        std::vector<Deeds> deeds;
        std::vector<uint32_t> now;
        for (uint32_t k = b.first; k < b.first + b.count; ++k) {
          const CodeLine& line = before.code[k];
          if (!line.operand_count) continue;
          ASSERT_TRUE(place.contains(line.first_operand)) << "line " << k << " is gone";
          now.push_back(place[line.first_operand]);
          ASSERT_EQ(after.code[now.back()].form, line.form);
          deeds.push_back(deeds_of(before, line, f));
          moved += now.back() != k;
          if (line.call != none) {
            EXPECT_EQ(now.back(), k);  // calls stay
          }
        }
        for (size_t j = 0; j < deeds.size(); ++j)
          for (size_t i = 0; i < j; ++i) {
            if (!depend(deeds[i], deeds[j])) continue;
            ++pairs;
            ASSERT_LT(now[i], now[j]) << seed << ": lines " << i << " and " << j << " of a block";
          }
        // Whoever reads flags finds those of the line it found them from before.
        auto setter = [&](const Code& code, uint32_t reader) {
          for (uint32_t k = reader; k-- > b.first;)
            if (writes_flags(target(), code, code.code[k])) return code.code[k].first_operand;
          return ~0u;
        };
        for (uint32_t k = b.first; k < b.first + b.count; ++k)
          if (before.code[k].operand_count && asks_flags(target().form(before.code[k].form))) {
            EXPECT_EQ(setter(after, place[before.code[k].first_operand]), setter(before, k)) << seed;
          }
      }
    }
  }
  EXPECT_GT(moved, 1000u);
  EXPECT_GT(pairs, 20000u);
}

// All orders of a block's lines that keep what depends in order: the fewest cycles that one of them takes.
class BestOrder {
 public:
  BestOrder(const Code& code, const Function& f, const Target& target) : code_(code), target_(target) {
    const CodeBlock& b = code.blocks[0];
    for (uint32_t k = b.first; k + 1 < b.first + b.count; ++k) lines_.push_back(code.code[k]);
    for (const CodeLine& i : lines_) deeds_.push_back(deeds_of(code, i, f));
  }
  uint32_t run() {
    go(0);
    return best_;
  }
  size_t size() const { return lines_.size(); }

 private:
  void go(size_t placed) {
    if (placed == lines_.size()) {
      best_ = std::min(best_, estimated_cycles(code_, code_.blocks[0], target_));
      return;
    }
    for (size_t k = 0; k < lines_.size(); ++k) {
      bool ready = !(done_ >> k & 1);
      for (size_t j = 0; j < k && ready; ++j) ready = (done_ >> j & 1) || !depend(deeds_[j], deeds_[k]);
      if (!ready) continue;
      done_ |= 1u << k;
      code_.code[code_.blocks[0].first + placed] = lines_[k];
      go(placed + 1);
      done_ &= ~(1u << k);
    }
  }
  Code code_;
  const Target& target_;
  std::vector<CodeLine> lines_;
  std::vector<Deeds> deeds_;
  uint32_t done_ = 0, best_ = ~0u;
};

// Beside the best of all orders, on processors that begin one or two instructions a cycle in order, with and
// without units that they share; and on this one, which finds another order by itself.
TEST(Schedule, TakesLittleLongerThanTheBestOrder) {
  Target one = testing::in_order(), two = target(), shared = target();
  two.pace = {.issue = 2};
  shared.pace.issue = 2, shared.pace.window = 1;
  for (const Target* t : std::initializer_list<const Target*>{&one, &two, &shared, &target()}) {
    uint64_t plain = 0, ours = 0, best = 0;
    std::mt19937_64 random(5);
    for (size_t round = 0; round < testing::part_of(150); ++round) {
      std::string text = "module m\nfunc f(p: ptr, a: f64, b: f64) -> f64 {\nenter:\n";
      std::vector<std::string> values{"a", "b"};
      auto any = [&] { return values[random() % values.size()]; };
      for (int k = 0; k < 7; ++k) {
        static constexpr const char* operations[] = {"add", "mul", "sub", "div"};
        const std::string v = fmt::format("v{}", k);
        text += random() % 4 ? fmt::format("  {} = {} {}, {}\n", v, operations[random() % 4], any(), any())
                             : fmt::format("  {} = load f64 [p + {}]\n", v, 8 * k);
        values.push_back(v);
      }
      Realm realm;
      auto module = testing::must_read(realm, text + "  r = add v6, v5\n  return r\n}\n");
      legalize(*module, target(), Coverage(target(), target().usual_features));
      const Function& f = module->function(Symbol(0));
      const Code before = select(*module, Symbol(0), RuleIndex(target(), target().usual_features))->code;
      Code after = before;
      Scratch work;
      schedule(after, f, *t, &work);
      BestOrder all(before, f, *t);
      if (all.size() > 12) continue;
      const uint32_t was = estimated_cycles(before, before.blocks[0], *t),
                     is = estimated_cycles(after, after.blocks[0], *t), least = all.run();
      ASSERT_LE(is, was) << text;
      ASSERT_GE(is, least) << text;
      plain += was, ours += is, best += least;
    }
    std::printf("cycles: %zu in the order they came, %zu scheduled, %zu at best\n", size_t(plain),
                size_t(ours), size_t(best));
    EXPECT_LE(ours * 100, best * 104);
    if (t != &target()) {
      EXPECT_GT(plain, ours);
    }
  }
}

// A jump is long only where it has to be.
TEST(Emit, JumpsAreAsShortAsTheirDistances) {
  size_t brief = 0, far = 0;
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .statements = 30, .layout = MemoryLayout{}});
    auto lowered = lower(*program.module, target());
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    for (const CompiledFunction& f : lowered->functions)
      for (const EmittedLine& l : f.lines) {
        if (l.to != EmittedLine::To::Block) continue;
        PlainInstruction i = instruction_at(target(), f, l);
        const Form& form = target().form(i.form);
        int64_t distance = i.operands[0].literal;
        EXPECT_EQ(l.offset + l.size + distance, f.blocks[l.index].offset);
        bool is_long = form.operands[0].literal_bits > 8;
        EXPECT_EQ(is_long, distance < -128 || distance > 127) << f.name << " + " << l.offset;
        ++(is_long ? far : brief);
      }
  }
  EXPECT_GT(brief, 500u);
  EXPECT_GT(far, 20u);
}

// A pass leaves nothing for itself to do, and says so.
TEST(Passes, AreDoneWhenTheyAreDone) {
  for (const char* text :
       {"promote", "sweep", "until stable { fold }", "promote; until stable { fold; sweep }"}) {
    auto pipeline = read_pipeline(text);
    ASSERT_TRUE(pipeline.good()) << text << render(pipeline.why());
    size_t changed = 0;
    for (uint64_t seed = 1; seed <= 60; ++seed) {
      Realm realm;
      Sample program = make_sample(realm, {.seed = seed});
      std::vector<StepRecord> first, second;
      ASSERT_EQ(render(run_pipeline(*program.module, *pipeline, {.steps = &first, .check_between = true})),
                "");
      std::string once = write_text(*program.module);
      ASSERT_TRUE(
          run_pipeline(*program.module, *pipeline, {.steps = &second, .check_between = true}).empty());
      EXPECT_EQ(write_text(*program.module), once) << text << " of " << seed;
      for (const StepRecord& s : first) changed += s.changed;
      for (const StepRecord& s : second) {
        EXPECT_FALSE(s.changed) << text << ": " << s.pass << " in " << s.function << " of " << seed;
        EXPECT_EQ(s.instructions_before, s.instructions_after);
      }
    }
    EXPECT_GT(changed, 20u) << text;
  }
}

}  // namespace
}  // namespace porphyry
