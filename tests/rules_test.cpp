// Every rule of the book, one by one: its pattern is built as a function of its own, must be chosen where no
// cheaper one fits, and computes on the processor what the evaluator says, for operands that matter.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <map>
#include <random>
#include <set>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/jit/apart.h"
#include "porphyry/machine/select.h"
#include "porphyry/print/print.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

using namespace machine;

// The function that a rule's left side is. Parameters: a pointer to 128 bytes first, then a value for each
// register of the pattern.
class PatternProgram {
 public:
  // With `shared`, every operand has further uses.
  PatternProgram(Realm& realm, const Rule& rule, std::mt19937_64& random, bool shared)
      : rule_(rule), random_(random), module_(realm, "pattern") {
    Signature s{{Type::pointer()}, {}};
    for (const PatternNode& n : rule.nodes)
      if (n.kind == NodeKind::Register && !places_.contains(n.variable)) {
        places_[n.variable] = s.parameters.size();
        s.parameters.push_back(n.result);
      }
    const PatternNode& root = rule.nodes[0];
    bool branches = root.kind == NodeKind::Operation && root.op == Op::When;
    bool chooses = root.kind == NodeKind::Operation && root.op == Op::Choose;
    if (branches || chooses)
      s.results.push_back(Type::integer(32));
    else if (rule.matches_constant || info(root.op).result != ResultRule::None)
      s.results.push_back(root.op == Op::At && !rule.matches_constant ? Type::pointer() : root.result);
    symbol_ = module_.add_function("f", s);
    f_ = &module_.function(symbol_);
    Pen pen(module_, *f_);
    pen_ = &pen;
    pen.at_end(f_->add_block());
    auto use_all = [&] {
      for (size_t k = 1; k < s.parameters.size(); ++k)
        pen.store(f_->parameters()[k], f_->parameters()[0], {}, 1, static_cast<int64_t>(64 + 16 * (k % 4)));
    };
    if (shared) use_all();
    const Block first = f_->entry();
    build(branches, chooses);
    const Instruction end = f_->last(first);
    if (shared && info(f_->op(end)).layout == Layout::Return) pen.before(end), use_all();
  }

  Module& module() { return module_; }
  Symbol symbol() const { return symbol_; }
  Instruction root() const { return root_; }

 private:
  void build(bool branches, bool chooses) {
    const PatternNode& root = rule_.nodes[0];
    if (rule_.matches_constant) return pen_->return_values({leaf(root)});
    if (root.op == Op::Trap) {
      pen_->trap();
      root_ = f_->last(f_->entry());
      return;
    }
    if (branches) {
      Value condition = value(root.children[0]);
      Block yes = f_->add_block(), no = f_->add_block();
      pen_->when(condition, yes, {}, no, {});
      root_ = f_->last(f_->entry());
      pen_->at_end(yes).return_values({pen_->integer(Type::integer(32), 1)});
      pen_->at_end(no).return_values({pen_->integer(Type::integer(32), 2)});
      return;
    }
    if (chooses) return build_choice(root);
    Value v = operation(root);
    root_ = f_->last(f_->entry());
    if (v.exists())
      pen_->return_values({v});
    else
      pen_->return_values({});
  }

  // Legal code chooses among 0, 1 and so on and is never given another number.
  void build_choice(const PatternNode& root) {
    constexpr Bits ways = 8;
    const Type small = Type::integer(32);
    Value number = pen_->and_(value(root.children[0]), f_->constant(root.operand, ways - 1));
    std::vector<Pen::Case> cases;
    for (Bits k = 0; k < ways; ++k) cases.push_back({k, f_->add_block(), {}});
    Block nowhere = f_->add_block();
    pen_->choose(number, cases, nowhere);
    root_ = f_->last(f_->entry());
    for (const Pen::Case& c : cases)
      pen_->at_end(c.to).return_values({pen_->integer(small, 10 + static_cast<uint64_t>(c.value))});
    pen_->at_end(nowhere).trap();
  }

  Value value(int8_t at) {
    const PatternNode& n = rule_.nodes[static_cast<size_t>(at)];
    return n.kind == NodeKind::Operation ? operation(n) : leaf(n);
  }

