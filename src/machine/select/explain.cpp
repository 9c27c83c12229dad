// Idea: the matcher itself says which rules match and what they cost. For those that do not, the pattern is
// walked once more beside the instruction, with the same questions in the same order, and the first that is
// answered with no is the reason. Of a commutative operation the order that comes further is told.
#include "porphyry/machine/explain.h"

#include <fmt/format.h>

#include <algorithm>

#include "cover.h"
#include "porphyry/base/scratch.h"
#include "porphyry/ir/compute.h"
#include "porphyry/machine/code.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/print/print.h"

namespace porphyry::machine {
namespace {

// What stops a pattern, and how many of its nodes fitted before.
struct Stop {
  std::string why;  // empty: nothing does
  size_t depth = 0;
};

class Walk {
 public:
  Walk(const Module& module, const Function& f, const RuleIndex& rules, uint16_t rule, Instruction root)
      : module_(module), f_(f), rules_(rules), rule_(rules.target().rules[rule]), index_(rule), root_(root) {
    for (Instruction i : f.instructions(f.block(root))) {
      if (i == root) break;
      before_.push_back(i);
    }
  }

  // Whether the types at the root are those of the instruction.
  bool has_types() const {
    const PatternNode& n = rule_.nodes[0];
    if (f_.result_count(root_) && carrier(n.result) != carrier(f_.type(f_.result(root_)))) return false;
    const bool typed = n.children[0] >= 0 && f_.operand_count(root_) && n.operand.exists() &&
                       n.op != Op::At && n.op != Op::Load;
    return !typed ||
           carrier(n.operand) ==
               carrier(f_.type(f_.operand(root_, typed_operand(f_.op(root_), f_.operand_count(root_)))));
  }
  std::string run() {
    const PatternNode& n = rule_.nodes[0];
    if (f_.result_count(root_) && carrier(n.result) != carrier(f_.type(f_.result(root_))))
      return fmt::format("it gives {}, and this is {}", n.result.name(), f_.type(f_.result(root_)).name());
    return children(n, root_).why;
  }

 private:
  std::string text(Value v) const { return value_text(module_, f_, v); }
  Stop stop(std::string why) const { return {std::move(why), fitted_}; }

  Stop children(const PatternNode& n, Instruction i) {
    for (size_t k = 0; k < n.lanes.size(); ++k)
      if (f_.shuffle_lane(i, k) != n.lanes[k]) return stop("it takes other lanes");
    const bool pure_address = f_.op(i) == Op::Reserve || f_.op(i) == Op::AddressOf;
    if (n.children[0] >= 0 && !pure_address && n.op != Op::At && n.op != Op::Load) {
      Type t = f_.type(f_.operand(i, typed_operand(f_.op(i), f_.operand_count(i))));
      if (carrier(n.operand) != carrier(t))
        return stop(fmt::format("it is for {}, and the operands are {}", n.operand.name(), t.name()));
    }
    const bool two = n.children[1] >= 0 && n.children[2] < 0;
    const size_t start = fitted_;
    Stop plain = in_order(n, i, false);
    if (plain.why.empty() || !two || !info(n.op).commutes()) return plain;
    fitted_ = start;
    Stop swapped = in_order(n, i, true);
    return swapped.why.empty() || swapped.depth > plain.depth ? swapped : plain;
  }

  Stop in_order(const PatternNode& n, Instruction i, bool swapped) {
    for (size_t k = 0; k < std::size(n.children) && n.children[k] >= 0; ++k) {
      const PatternNode& child = rule_.nodes[static_cast<size_t>(n.children[k])];
      if (child.kind == NodeKind::Memory) {
        const bool indexed = f_.op(i) == Op::At && f_.address(i).indexed;
        if (indexed && rules_.target().address.scales.empty()) return stop("its addresses have no index");
        ++fitted_;
        continue;
      }
      if (k >= f_.operand_count(i))
        return stop("it takes the parts of a sum of two, and the address is another one");
      Stop s = node(child, f_.operand(i, swapped ? 1 - k : k));
      if (!s.why.empty()) return s;
    }
    return {};
  }

  Stop node(const PatternNode& n, Value v) {
    if (n.kind != NodeKind::Operation) return leaf(n, v);
    const std::string wanted = fmt::format("'{}'", info(n.op).name);
    if (n.op == Op::Load && f_.is_constant(v)) {
      if (f_.constant_bits(v) == 0 && f_.is_uniform(v)) return stop("zero is cheaper made than read");
      if (f_.type(v) == n.result && (f_.type(v).is_float() || f_.type(v).has_lanes()))
        return ++fitted_, Stop{};
      return stop(fmt::format("it wants a value in memory, and {} is a whole constant", text(v)));
    }
    Instruction d = f_.definition(v);
    if (!d.exists() || f_.op(d) != n.op)
      return stop(fmt::format("it wants a {} in the place of {}, which is {}", wanted, text(v),
                              d.exists()          ? "made by '" + std::string(info(f_.op(d)).name) + "'"
                              : f_.is_constant(v) ? "a constant"
                                                  : "a parameter"));
    if (f_.block(d) != f_.block(root_)) return stop(fmt::format("{} is made in another block", text(v)));
    if (carrier(f_.type(v)) != carrier(n.result))
      return stop(fmt::format("{} is {}, and it wants {}", text(v), f_.type(v).name(), n.result.name()));
    const bool may_repeat = info(n.op).result == ResultRule::Truth || n.op == Op::At;
    if (!may_repeat && !f_.has_one_use(v)) return stop(fmt::format("{} has other uses", text(v)));
    if (n.op == Op::Load) {
      if (rules_.facts(index_).aligned && f_.address(d).align < n.result.bytes())
        return stop(
            fmt::format("{} may lie at an address that is no multiple of {}", text(v), n.result.bytes()));
      if (f_.address(d).is_volatile) return stop(fmt::format("{} is a volatile access", text(v)));
      if (Instruction w = writer_between(d); w.exists())
        return stop(fmt::format("'{}' stands between {} and this", write_text(module_, f_, w), text(v)));
    } else if (!info(n.op).is_pure()) {
      return stop(fmt::format("{} has an effect", text(v)));
    }
    ++fitted_;
    return children(n, d);
  }

