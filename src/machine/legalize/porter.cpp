#include "porter.h"

#include "porphyry/base/rounding.h"
#include "porphyry/machine/passing.h"

namespace porphyry::machine {

Porter::Porter(FoldingPen& pen, const Convention& convention)
    : pen_(pen), rules_(*convention.values), word_(Type::integer(convention.word_bits)) {}

std::vector<Value> Porter::taken_apart(Value v, bool as_result) {
  Type t = pen_.type(v);
  auto parts = rules_.parts(t, as_result);
  if (parts.empty()) return memory_words(v);
  if (parts.size() == 1 && parts[0] == t) return {v};
  if (t.has_lanes() && (parts[0].has_lanes() || parts[0].is_float()) &&
      t.total_bits() == parts[0].total_bits())
    return {pen_.convert(Op::Bits, parts[0], v)};
  if (t.has_lanes()) {
    v = pen_.convert(Op::Bits, Type::integer(t.total_bits()), v);
    const Type whole = Type::integer(parts[0].total_bits());
    if (parts[0].has_lanes()) return {pen_.convert(Op::Bits, parts[0], pen_.widen_u(v, whole))};
    if (parts[0].is_float()) return {pen_.bits(pen_.widen_u(v, whole), parts[0])};
  }
  return words(v, parts);
}

Value Porter::put_together(Type t, std::span<const Value> parts, bool as_result) {
  auto types = rules_.parts(t, as_result);
  if (types.empty()) return from_memory_words(t, parts);
  if (types.size() == 1 && types[0] == t) return parts[0];
  if (!t.has_lanes()) return from_words(t, parts);
  if ((types[0].has_lanes() || types[0].is_float()) && t.total_bits() == types[0].total_bits())
    return pen_.convert(Op::Bits, t, parts[0]);
  Type whole = Type::integer(t.total_bits());
  Value v;
  if (types[0].has_lanes())
    v = pen_.narrow(pen_.convert(Op::Bits, Type::integer(types[0].total_bits()), parts[0]), whole);
  else if (types[0].is_float())
    v = pen_.narrow(pen_.bits(parts[0], Type::integer(types[0].bits())), whole);
  else
    v = from_words(whole, parts);
  return pen_.convert(Op::Bits, t, v);
}

std::vector<Value> Porter::words(Value v, const std::vector<Type>& parts) {
  if (parts.size() == 1) return {pen_.widen_u(v, parts[0])};
  v = pen_.widen_u(v, all_of(parts.size()));
  std::vector<Value> out{pen_.narrow(v, word_)};
  for (unsigned k = 1; k < parts.size(); ++k)
    out.push_back(pen_.narrow(pen_.shr_u(v, k * word_.bits()), word_));
  return out;
}
Value Porter::from_words(Type t, std::span<const Value> parts) {
  if (t.is_bool())
    return pen_.make(Op::Ne, {pen_.and_(parts[0], Bits(1)), pen_.number(pen_.type(parts[0]), 0)});
  if (parts.size() == 1) return pen_.narrow(parts[0], t);
  const Type all = all_of(parts.size());
  Value v = pen_.widen_u(parts.back(), all);
  for (size_t k = parts.size() - 1; k-- > 0;) {
    v = pen_.shl(v, word_.bits());
    v = pen_.or_(v, pen_.widen_u(parts[k], all));
  }
  return pen_.narrow(v, t);
}

// Lanes too wide for registers: words as they lie in memory, or where they do not fill words those of each
// element.
std::vector<Value> Porter::memory_words(Value v) {
  Type t = pen_.type(v);
  std::vector<Value> out;
  if (t.total_bits() % word_.bits() == 0) {
    const Type words = word_.with_lanes(t.total_bits() / word_.bits());
    Value all = t == words ? v : pen_.convert(Op::Bits, words, v);
    if (!words.has_lanes()) return {all};
    for (unsigned k = 0; k < words.lanes(); ++k) out.push_back(lane(all, k));
    return out;
  }
  for (unsigned k = 0; k < t.lanes(); ++k) {
    Value x = lane(v, k);
    if (t.is_float()) x = pen_.bits(x, Type::integer(t.bits()));
    for (Value w : words(x, std::vector<Type>(words_of_element(t), word_))) out.push_back(w);
  }
  return out;
}
Value Porter::from_memory_words(Type t, std::span<const Value> parts) {
  bool filled = t.total_bits() % word_.bits() == 0;
  Type whole = filled ? word_.with_lanes(static_cast<unsigned>(parts.size())) : t;
  unsigned step = filled ? 1 : words_of_element(t);
  if (!whole.has_lanes()) return pen_.convert(Op::Bits, t, parts[0]);
  Value v;
  for (unsigned k = 0; k < whole.lanes(); ++k) {
    Value x = parts[k * step];
    if (!filled && !t.is_float()) x = from_words(t.element(), parts.subspan(k * step, step));
    if (!filled && t.is_float()) x = pen_.bits(pen_.narrow(x, Type::integer(t.bits())), t.element());
    Value operands[] = {v, pen_.number(Type::integer(64), k), x};
    v = k == 0
            ? pen_.convert(Op::Splat, whole, x)
            : pen_.function().result(pen_.put({.op = Op::Put, .operands = operands, .results = {&whole, 1}}));
  }
  return whole == t ? v : pen_.convert(Op::Bits, t, v);
}
Value Porter::lane(Value v, unsigned k) {
  Value operands[] = {v, pen_.number(Type::integer(64), k)};
  Type t = pen_.type(v).element();
  return pen_.function().result(pen_.put({.op = Op::Lane, .operands = operands, .results = {&t, 1}}));
}

unsigned Porter::words_of_element(Type t) const { return parts_for(t.bits(), word_.bits()); }

std::vector<Value> call_helper(Legalization& s, FoldingPen& pen, Symbol helper,
                               std::span<const Value> arguments) {
  note_signatures(s);
  const Convention& convention = s.target.convention;
  const Signature declared = s.source_signatures[helper.index];
  if (passes_as_it_stands(convention, declared)) return pen.call(helper, arguments);
  Passing way = passing(convention, declared);
  assert(!way.through_memory && "helpers' results fit registers");
  Porter porter(pen, convention);
  std::vector<std::vector<Value>> parts;
  for (Value v : arguments) parts.push_back(porter.taken_apart(v, false));
  std::vector<Value> operands;
  for (size_t k = 0; k < way.parameters.size(); ++k) {
    PassedPart p = way.parameters[k];
    operands.push_back(p.owner < 0 ? pen.number(way.legal.parameters[k], 0)
                                   : parts[static_cast<size_t>(p.owner)][p.part]);
  }
  Function& f = pen.function();
  Instruction made =
      pen.put({.op = Op::Call, .operands = operands, .results = way.legal.results, .detail = helper.index});
  std::vector<Value> out;
  for (size_t k = 0, at = 0; k < declared.results.size(); ++k) {
    std::vector<Value> of_one;
    for (; at < way.results.size() && way.results[at].owner == static_cast<int>(k); ++at)
      of_one.push_back(f.result(made, at));
    out.push_back(porter.put_together(declared.results[k], of_one, true));
  }
  return out;
}

}  // namespace porphyry::machine
