// Checks of bounds: what one implies of another, and that programs mean the same once checks are
// strengthened, and go where others above, in callers and in called functions have made them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/analyze/bounds.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pipeline.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

// Every pair of bounds of a root of three bits, held against what they say of every number and limit: one
// that is implied holds wherever the other does, and nothing is missed but what holds only as sums wrap.
TEST(Bounds, ImplyWhatTheySay) {
  Function f({{Type::integer(3)}, {}, false});
  f.add_block();
  auto holds = [&](const Bound& b, Bits number, Bits limit) {
    return ((number + b.offset) & 7) + b.bytes <= limit;
  };
  size_t implied = 0, missed = 0;
  for (unsigned n = 0; n < 8 * 8 * 12 * 12; ++n) {
    const Bound known{.root = f.parameters()[0], .offset = n % 8, .bytes = n / 64 % 12};
    const Bound asked{.root = f.parameters()[0], .offset = n / 8 % 8, .bytes = n / 64 / 12};
    bool follows = true;
    for (Bits limit = 0; limit < 20; ++limit)
      for (Bits number = 0; number < 8; ++number)
        follows &= !holds(known, number, limit) || holds(asked, number, limit);
    const bool told = implies(f, known, asked);
    ASSERT_TRUE(follows || !told) << n;
    implied += told, missed += follows && !told;
  }
  EXPECT_GT(implied, 2000u);
  EXPECT_EQ(missed, 0u);
}

// Functions that reach into a memory by way of checks, with branches, loops, calls of each other and of
// themselves, and two sizes that grow between; sometimes an old one
// is checked against.
class CheckedProgram {
 public:
  explicit CheckedProgram(uint64_t seed) : random_(seed) {}