  Value leaf(const PatternNode& n) {
    if (n.kind == NodeKind::Register) return f_->parameters()[places_[n.variable]];
    if (n.kind == NodeKind::Literal) return f_->constant(n.result, n.literal);
    if (auto known = constants_.find(n.variable); known != constants_.end()) return known->second;
    uint64_t bits = random_();
    switch (n.fit) {
      case Fit::Signed:
        bits = static_cast<uint64_t>(static_cast<int64_t>(bits) >> (64 - n.literal + bits % n.literal));
        break;
      case Fit::Unsigned: bits &= (uint64_t(1) << n.literal) - 1; break;
      case Fit::Masked: bits = random_() % 200; break;
      case Fit::Not:
        if (bits % 4 == 0) bits = 5;
        break;
      case Fit::Nonzero:
      case Fit::Any:
        if (n.result.is_float())
          bits = n.result.bits() == 32 ? std::bit_cast<uint32_t>(2.5f) : std::bit_cast<uint64_t>(-3.75);
        break;
    }
    return constants_[n.variable] = f_->constant(n.result, bits);
  }

  Value operation(const PatternNode& n) {
    Value piece = f_->parameters()[0];
    switch (n.op) {
      case Op::Load: return pen_->load(n.result, {.offset = 16, .align = 16}, {&piece, 1});
      case Op::At: return pen_->at(piece, {}, 1, 24);
      case Op::Store: {
        pen_->store(value(n.children[0]), {.offset = 16, .align = 16}, {&piece, 1});
        return {};
      }
      default: break;
    }
    // Inner loads come first, so that they are beside what takes them in.
    std::vector<Value> v;
    for (int8_t child : n.children)
      if (child >= 0) v.push_back(value(child));
    if (info(n.op).layout == Layout::Convert) {
      // A bool widens as the byte it is carried as; its pattern says i8.
      if (n.operand == n.result && n.op != Op::Bits)
        return pen_->convert(n.op, n.result, pen_->write(Op::Ne, {v[0], f_->constant(n.operand, 0)}));
      if (n.op == Op::Bits && n.operand == Type::integer(64) && n.result == Type::integer(64))
        return pen_->convert(Op::Bits, Type::integer(64), pen_->at(piece));
      return pen_->convert(n.op, n.result, v[0]);
    }
    if (n.op == Op::Shuffle) return pen_->shuffle(v[0], v[1], lanes_of(n));
    Type result = n.result;
    return f_->result(pen_->put({.op = n.op, .operands = v, .results = {&result, 1}}));
  }

  // Those that the pattern names, or any of both values.
  std::vector<uint16_t> lanes_of(const PatternNode& n) {
    std::vector<uint16_t> out(n.lanes.begin(), n.lanes.end());
    while (out.size() < n.result.lanes())
      out.push_back(static_cast<uint16_t>(random_() % (2 * n.result.lanes())));
    return out;
  }
  const Rule& rule_;
  std::mt19937_64& random_;
  Module module_;
  Symbol symbol_;
  Function* f_ = nullptr;
  Pen* pen_ = nullptr;
  Instruction root_;
  std::map<int8_t, size_t> places_;
  std::map<int8_t, Value> constants_;
};

uint64_t operand_bits(Type t, std::mt19937_64& random) {
  if (t.is_float()) {
    static const double values[] = {0.0,   -0.0,   1.0,   -1.0,   2.5,      -0.5,      1e10,
                                    -1e19, 9.3e18, 1e300, 1e-310, INFINITY, -INFINITY, NAN};
    double d =
        random() % 3 ? values[random() % std::size(values)] : static_cast<double>(int64_t(random())) / 1e9;
    return t.bits() == 32 ? std::bit_cast<uint32_t>(static_cast<float>(d)) : std::bit_cast<uint64_t>(d);
  }
  uint64_t v = random();
  switch (random() % 5) {
    case 0: v = random() % 3; break;
    case 1: v = 0 - random() % 3; break;
    case 2: v = uint64_t(1) << (random() % t.bits()); break;
    case 3: v >>= random() % 64; break;
    default: break;
  }
  return v & static_cast<uint64_t>(mask_of(t.bits()));
}

bool same(uint64_t a, uint64_t b, Type t) {
  if (t == Type::f32() && std::isnan(std::bit_cast<float>(uint32_t(a))))
    return std::isnan(std::bit_cast<float>(uint32_t(b)));
  if (t == Type::f64() && std::isnan(std::bit_cast<double>(a))) return std::isnan(std::bit_cast<double>(b));
  return a == b;
}