  Stop leaf(const PatternNode& n, Value v) {
    if (n.kind == NodeKind::Literal) {
      if (!f_.is_constant(v) || !f_.is_uniform(v) || f_.constant_bits(v) != n.literal)
        return stop(fmt::format("it wants {} in the place of {}", n.literal, text(v)));
    } else if (n.kind == NodeKind::Constant) {
      if (!f_.is_constant(v)) return stop(fmt::format("{} is no constant", text(v)));
      if (n.fit != Fit::Any && !f_.is_uniform(v)) return stop(fmt::format("the lanes of {} differ", text(v)));
      if (!fits(n, f_.type(v), f_.constant_bits(v))) return stop(misfit(n, text(v)));
    }
    ++fitted_;
    return {};
  }

  static std::string misfit(const PatternNode& n, const std::string& constant) {
    switch (n.fit) {
      case Fit::Signed: return fmt::format("{} does not fit {} bits with a sign", constant, n.literal);
      case Fit::Unsigned: return fmt::format("{} does not fit {} bits", constant, n.literal);
      case Fit::Not: return fmt::format("it is for all constants but {}", constant);
      case Fit::Nonzero: return fmt::format("{} is a zero or NaN", constant);
      default: return {};
    }
  }

  // What may write between a load and the root.
  Instruction writer_between(Instruction load) const {
    bool behind = false;
    for (Instruction i : before_) {
      if (behind && f_.has_effect(i)) return i;
      behind |= i == load;
    }
    return {};
  }

  const Module& module_;
  const Function& f_;
  const RuleIndex& rules_;
  const Rule& rule_;
  uint16_t index_;
  Instruction root_;
  std::vector<Instruction> before_;
  size_t fitted_ = 0;
};

std::string instructions_of(const Target& target, const Rule& rule) {
  std::string out;
  for (const RuleStep& step : rule.steps)
    out += (out.empty() ? "" : "; ") +
           (step.form == copy_form ? std::string("copy") : std::string(target.form(step.form).name));
  return out;
}

std::string features_text(const Target& target, Features bits) {
  std::vector<std::string> out;
  for (size_t k = 0; k < target.features.size(); ++k)
    if (bits >> k & 1) out.emplace_back(target.features[k]);
  return listed(out, "and");
}

}  // namespace

SelectionReasons explain_selection(const Module& module, Symbol symbol, Instruction instruction,
                                   const RuleIndex& rules) {
  const Function& f = module.function(symbol);
  const Target& target = rules.target();
  Scratch memory;
  const FlowOf flow(f, &memory);
  Cover found = cover(module, symbol, flow, rules, &memory, &memory);
  SelectionReasons out;
  out.written = found.rules[instruction.index] != 0;
  for (size_t k = 0; k < found.rules.size() && !out.written; ++k) {
    if (!found.rules[k]) continue;
    const Match m = *found.matcher.best(Instruction(k));
    if (std::find(m.covered.begin(), m.covered.end(), instruction) != m.covered.end())
      out.inside = Instruction(k);
  }
  // An address has no rule of its own name: it is one of those of `at`.
  const bool is_address = f.op(instruction) == Op::Reserve || f.op(instruction) == Op::AddressOf;
  const Op op = is_address && target.address.symbols ? Op::At : f.op(instruction);
  auto best = found.matcher.best(instruction);
  std::vector<uint8_t> tries(target.rules.size());  // rules that selection tries
  rules.candidates(f, instruction, [&](uint16_t r) { return tries[r] = true; });
  std::vector<uint16_t> of_op;  // as the book has them, which is how it prefers them
  for (uint16_t r = 0; r < target.constant_rules; ++r)
    if (Op root = target.rules[r].nodes[0].op; root == op || root == f.op(instruction)) of_op.push_back(r);
  std::ranges::sort(of_op, {}, [&](uint16_t r) { return target.rules[r].place; });
  for (uint16_t r : of_op) {
    const Rule& rule = target.rules[r];
    RuleTried tried{
        .name = std::string(rule.name), .makes = instructions_of(target, rule), .own_cost = rule.cost};
    if (Features lacks = rule.needs & ~rules.features()) {
      tried.missed = "it needs " + features_text(target, lacks);
    } else if (auto m = tries[r] ? found.matcher.tried(r, instruction) : std::nullopt) {
      tried.matched = true;
      tried.cost = m->cost;
      tried.won = best && best->index == r;
    } else {
      Walk walk(module, f, rules, r, instruction);
      tried.missed = walk.run();
      tried.for_other_types = !walk.has_types() || (tried.missed.empty() && !tries[r]);
      if (tried.missed.empty())
        tried.missed = tries[r] ? "two operands that have to be the same are not" : "it is for other types";
    }
    out.rules.push_back(std::move(tried));
  }
  std::stable_sort(out.rules.begin(), out.rules.end(), [](const RuleTried& a, const RuleTried& b) {
    if (a.won != b.won) return a.won;
    if (a.matched != b.matched) return a.matched;
    return (a.matched ? a.cost : a.own_cost) < (b.matched ? b.cost : b.own_cost);
  });
  return out;
}

}  // namespace porphyry::machine