  std::string text() {
    std::string out = R"(module m
kinds memory {
  bytes grows from 16 to 256
}

local func more(r: ptr) {
a:
  size   = load i64 [r + 8] as memory.bytes
  bigger = add size, 16
  fits   = le.u bigger, 256
  now    = pick fits, bigger, size
  store now, [r + 8] as memory.bytes guarded
  return
}
)";
    for (size_t k = 0; k < functions; ++k) out += function(k);
    return out;
  }

  static constexpr size_t functions = 4;

 private:
  struct Scope {
    std::vector<std::string> numbers;
    std::vector<std::string> sizes;
  };
  uint64_t below(uint64_t n) { return random_() % n; }
  std::string fresh(char kind) { return fmt::format("{}{}", kind, ++count_); }
  std::string any(const Scope& s) { return s.numbers[below(s.numbers.size())]; }
  void line(const std::string& what) { body_ += "  " + what + "\n"; }
  void start(const std::string& label) { body_ += "\n" + label + ":\n"; }
  std::string made(const std::string& what) {
    std::string v = fresh('v');
    line(v + " = " + what);
    return v;
  }

  std::string function(size_t k) {
    number_ = k, body_.clear();
    Scope scope{{"p", "q"}, {made("load i64 [r + 8] as memory.bytes")}};
    statements(scope, 6, 2);
    line("return " + any(scope));
    return fmt::format(
        "\n{}func f{}(m: ptr, r: ptr, s: ptr, p: i32, q: i32, n: i32) -> i32 {{\nenter:\n{}}}\n",
        k ? "local " : "", k, body_);
  }
  void statements(Scope& scope, size_t most, unsigned deep) {
    for (size_t left = 1 + below(most); left-- > 0;) {
      switch (below(deep ? 12 : 8)) {
        case 0:
          scope.numbers.push_back(made(fmt::format("add {}, {}", any(scope), int(below(24)) - 8)));
          break;
        case 1: read_size(scope); break;
        case 2: grow(scope); break;
        case 3: call(scope); break;
        case 8: loop(scope, deep - 1); break;
        case 9: pick(scope); break;
        case 10:
        case 11: branch(scope, deep - 1); break;
        default: access(scope);
      }
    }
  }
  void access(Scope& scope) {
    const std::string p = any(scope), w = made("widen.u i64 " + p);
    const uint64_t offset = below(5) * 4;
    const std::string end = made(fmt::format("add {}, {}", w, offset + 4));
    const std::string over = made(fmt::format("gt.u {}, {}", end, size_in(scope)));
    const std::string out = fresh('t'), on = fresh('b');
    line(fmt::format("when {} rarely go {} else {}", over, out, on));
    start(out), line("trap"), start(on);
    if (below(3)) {
      const std::string x = made(fmt::format("load i32 [m + {} + {}]", w, offset));
      if (below(2)) scope.numbers.push_back(made(fmt::format("and {}, 31", x)));
    } else {
      line(fmt::format("store {}, [m + {} + {}] guarded", any(scope), w, offset));
    }
  }
  void read_size(Scope& scope) {
    if (below(5))
      return scope.sizes.push_back(made(fmt::format("load i64 [{} + 8] as memory.bytes", record())));
    // Of one or the other, or of nothing that is known to grow.
    const std::string either = made(fmt::format("pick {}, r, s", condition(scope)));
    scope.sizes.push_back(
        made(fmt::format("load i64 [{} + 8]{}", either, below(2) ? " as memory.bytes" : "")));
  }
  std::string size_in(const Scope& s) { return below(3) ? s.sizes.back() : s.sizes[below(s.sizes.size())]; }
  void grow(Scope& scope) {
    line(fmt::format("call more({})", record()));
    if (below(4)) read_size(scope);
  }
  // Of functions behind this one; of this one while n lasts.
  void call(Scope& scope) {
    const size_t callee = number_ + below(functions - number_);
    if (callee == number_) {
      const std::string on = fresh('b'), off = fresh('b'), left = made("ne n, 0"), less = made("add n, -1");
      line(fmt::format("when {} go {} else {}", left, on, off));
      start(on);
      made(fmt::format("call f{}(m, {}, {}, {}, {})", callee, records(), any(scope), any(scope), less));
      line("go " + off), start(off);
    } else {
      scope.numbers.push_back(
          made(fmt::format("call f{}(m, {}, {}, {}, n)", callee, records(), any(scope), any(scope))));
    }
    if (below(4)) read_size(scope);
  }
  std::string record() { return below(6) ? "r" : "s"; }
  std::string records() { return below(6) ? "r, s" : "s, r"; }
  std::string condition(const Scope& scope) {
    static constexpr const char* ops[] = {"lt.u", "eq", "ne", "gt.u"};
    return made(fmt::format("{} {}, {}", ops[below(4)], any(scope), below(3) * 6));
  }
  void pick(Scope& scope) {
    const std::string c = condition(scope);
    scope.numbers.push_back(made(fmt::format("pick {}, {}, {}", c, any(scope), any(scope))));
  }
  void branch(Scope& scope, unsigned deep) {
    const std::string c = condition(scope), yes = fresh('b'), no = fresh('b'), both = fresh('b');
    line(fmt::format("when {} go {} else {}", c, yes, no));
    for (const std::string& way : {yes, no}) {
      start(way);
      Scope own = scope;
      statements(own, 3, deep);
      if (below(4))
        line(fmt::format("go {}({}, {})", both, any(own), size_in(own)));
      else
        line("return " + any(own));
    }
    brought(scope, both);
  }
  void loop(Scope& scope, unsigned deep) {
    const std::string head = fresh('b'), behind = fresh('b'), round = fresh('v');
    line(fmt::format("go {}({}, {}, 0)", head, any(scope), size_in(scope)));
    brought(scope, head, ", " + round + ": i32");
    const std::string moving = scope.numbers.back();
    statements(scope, 3, deep);
    const std::string next = made(fmt::format("add {}, {}", moving, below(3) * 4)),
                      on = made("add " + round + ", 1");
    const std::string again = made("lt.u " + on + ", 3");
    line(fmt::format("when {} go {}({}, {}, {}) else {}", again, head, below(3) ? next : any(scope),
                     size_in(scope), on, behind));
    start(behind);
  }
  // A block that is given a number and a size.
  void brought(Scope& scope, const std::string& label, const std::string& more = "") {
    scope.numbers.push_back(fresh('v')), scope.sizes.push_back(fresh('v'));
    start(fmt::format("{}({}: i32, {}: i64{})", label, scope.numbers.back(), scope.sizes.back(), more));
  }

  std::mt19937_64 random_;
  std::string body_;
  size_t count_ = 0, number_ = 0;
};