TEST(Rules, EachIsChosenAndComputesWhatItsPatternSays) {
  const Target& target = *native_target();
  std::mt19937_64 random(41);
  std::set<std::string_view> never;
  size_t chosen = 0, traps = 0;
  for (size_t r = 0; r < target.rules.size(); ++r) {
    const Rule& rule = target.rules[r];
    bool was_chosen = false;
    // Some are there for want of a feature that the usual ones have.
    for (int variant = 0; variant < 4; ++variant) {
      if (variant == 2 && (was_chosen || rule.needs)) break;
      Features features = variant < 2 ? target.usual_features : Features(0);
      Realm realm;
      PatternProgram program(realm, rule, random, variant % 2 == 1);
      const Module& module = program.module();
      Diagnostics wrong = verify(module);
      ASSERT_TRUE(wrong.empty()) << rule.name << "\n" << render(wrong);
      auto selected = select(module, program.symbol(), RuleIndex(target, features));
      if (!selected.good())
        continue;  // no plain rule has this type: the pattern needs what legalization leaves
      if (program.root().exists())
        was_chosen |= selected->rules[program.root().index] == r + 1;
      else
        was_chosen = true;  // constants: chosen where they are used

      auto jit = Jit::compile(module, target, {.features = features, .check_allocation = true});
      ASSERT_TRUE(jit.good()) << rule.name << render(jit.why());
      auto caller = Caller::make(**jit, "f", target);
      const Signature& s = *module.signature(program.symbol());
      std::mt19937_64 operands(r);  // of their own: how many are tried does not change the programs
      for (size_t round = 0; round < testing::part_of(40); ++round) {
        SharedMemory by_processor(128);
        std::vector<uint8_t> by_evaluator(128);
        for (uint8_t& b : by_evaluator) b = static_cast<uint8_t>(operands());
        std::copy(by_evaluator.begin(), by_evaluator.end(), by_processor.bytes().begin());
        Evaluator e(module);
        std::vector<Datum> meant{e.attach(by_evaluator, "piece")};
        std::vector<uint64_t> given{reinterpret_cast<uint64_t>(by_processor.bytes().data())};
        for (size_t k = 1; k < s.parameters.size(); ++k)
          for (unsigned lane = 0; lane < s.parameters[k].lanes(); ++lane) {
            given.push_back(operand_bits(s.parameters[k].element(), operands));
            meant.push_back({given.back(), 0});
          }
        Outcome should = e.call(program.symbol(), meant);
        ASSERT_NE(should.end, Outcome::End::Fault) << rule.name << ": " << should.message;
        if (should.end == Outcome::End::Trap) {
          // A child for each trap is slow; a few are enough.
          if (++traps % 8 == 0) {
            EXPECT_EQ((*caller)->call_apart(given).end, NativeOutcome::End::Trap) << rule.name;
          }
          continue;
        }
        auto is = (*caller)->call(given);
        bool address = rule.nodes[0].op == Op::At || (!s.results.empty() && rule.nodes[0].op == Op::Bits &&
                                                      rule.nodes[0].operand == rule.nodes[0].result);
        std::vector<Type> types;  // of each word
        for (Type t : s.results) types.insert(types.end(), t.lanes(), t.element());
        for (size_t k = 0; k < is.size() && !address; ++k)
          ASSERT_TRUE(same(is[k], should.results[k].bits, types[k]))
              << rule.name << ": " << fmt::format("{:#x} and {:#x}", is[k], should.results[k].bits) << "\n"
              << write_text(module);
        ASSERT_TRUE(std::equal(by_evaluator.begin(), by_evaluator.end(), by_processor.bytes().begin()))
            << rule.name;
      }
    }
    chosen += was_chosen;
    if (!was_chosen) never.insert(rule.name);
  }
  std::string names;
  for (std::string_view n : never) names += "  " + std::string(n) + "\n";
  // A rule that is never the cheapest for its own pattern has no business in the book.
  EXPECT_TRUE(never.empty()) << "never chosen for their own pattern:\n" << names;
  EXPECT_GT(chosen, 700u);
}

}  // namespace
}  // namespace porphyry
