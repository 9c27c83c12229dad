// Matching walks the tree of rules with a stack of values that are still to be looked at; what it reaches is
// tried in the rules' order.
#include "porphyry/rewrite/match.h"

#include <algorithm>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/typing.h"

namespace porphyry::rewrite {

// A computed constant: a word for each lane.
struct Matcher::Constant {
  Type type;
  std::vector<Bits> lanes;
  bool all_true() const {
    return std::all_of(lanes.begin(), lanes.end(), [](Bits b) { return b & 1; });
  }
};

namespace {

// A float's bits from those of an f64.
Bits real_bits(Type t, int64_t number) {
  Bits bits = static_cast<uint64_t>(number);
  if (t.bits() == 64) return bits;
  return compute(Op::Narrow, Type::f64(), t.element(), {&bits, 1}).bits;
}

Bits literal_bits(const Term& t, Type type) {
  if (t.is_real) return real_bits(type, t.number);
  return static_cast<Bits>(static_cast<__int128>(t.number)) & mask_of(type.bits());
}

}  // namespace

std::optional<Matcher::Match> Matcher::match(Instruction i) {
  if (!info(f_.op(i)).is_plain()) return std::nullopt;
  found_.clear();
  asked_count_ = 0;
  pending_.clear();
  for (size_t k = f_.operand_count(i); k-- > 0;) pending_.push_back(f_.operand(i, k));
  look(static_cast<uint16_t>(f_.op(i)), pending_);
  std::sort(found_.begin(), found_.end());
  for (uint16_t k : found_) {
    const Entry& e = table_.entries[k];
    const Rule& r = table_.rules[e.rule];
    Match m{.rule = &r};
    const Term& root = table_.terms[e.pattern];
    m.types[root.type] = f_.type(f_.result(i));
    if (!fits_operation(root, i, m)) continue;
    bool all = related(m) && pays(e.pattern, i, m) && computable(r, m);
    // What analyses are asked for comes last.
    for (unsigned c = 0; c < r.condition_count && all; ++c)
      if (auto& condition = table_.conditions[r.first_condition + c]; condition.kind != ConditionKind::Known)
        all = holds(condition, i, m);
    for (unsigned c = 0; c < r.condition_count && all; ++c)
      all = holds(table_.conditions[r.first_condition + c], i, m);
    if (!all) continue;
    permits_ = permits_in_common(e.pattern, i);
    return m;
  }
  return std::nullopt;
}

void Matcher::look(uint16_t junction, std::vector<Value>& pending) {
  const Junction& j = table_.junctions[junction];
  if (pending.empty()) {
    for (unsigned k = 0; k < j.entry_count; ++k) found_.push_back(static_cast<uint16_t>(j.first_entry + k));
    return;
  }
  Value v = pending.back();
  pending.pop_back();
  Instruction d = f_.definition(v);
  if (d.exists() && j.branch_count && info(f_.op(d)).is_plain()) {
    auto branches = table_.branches.subspan(j.first_branch, j.branch_count);
    auto b = std::lower_bound(branches.begin(), branches.end(), f_.op(d),
                              [](const Branch& x, Op op) { return x.op < op; });
    if (b != branches.end() && b->op == f_.op(d)) {
      size_t before = pending.size();
      for (size_t k = f_.operand_count(d); k-- > 0;) pending.push_back(f_.operand(d, k));
      look(b->to, pending);
      pending.resize(before);
    }
  }
  if (j.constant != no_term && f_.is_constant(v)) look(j.constant, pending);
  if (j.any != no_term) look(j.any, pending);
  pending.push_back(v);
}

bool Matcher::fits(uint16_t term, Value v, Match& m) const {
  const Term& t = table_.terms[term];
  Type type = f_.type(v);
  Type& known = m.types[t.type];
  if (known.exists() && known != type) return false;
  known = type;
  switch (t.kind) {
    case TermKind::Constant:
      if (!f_.is_constant(v)) return false;
      [[fallthrough]];
    case TermKind::Value:
      if (m.values[t.binding].exists()) return m.values[t.binding] == v;
      m.values[t.binding] = v;
      return true;
    case TermKind::Literal:
      return f_.is_constant(v) && f_.is_uniform(v) && f_.constant_word(v) == literal_bits(t, type) &&
             t.is_real == type.is_float() && !type.is_pointer();
    case TermKind::Operation: {
      Instruction d = f_.definition(v);
      if (!d.exists() || f_.op(d) != t.op || f_.result_index(v) != 0) return false;
      // What has only constants is computed first.
      bool varies = false;
      for (Value o : f_.operands(d)) varies |= !f_.is_constant(o);
      if (!varies) return false;
      if (t.once && !f_.has_one_use(v)) return false;
      if (t.binding != none) m.values[t.binding] = v;
      return fits_operation(t, d, m);
    }
    default: return false;
  }
}

bool Matcher::fits_operation(const Term& t, Instruction i, Match& m) const {
  if ((f_.promises(i) & t.promises) != t.promises || (f_.permits(i) & t.permits) != t.permits) return false;
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (!fits(t.operands[k], f_.operand(i, k), m)) return false;
  return true;
}

// Types that follow from no other have the shapes that the rule is for; those that are known on both sides of
// a relation are related.
bool Matcher::related(const Match& m) const {
  for (uint8_t k = 0; k < m.rule->type_count; ++k) {
    if (!m.types[k].exists()) continue;
    if (table_.types[m.rule->first_type + k].relation == Relation::Free) {
      if (!(m.rule->shapes >> static_cast<unsigned>(m.types[k].shape()) & 1)) return false;
      continue;
    }
    Match without = {.rule = m.rule};
    std::copy(std::begin(m.types), std::end(m.types), without.types);
    without.types[k] = {};
    Type expected = type_of(*m.rule, k, without);
    if (expected.exists() && expected != m.types[k]) return false;
  }
  return true;
}

namespace {

unsigned weight_of_new(const RuleTable& table, uint16_t term) {
  const Term& t = table.terms[term];
  if (t.kind != TermKind::Operation || t.computed) return 0;
  unsigned out = table.weights[static_cast<size_t>(t.op)];
  for (unsigned k = 0; k < t.operand_count; ++k) out += weight_of_new(table, t.operands[k]);
  return out;
}

// Of what goes with a use of the instruction.
unsigned weight_of_old(const RuleTable& table, const Function& f, uint16_t term, Instruction i) {
  const Term& t = table.terms[term];
  unsigned out = table.weights[static_cast<size_t>(t.op)];
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (table.terms[t.operands[k]].kind == TermKind::Operation && f.has_one_use(f.operand(i, k)))
      out += weight_of_old(table, f, t.operands[k], f.definition(f.operand(i, k)));
  return out;
}

// Whether a chain of one operation is made shorter whose inner part has other uses, so that it stays.
bool is_shared_chain(const RuleTable& table, const Function& f, uint16_t term, Instruction i) {
  const Term& t = table.terms[term];
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (const Term& inner = table.terms[t.operands[k]];
        inner.kind == TermKind::Operation && inner.op == t.op && !f.has_one_use(f.operand(i, k)))
      return true;
  return false;
}

}  // namespace

// What is written costs no more than what goes; operations inside the pattern that have other uses stay.
// Where one does, and nothing is saved, what it took would only live longer; but sums are worth it, as
// addresses and comparisons with a common base tell of each other.
bool Matcher::pays(uint16_t pattern, Instruction i, const Match& m) const {
  unsigned made = 0;
  for (uint16_t term : m.rule->becomes)
    if (term != no_term) made += weight_of_new(table_, term);
  const unsigned goes = weight_of_old(table_, f_, pattern, i);
  if (made == goes && f_.op(i) != Op::Add && is_shared_chain(table_, f_, pattern, i)) return false;
  return made <= goes;
}

bool Matcher::computable(const Rule& r, const Match& m) const {
  return std::all_of(std::begin(r.becomes), std::end(r.becomes),
                     [&](uint16_t t) { return t == no_term || computable(t, m); });
}
bool Matcher::computable(uint16_t term, const Match& m) const {
  const Term& t = table_.terms[term];
  if (t.computed) {
    if (!type_of(*m.rule, t.type, m).has_lanes()) return scalar(term, m).has_value();
    return constant(term, m).has_value();
  }
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (!computable(t.operands[k], m)) return false;
  return true;
}

Type Matcher::type_of(const Rule& r, uint8_t type, const Match& m) const {
  if (m.types[type].exists()) return m.types[type];
  const TypeClass& c = table_.types[r.first_type + type];
  if (c.relation == Relation::Free) return {};
  Type of = type_of(r, c.of, m);
  if (c.relation == Relation::TruthOf) return Type::boolean().with_lanes(of.lanes());
  if (c.relation == Relation::ElementOf) return of.element();
  return of.with_lanes(2 * of.lanes());
}

bool Matcher::holds(const Condition& c, Instruction i, Match& m) const {
  auto type = [&](uint8_t k) { return type_of(*m.rule, k, m); };
  switch (c.kind) {
    case ConditionKind::Holds: {
      if (!type(table_.terms[c.term].type).has_lanes()) {
        auto value = scalar(c.term, m);
        return value && *value;
      }
      auto value = constant(c.term, m);
      return value && value->all_true();
    }
    case ConditionKind::Known: {
      Number n = number(c.term, m);
      return n.is_exact() && n.low == 1;
    }
    case ConditionKind::Varies: return !f_.is_constant(m.values[c.a]);
    case ConditionKind::Equal: return type(c.a) == type(c.b);
    case ConditionKind::Narrower: return type(c.a).bits() < type(c.b).bits();
    case ConditionKind::NotWider: return type(c.a).bits() <= type(c.b).bits();
    case ConditionKind::Wider: return type(c.a).bits() > c.b;
    case ConditionKind::IsShape: return c.b >> static_cast<unsigned>(type(c.a).shape()) & 1;
    case ConditionKind::Unused: return !f_.has_uses(f_.result(i, c.a));
  }
  return false;
}

// A constant of one lane, of constants of one lane.
std::optional<Bits> Matcher::scalar(uint16_t term, const Match& m) const {
  const Term& t = table_.terms[term];
  switch (t.kind) {
    case TermKind::Constant: {
      Value v = m.values[t.binding];
      if (f_.type(v).has_lanes()) return std::nullopt;
      return f_.constant_word(v);
    }
    case TermKind::Value: return std::nullopt;
    default: break;
  }
  Type type = type_of(*m.rule, t.type, m);
  switch (t.kind) {
    case TermKind::Literal: return literal_bits(t, type);
    case TermKind::Width: {
      Bits width = type_of(*m.rule, t.of_type, m).bits();
      // A width that its type cannot hold is no number to compute with.
      return (width & mask_of(type.bits())) == width ? std::optional(width) : std::nullopt;
    }
    case TermKind::Least: return Bits(1) << (type.bits() - 1);
    case TermKind::Most: return mask_of(type.bits()) >> 1;
    default: break;
  }
  Bits in[3];
  for (unsigned k = 0; k < t.operand_count; ++k) {
    auto operand = scalar(t.operands[k], m);
    if (!operand) return std::nullopt;
    in[k] = *operand;
  }
  uint16_t last = t.operands[t.operand_count - 1];
  Type operand = table_.terms[last].kind == TermKind::Constant ? f_.type(m.values[table_.terms[last].binding])
                                                               : type_of(*m.rule, table_.terms[last].type, m);
  Computed out = compute(t.op, operand, type, {in, t.operand_count});
  return out.trapped ? std::nullopt : std::optional(out.bits);
}

std::optional<Matcher::Constant> Matcher::constant(uint16_t term, const Match& m) const {
  const Term& t = table_.terms[term];
  Type type = type_of(*m.rule, t.type, m);
  Constant out{type, {}};
  switch (t.kind) {
    case TermKind::Constant:
      out.type = f_.type(m.values[t.binding]);
      for (unsigned k = 0; k < out.type.lanes(); ++k)
        out.lanes.push_back(f_.constant_word(m.values[t.binding], k));
      return out;
    case TermKind::Literal: out.lanes.assign(type.lanes(), literal_bits(t, type)); return out;
    case TermKind::Width:
      out.lanes.assign(type.lanes(), type_of(*m.rule, t.of_type, m).bits() & mask_of(type.bits()));
      // A width that its type cannot hold is no number to compute with.
      if (out.lanes[0] != type_of(*m.rule, t.of_type, m).bits()) return std::nullopt;
      return out;
    case TermKind::Least: out.lanes.assign(type.lanes(), Bits(1) << (type.bits() - 1)); return out;
    case TermKind::Most: out.lanes.assign(type.lanes(), mask_of(type.bits()) >> 1); return out;
    case TermKind::Value: return std::nullopt;
    case TermKind::Operation: break;
  }
  Type types[3];
  std::vector<Bits> in;
  for (unsigned k = 0; k < t.operand_count; ++k) {
    auto operand = constant(t.operands[k], m);
    if (!operand) return std::nullopt;
    types[k] = operand->type;
    in.insert(in.end(), operand->lanes.begin(), operand->lanes.end());
  }
  Type results[2];
  unsigned count = result_types(t.op, {types, t.operand_count}, type, results);
  unsigned lanes = 0;
  for (unsigned k = 0; k < count; ++k) lanes += results[k].lanes();
  out.type = results[0];
  out.lanes.resize(lanes);
  if (!compute_lanes(t.op, {types, t.operand_count}, {results, count}, in, out.lanes)) return std::nullopt;
  out.lanes.resize(results[0].lanes());
  return out;
}

const Number& Matcher::number(Value v) const {
  unsigned known = std::min<unsigned>(asked_count_, asked_.size());
  for (unsigned k = 0; k < known; ++k)
    if (asked_[k].value == v) return asked_[k].number;
  Asked& a = asked_[asked_count_++ % asked_.size()];
  a = {v, number_of(f_, v)};
  return a.number;
}

Number Matcher::number(uint16_t term, const Match& m) const {
  const Term& t = table_.terms[term];
  if (t.kind == TermKind::Value) return number(m.values[t.binding]);
  if (t.kind != TermKind::Operation) {
    Type type = type_of(*m.rule, t.type, m);
    if (!type.has_lanes()) {
      auto one = scalar(term, m);
      if (!one || !(type.is_integer() || type.is_bool())) return {};
      return Number::exactly(type.bits(), *one);
    }
    auto c = constant(term, m);
    if (!c || !(c->type.is_integer() || c->type.is_bool())) return {};
    Number out = Number::exactly(c->type.bits(), c->lanes[0]);
    for (Bits b : c->lanes) out = out.joined(Number::exactly(c->type.bits(), b));
    return out;
  }
  Number in[3];
  for (unsigned k = 0; k < t.operand_count; ++k) in[k] = number(t.operands[k], m);
  Type type = type_of(*m.rule, t.type, m);
  if (!type.exists())
    type = info(t.op).result == ResultRule::Truth ? Type::boolean() : Type::integer(in[0].width);
  return compute_number(t.op, type, {in, t.operand_count});
}

uint8_t Matcher::permits_in_common(uint16_t term, Instruction i) const {
  const Term& t = table_.terms[term];
  uint8_t out = info(t.op).accepts_shape(Shape::Float) ? f_.permits(i) : 0xff;
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (table_.terms[t.operands[k]].kind == TermKind::Operation)
      out &= permits_in_common(t.operands[k], f_.definition(f_.operand(i, k)));
  return out;
}

Value Matcher::value(uint16_t term, Instruction before, const Match& m) {
  const Term& t = table_.terms[term];
  if (t.kind == TermKind::Value || (t.kind == TermKind::Constant && !t.computed)) return m.values[t.binding];
  if (t.kind != TermKind::Operation || t.computed) {
    if (Type type = type_of(*m.rule, t.type, m); !type.has_lanes())
      if (auto one = scalar(term, m)) return f_.constant(type, *one);
    auto c = constant(term, m);
    if (!c) return {};
    return constant_from(f_, c->type, c->lanes);
  }
  Value operands[3];
  Type types[3], results[2];
  for (unsigned k = 0; k < t.operand_count; ++k) {
    operands[k] = value(t.operands[k], before, m);
    if (!operands[k].exists()) return {};
    types[k] = f_.type(operands[k]);
  }
  unsigned count = result_types(t.op, {types, t.operand_count}, type_of(*m.rule, t.type, m), results);
  bool floats = std::any_of(types, types + t.operand_count, [](Type x) { return x.is_float(); }) ||
                results[0].is_float();
  Instruction made = f_.insert_before(before, {.op = t.op,
                                               .operands = {operands, t.operand_count},
                                               .results = {results, count},
                                               .position = f_.position(before),
                                               .promises = t.promises,
                                               .permits = floats ? permits_ : uint8_t(0)});
  written_.push_back(made);
  return f_.result(made);
}

Matcher::Applied Matcher::apply(Instruction i, const Match& m) {
  const Rule& r = *m.rule;
  written_.clear();
  Applied out{};
  for (unsigned k = 0; k < 2; ++k) {
    if (r.becomes[k] == no_term) continue;
    out.results[k] = value(r.becomes[k], i, m);
    if (k == 0 && r.keeps && !written_.empty() && f_.definition(out.results[0]) == written_.back()) {
      Instruction root = written_.back();
      f_.set_promises(root, f_.promises(root) | (f_.promises(i) & r.keeps));
    }
  }
  for (unsigned k = 0; k < 2; ++k)
    if (out.results[k].exists()) f_.replace_uses(f_.result(i, k), out.results[k]);
  // A trap of its own is the replacement's as well, or never happens.
  f_.erase(i);
  return out;
}

}  // namespace porphyry::rewrite