struct Left {
  Outcome::End end;
  uint64_t result = 0;
  std::vector<uint8_t> memory;
  bool operator==(const Left&) const = default;
};

Left left_by(const Module& module, uint32_t p, uint32_t q, uint32_t n, uint64_t steps) {
  Left out{.memory = std::vector<uint8_t>(256)};
  for (size_t k = 0; k < out.memory.size(); ++k) out.memory[k] = static_cast<uint8_t>(k * 37);
  std::vector<uint8_t> record(16), second(16);
  record[8] = 48, second[8] = 32;
  Evaluator e(module, {.step_limit = steps});
  Datum given[] = {
      e.attach(out.memory, "memory"), e.attach(record, "record"), e.attach(second, "second"), {p}, {q}, {n}};
  Outcome o = e.call(module.find("f0"), given);
  out.end = o.end;
  if (o.end == Outcome::End::Result) out.result = o.results[0].bits;
  return out;
}

size_t checks_in(const Module& module) {
  std::string text = write_text(module);
  size_t n = 0;
  for (size_t at = 0; (at = text.find(" rarely ", at)) != text.npos; ++at) ++n;
  return n;
}

TEST(Bounds, ProgramsMeanTheSameWithFewerChecks) {
  const char* asked = std::getenv("PORPHYRY_PROGRAMS");
  const char* start = std::getenv("PORPHYRY_FIRST_SEED");
  const uint64_t first = start ? std::strtoull(start, nullptr, 10) : 1;
  const size_t count = asked ? std::strtoull(asked, nullptr, 10) : testing::part_of(400);
  static constexpr const char* all = "number; strengthen; checks; contracts; sweep; tidy";
  const char* pipelines[] = {"strengthen", "checks", "contracts", "strengthen; strengthen; contracts; sweep",
                             all};
  size_t read = 0, left = 0, ends[4] = {};
  for (uint64_t seed = first; seed < first + count; ++seed) {
    Realm realm;
    const std::string text = CheckedProgram(seed).text();
    auto module = testing::must_read(realm, text);
    std::vector<std::unique_ptr<Module>> changed;
    for (const char* p : pipelines) {
      changed.push_back(clone(*module));
      Diagnostics broken = run_pipeline(*changed.back(), *read_pipeline(p), {.check_between = true});
      ASSERT_TRUE(broken.empty()) << seed << ": " << p << "\n" << render(broken);
    }
    read += checks_in(*module), left += checks_in(*changed.back());
    for (uint32_t p : {0u, 20u, 44u, 45u, 48u, 60u, 0xfffffffcu})
      for (uint32_t q : {4u, 40u, 49u, 0xffffffffu}) {
        const Left meant = left_by(*module, p, q, p % 3, 20'000);
        ++ends[static_cast<size_t>(meant.end)];
        if (meant.end == Outcome::End::Exhausted) continue;
        for (size_t k = 0; k < changed.size(); ++k)
          ASSERT_EQ(meant, left_by(*changed[k], p, q, p % 3, 1'000'000))
              << "seed " << seed << ", " << p << " " << q << ", after " << pipelines[k] << "\n"
              << text << "\n"
              << write_text(*changed[k]);
      }
  }
  EXPECT_EQ(ends[static_cast<size_t>(Outcome::End::Fault)], 0u);
  EXPECT_GT(ends[static_cast<size_t>(Outcome::End::Result)], count);
  EXPECT_GT(ends[static_cast<size_t>(Outcome::End::Trap)], count);
  // A sum that a worse result fails.
  if (count == 400 && first == 1) {
    EXPECT_LE(left, 3054u) << "of " << read;
  }
}

}  // namespace
}  // namespace porphyry
