// Idea: bottom-up dynamic programming. Instructions are visited in order; for each, the rules that may cover
// it (RuleIndex) are tried, from cheap to expensive, and a rule's cost is its own and that of the best cover
// of what its leaves take from registers. Invariant: when an instruction is visited, the instructions that
// its operands come from have their best match, as definitions stand before uses; a load becomes part of a
// rule only if nothing writes between it and the root. Cost: O(instructions * rules that may cover them);
// trying stops at the first rule that alone costs more than the best.
#include "match.h"

#include <algorithm>
#include <bit>

#include "porphyry/ir/compute.h"
#include "porphyry/machine/legalize.h"

// Small parts of matching that are asked for every node of every pattern tried: calls would cost as much as
// they do.
#define PORPHYRY_INLINE [[gnu::always_inline]] inline

namespace porphyry::machine {
namespace {

constexpr uint32_t constant_cost = 10;
constexpr uint32_t uncovered_cost = 1 << 20;  // a part that only a larger pattern covers

// Whether constants of the type may be read from memory where a pattern has a load.
bool in_pool(Type t) { return t.is_float() || t.has_lanes(); }

}  // namespace

size_t typed_operand(Op op, size_t count) {
  bool first = op == Op::Store || op == Op::When || op == Op::Lane || op == Op::Put;
  return first ? 0 : count - 1;
}

void Match::keep(Words& words) const {
  uint32_t head = index | uint32_t(accesses_) << accesses_at | uint32_t(pooled_ != 0) << pooled_at;
  size_t at = words.size();
  words.push_back(0);
  if (pooled_) words.push_back(pooled_);
  for (Instruction c : covered)
    if (c.exists()) words.push_back(c.index), head += 1u << covered_at;
  for (size_t k = 0; k < most_variables; ++k)
    if (bound_[k]) words.push_back(bound_[k]), head |= 1u << (bound_at + k);
  words[at] = head;
}

Match Match::kept(const uint32_t* words) {
  static_assert(most_variables <= accesses_at - bound_at && most_variables <= pooled_at - accesses_at);
  uint32_t head = *words++;
  Match m;
  m.index = static_cast<uint16_t>(head);
  m.accesses_ = head >> accesses_at & ((1u << most_variables) - 1);
  if (head >> pooled_at & 1) m.pooled_ = static_cast<uint8_t>(*words++);
  for (unsigned k = 0; k < (head >> covered_at & 3); ++k) m.covered[k] = Instruction(*words++);
  for (size_t k = 0; k < most_variables; ++k)
    if (head >> (bound_at + k) & 1) m.bound_[k] = *words++;
  return m;
}

Matcher::Matcher(const Function& function, const RuleIndex& rules, std::pmr::memory_resource* memory)
    : f_(function),
      rules_(rules),
      target_(rules.target()),
      best_(function.instruction_limit(), memory),
      words_(memory),
      epoch_(function.instruction_limit(), memory) {
  words_.reserve(4 * function.instruction_limit());
}

void Matcher::visit(Block b) {
  uint32_t epoch = 0;
  Match m, cheapest;
  for (Instruction i : f_.instructions(b)) {
    epoch_[i] = epoch;
    if (f_.has_effect(i)) ++epoch;
    bool found = false;
    rules_.candidates(f_, i, [&](uint16_t r) {
      if (found && target_.rules[r].cost > cheapest.cost) return false;  // it only grows
      if (!try_rule(r, i, m)) return true;
      // Of two that cost the same, the one that the book has first.
      auto place = [&](const Match& of) { return std::pair(of.cost, rules_.facts(of.index).place); };
      if (!found || place(m) < place(cheapest)) cheapest = m;
      return found = true;
    });
    if (!found) continue;
    best_[i] = {static_cast<uint32_t>(words_.size() + 1), cheapest.cost};
    cheapest.keep(words_);
  }
}

std::optional<Match> Matcher::constant(Value v) const {
  std::optional<Match> best;
  Type type = carrier(f_.type(v));
  for (uint16_t r = target_.constant_rules; r < target_.rules.size(); ++r) {
    const Rule& rule = target_.rules[r];
    if ((rule.needs & ~rules_.features()) || carrier(rule.nodes[0].result) != type) continue;
    Match m;
    m.index = r;
    m.cost = rule.cost;
    if (leaf(rule.nodes[0], v, m) && (!best || m.cost < best->cost)) best = m;
  }
  return best;
}

bool Matcher::try_rule(uint16_t index, Instruction i, Match& m) const {
  const Rule& rule = target_.rules[index];
  const PatternNode& root = rule.nodes[0];
  m = {};
  m.index = index;
  m.cost = rule.cost;
  if (f_.result_count(i)) {
    if (carrier(root.result) != carrier(f_.type(f_.result(i)))) return false;
    if (root.variable >= 0) m.bind(static_cast<size_t>(root.variable), f_.result(i));
  }
  if (!takes_lanes(root, i) || !children(rule, root, i, i, m)) return false;
  size_t variables = std::min(rule.variables.size(), Match::most_variables);  // of the pattern first
  for (size_t k = 0; k < variables; ++k)
    if (Value v = m.value(k); v.exists() && static_cast<int>(k) != root.variable)
      m.cost += cost_of_leaf(v, i);
  const Loss lost = loss(m, i);
  m.cost += lost == Loss::CopyInFront ? 3 : lost == Loss::CopyBehind ? 2 : 0;
  return true;
}

// A constant that the rule has to have in a register costs an instruction; so does a tree below, as much as
// its own best rule. What others need as well is there anyway.
PORPHYRY_INLINE uint32_t Matcher::cost_of_leaf(Value v, Instruction root) const {
  if (f_.is_constant(v)) return 0;
  Instruction d = f_.definition(v);
  bool below = d.exists() && f_.block(d) == f_.block(root) && f_.has_one_use(v);
  if (below && !best_[d].row && info(f_.op(d)).is_plain()) return uncovered_cost;
  return below ? best_[d].cost : 0;
}

// The worst of the operands that are overwritten.
PORPHYRY_INLINE Loss Matcher::loss(const Match& m, Instruction root) const {
  Loss out = Loss::None;
  for (unsigned bits = rules_.facts(m.index).overwritten; bits; bits &= bits - 1)
    if (Value v = m.value(static_cast<size_t>(std::countr_zero(bits))); v.exists())
      out = std::max(out, loss_of(f_, v, root));
  return out;
}

PORPHYRY_INLINE bool Matcher::leaf(const PatternNode& n, Value v, Match& m) const {
  if (n.kind == NodeKind::Literal)
    return f_.is_constant(v) && f_.is_uniform(v) && f_.constant_bits(v) == n.literal;
  if (n.kind == NodeKind::Constant) {
    if (!f_.is_constant(v) || (n.fit != Fit::Any && !f_.is_uniform(v))) return false;
    if (!fits(n, f_.type(v), f_.constant_bits(v))) return false;
  }
  if (n.variable < 0) return true;
  if (Value bound = m.value(static_cast<size_t>(n.variable)); bound.exists()) return bound == v;
  m.bind(static_cast<size_t>(n.variable), v);
  // A constant in a register is one more instruction.
  if (n.kind == NodeKind::Register && f_.is_constant(v)) m.cost += constant_cost;
  return true;
}

// `at p + i*1`, which a rule with two registers takes.
bool Matcher::is_plain_sum(Instruction i) const {
  if (f_.op(i) != Op::At) return false;
  const Address& a = f_.address(i);
  return a.indexed && a.scale == 1 && a.offset == 0;
}

bool Matcher::same_address(Instruction a, Instruction b) const {
  size_t base_a = f_.op(a) == Op::Store ? 1 : 0, base_b = f_.op(b) == Op::Store ? 1 : 0;
  const Address &x = f_.address(a), &y = f_.address(b);
  if (f_.operand(a, base_a) != f_.operand(b, base_b) || x.offset != y.offset || x.indexed != y.indexed)
    return false;
  return !x.indexed || (x.scale == y.scale && f_.operand(a, base_a + 1) == f_.operand(b, base_b + 1));
}

bool Matcher::memory(const PatternNode& n, Instruction access, Match& m) const {
  bool indexed = f_.op(access) == Op::At && f_.address(access).indexed;
  if (indexed && target_.address.scales.empty()) return false;
  Instruction bound = m.access(static_cast<size_t>(n.variable));
  if (bound.exists()) return same_address(bound, access);
  m.bind(static_cast<size_t>(n.variable), access);
  return true;
}

// Whether an inner node of a pattern may cover this instruction.
bool Matcher::inside(const PatternNode& n, Instruction d, Instruction root, const Match& m) const {
  if (!d.exists() || f_.op(d) != n.op || f_.block(d) != f_.block(root)) return false;
  if (carrier(f_.type(f_.result(d))) != carrier(n.result)) return false;
  bool may_repeat = info(n.op).result == ResultRule::Truth || n.op == Op::At;
  if (!may_repeat && !f_.has_one_use(f_.result(d))) return false;
  if (n.op != Op::Load) return info(n.op).is_pure();
  if (rules_.facts(m.index).aligned && f_.address(d).align < n.result.bytes()) return false;
  return !f_.address(d).is_volatile && epoch_[d] == epoch_[root];
}

bool Matcher::node(const Rule& rule, int8_t at, Value v, Instruction root, Match& m) const {
  const PatternNode& n = rule.nodes[static_cast<size_t>(at)];
  if (n.kind != NodeKind::Operation) return leaf(n, v, m);
  if (n.op == Op::Load && f_.is_constant(v) && in_pool(f_.type(v)) && f_.type(v) == n.result) {
    const PatternNode& place = rule.nodes[static_cast<size_t>(n.children[0])];
    if (f_.constant_bits(v) == 0 && f_.is_uniform(v)) return false;  // zero is cheaper made than read
    m.bind_pooled(static_cast<size_t>(place.variable), v);
    return true;
  }
  Instruction d = f_.definition(v);
  if (!inside(n, d, root, m) || !takes_lanes(n, d) || !children(rule, n, d, root, m)) return false;
  for (Instruction& c : m.covered)
    if (!c.exists()) return c = d, true;
  return true;
}

// Whether a shuffle takes the lanes that a pattern wants.
PORPHYRY_INLINE bool Matcher::takes_lanes(const PatternNode& n, Instruction i) const {
  for (size_t k = 0; k < n.lanes.size(); ++k)
    if (f_.shuffle_lane(i, k) != n.lanes[k]) return false;
  return true;
}

// Whether a node of a pattern is worth trying on a value.
PORPHYRY_INLINE bool Matcher::may_fit(const PatternNode& n, Value v) const {
  if (n.kind == NodeKind::Register) return true;
  if (n.kind != NodeKind::Operation) return f_.is_constant(v);
  if (f_.is_constant(v)) return n.op == Op::Load && in_pool(f_.type(v));
  Instruction d = f_.definition(v);
  return d.exists() && f_.op(d) == n.op;
}

bool Matcher::in_order(const Rule& rule, const PatternNode& n, Instruction i, Instruction root, bool swapped,
                       Match& m) const {
  for (size_t k = 0; k < std::size(n.children) && n.children[k] >= 0; ++k) {
    const PatternNode& child = rule.nodes[static_cast<size_t>(n.children[k])];
    bool fits = child.kind == NodeKind::Memory
                    ? memory(child, i, m)
                    : node(rule, n.children[k], f_.operand(i, swapped ? 1 - k : k), root, m);
    if (!fits) return false;
  }
  return true;
}

// A match that fails is dropped by its caller, so only a choice of orders needs copies.
bool Matcher::children(const Rule& rule, const PatternNode& n, Instruction i, Instruction root,
                       Match& m) const {
  Op op = f_.op(i);
  bool pure_address = op == Op::Reserve || op == Op::AddressOf;
  bool by_key = i == root && !n.operand.has_lanes();  // the index has given only rules of this type
  if (n.children[0] >= 0 && !by_key && !pure_address && n.op != Op::At && n.op != Op::Load) {
    size_t typed = typed_operand(op, f_.operand_count(i));
    if (carrier(n.operand) != carrier(f_.type(f_.operand(i, typed)))) return false;
  }
  if (n.op == Op::At && rule.nodes[static_cast<size_t>(n.children[0])].kind != NodeKind::Memory &&
      !is_plain_sum(i))
    return false;
  bool has_two = n.children[1] >= 0 && n.children[2] < 0;
  if (!info(n.op).commutes() || !has_two) return in_order(rule, n, i, root, false, m);
  auto child = [&](size_t k) -> const PatternNode& { return rule.nodes[static_cast<size_t>(n.children[k])]; };
  Value a = f_.operand(i, 0), b = f_.operand(i, 1);
  bool plain = may_fit(child(0), a) && may_fit(child(1), b),
       swapped = may_fit(child(0), b) && may_fit(child(1), a);
  if (!plain || !swapped) return (plain || swapped) && in_order(rule, n, i, root, swapped, m);
  Match before = m;
  plain = in_order(rule, n, i, root, false, m);
  bool is_root = &n == &rule.nodes[0];
  // Both orders may fit: prefer the one whose overwritten operand is lost at less cost.
  const Loss plain_loss = plain && is_root ? loss(m, root) : Loss::None;
  if (plain && plain_loss == Loss::None) return true;
  if (!in_order(rule, n, i, root, true, before)) return plain;
  if (!plain || loss(before, root) < plain_loss) m = before;
  return true;
}

}  // namespace porphyry::machine
