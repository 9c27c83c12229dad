// Live ranges against a data-flow analysis by the textbook; the same code whatever else goes on; threads.
#include <gtest/gtest.h>

#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/apart.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/live_ranges.h"
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

Code selected_code(uint64_t seed) {
  Realm realm;
  Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
  auto module = clone(*program.module);
  legalize(*module, target(), Coverage(target(), target().usual_features));
  return select(*module, program.main, RuleIndex(target(), target().usual_features))->code;
}

// What is live before each instruction, by iterating over all blocks until nothing changes.
std::vector<std::vector<bool>> live_before(const Code& f) {
  size_t n = f.virtuals.size();
  std::vector<std::vector<bool>> before(f.code.size() + 1, std::vector<bool>(n)),
      in(f.blocks.size(), std::vector<bool>(n));
  for (bool changed = true; changed;) {
    changed = false;
    for (size_t b = f.blocks.size(); b-- > 0;) {
      std::vector<bool> live(n);
      for (uint32_t s : f.successors(f.blocks[b]))
        for (size_t v = 0; v < n; ++v)
          if (in[s][v]) live[v] = true;
      for (uint32_t k = f.blocks[b].first + f.blocks[b].count; k-- > f.blocks[b].first;) {
        each_register(f, f.code[k], [&](Register r, bool, bool written) {
          if (written && is_virtual(r)) live[r - first_virtual] = false;
        });
        each_register(f, f.code[k], [&](Register r, bool read, bool) {
          if (read && is_virtual(r)) live[r - first_virtual] = true;
        });
        before[k] = live;
      }
      if (live != in[b]) in[b] = live, changed = true;
    }
  }
  return before;
}

TEST(Ranges, AreWhatDataFlowSays) {
  size_t checked = 0;
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Code f = selected_code(seed);
    Scratch work;
    LiveRanges ranges = live_ranges(f, target(), &work);
    auto before = live_before(f);
    for (size_t v = 0; v < f.virtuals.size(); ++v) {
      const Segments& s = ranges.virtuals[v];
      for (size_t k = 1; k < s.size(); ++k) ASSERT_LT(s[k - 1].to, s[k].from);
      size_t at = 0;
      for (uint32_t k = 0; k < f.code.size(); ++k) {
        // Live before instruction k: its reading position 2k is covered.
        while (at < s.size() && s[at].to <= 2 * k) ++at;
        bool covered = at < s.size() && s[at].from <= 2 * k;
        ASSERT_EQ(covered, bool(before[k][v])) << "seed " << seed << ", v" << v << " before " << k;
        ++checked;
      }
    }
  }
  EXPECT_GT(checked, 100000u);
}

// Lines with new registers are put in at random, and some registers taken out of the code in favour of new
// ones: what is carried over is what is found anew.
TEST(Ranges, AreCarriedOverAsTheyWouldBeFound) {
  std::mt19937_64 random(7);
  size_t moved = 0, fresh = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(120); ++seed) {
    Code f = selected_code(seed);
    Scratch work, more;
    const LiveRanges was = live_ranges(f, target(), &work);
    const auto count = static_cast<uint32_t>(f.virtuals.size());
    std::vector<uint8_t> gone(count);
    std::vector<Register> now(count);
    auto make = [&](uint32_t like) {
      f.virtuals.push_back(VirtualRegister(f.virtuals[like]));
      return static_cast<Register>(first_virtual + f.virtuals.size() - 1);
    };
    for (uint32_t v = 0; v < count; ++v)
      if (gone[v] = random() % 8 == 0; gone[v]) now[v] = make(v);
    LineMoves moves(&work);
    const std::vector<CodeLine> old(f.code.begin(), f.code.end());
    f.code.clear();
    auto append = [&](const CodeLine& i, bool is_fresh) {
      if (is_fresh) moves.fresh.push_back(static_cast<uint32_t>(f.code.size()));
      f.code.push_back(i);
    };
    auto reload_and_spill = [&] {
      const Register r = make(0);
      for (bool reads : {false, true}) {
        CodeLine i{.form = reads ? spill_form : reload_form, .operand_count = 2};
        i.first_operand = static_cast<uint32_t>(f.operands.size());
        f.operands.push_back({OperandKind::Register, reads, !reads, Part::Whole, r, 0});
        f.operands.push_back({OperandKind::Literal, false, false, Part::Whole, no_register, 0});
        append(i, true);
      }
    };
    auto renamed = [&](Register& r) {
      const bool is = is_virtual(r) && r - first_virtual < count && gone[r - first_virtual];
      if (is) r = now[r - first_virtual];
      return is;
    };
    moves.to.resize(old.size());
    moves.begins.resize(old.size(), none);
    moves.ends.resize(old.size(), none);
    for (CodeBlock& b : f.blocks) {
      const uint32_t first = b.first, end = b.first + b.count;
      b.first = moves.begins[first] = static_cast<uint32_t>(f.code.size());
      for (uint32_t k = first; k < end; ++k) {
        while (random() % 4 == 0) reload_and_spill();
        bool names = false;
        for (size_t n = 0; n < old[k].operand_count; ++n) {
          CodeOperand& o = f.operands[old[k].first_operand + n];
          if (o.kind == OperandKind::Register) names |= renamed(o.reg);
          if (o.kind != OperandKind::Memory && o.kind != OperandKind::Address) continue;
          CodeAddress& a = f.addresses[static_cast<size_t>(o.value)];
          names |= renamed(a.base) | renamed(a.index);
        }
        moves.to[k] = static_cast<uint32_t>(f.code.size());
        append(old[k], names);
      }
      b.count = static_cast<uint32_t>(f.code.size()) - b.first;
      moves.ends[end - 1] = b.first + b.count;
    }
    const LiveRanges carried = carried_over(was, gone, moves, f, target(), &more),
                     found = live_ranges(f, target(), &work);
    auto same = [](const Segments& a, const Segments& b) {
      return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                        [](const Segment& x, const Segment& y) { return x.from == y.from && x.to == y.to; });
    };
    for (uint32_t v = 0; v < f.virtuals.size(); ++v) {
      ASSERT_TRUE(same(carried.virtuals[v], found.virtuals[v])) << "seed " << seed << ", v" << v;
      (v < count ? moved : fresh) += !found.virtuals[v].empty();
    }
    for (unsigned r = 0; r < target().register_count(); ++r)
      ASSERT_TRUE(same(carried.blocked[r], found.blocked[r])) << "seed " << seed << ", " << r;
  }
  EXPECT_GT(moved, 1000u / testing::checked_part);
  EXPECT_GT(fresh, 1000u / testing::checked_part);
}

TEST(Ranges, MeetAndMergeAreWhatPositionsSay) {
  std::mt19937_64 random(2);
  Scratch work;
  auto some = [&] {
    std::vector<Segment> s;
    uint32_t at = 0;
    for (size_t n = random() % 6; n > 0; --n) {
      uint32_t from = at + 1 + static_cast<uint32_t>(random() % 6),
               to = from + 1 + static_cast<uint32_t>(random() % 6);
      s.push_back({from, to});
      at = to;
    }
    return s;
  };
  auto placed = [&](const std::vector<Segment>& list) {
    Segments s;
    for (Segment one : list) s.append(one, &work);
    return s;
  };
  auto holds = [](const auto& s, uint32_t p) {
    return std::any_of(s.begin(), s.end(), [&](const Segment& x) { return x.from <= p && p < x.to; });
  };
  for (int k = 0; k < 20000; ++k) {
    work.reset();
    std::vector<Segment> a = some(), b = some();
    ASSERT_EQ(meet(placed(a), placed(b)), meet(placed(b), placed(a)));
    Segments both = merged(placed(a), placed(b), &work);
    bool common = false;
    for (uint32_t p = 0; p < 90; ++p) {
      common |= holds(a, p) && holds(b, p);
      ASSERT_EQ(holds(both, p), holds(a, p) || holds(b, p));
    }
    ASSERT_EQ(meet(placed(a), placed(b)), common);
  }
}

// Spilled everywhere: more values at once than there are registers of both kinds, over a call, in a loop.
TEST(Pressure, ManyValuesAtOnceComeThroughCallsAndLoops) {
  for (int values : {5, 14, 40, 120}) {
    std::string text =
        "module m\nfunc id(a: i64) -> i64 {\nenter:\n  return a\n}\nfunc f(n: i64) -> i64, f64 {\nenter:\n  "
        "go loop(0";
    std::string parameters = "i: i64", adds, nexts = "i2";
    for (int k = 0; k < values; ++k) {
      text += ", " + std::to_string(k) + ", " + std::to_string(k) + ".5";
      parameters += ", a" + std::to_string(k) + ": i64, x" + std::to_string(k) + ": f64";
      adds += "  b" + std::to_string(k) + " = add a" + std::to_string(k) + ", c\n  y" + std::to_string(k) +
              " = add x" + std::to_string(k) + ", 0.25\n";
      int turned = (k + 1) % values;  // the values change places as well
      nexts += ", b" + std::to_string(turned) + ", y" + std::to_string(turned);
    }
    text += ")\nloop(" + parameters + "):\n  c = call id(i)\n" + adds +
            "  i2 = add i, 1\n  more = lt.s i2, n\n  when more go loop(" + nexts + ") else out\nout:\n";
    for (int k = 1; k < values; ++k) {
      std::string a = k == 1 ? "b0" : "s" + std::to_string(k - 1),
                  x = k == 1 ? "y0" : "t" + std::to_string(k - 1), n = std::to_string(k);
      text += "  s" + n + " = add " + a + ", b" + n + "\n  m" + n + " = mul y" + n + ", " + n + ".0\n  t" +
              n + " = add " + x + ", m" + n + "\n";
    }
    text += "  return s" + std::to_string(values - 1) + ", t" + std::to_string(values - 1) + "\n}\n";
    Realm realm;
    auto module = testing::must_read(realm, text);
    Evaluator e(*module);
    Datum n{9, 0};
    Outcome meant = e.call(module->find("f"), {&n, 1});
    auto jit = Jit::compile(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    auto is = (*Caller::make(**jit, "f", target()))->call(std::vector<uint64_t>{9});
    EXPECT_EQ(is[0], meant.results[0].bits) << values;
    EXPECT_EQ(is[1], meant.results[1].bits) << values;
  }
}

}  // namespace
}  // namespace porphyry
