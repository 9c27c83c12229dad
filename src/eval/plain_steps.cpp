// Plain operations: what compute() says, with promises kept and permits taken at their word.
#include <fmt/format.h>

#include <bit>
#include <cmath>

#include "machine.h"

namespace porphyry {

using eval::Step;

void Evaluator::Machine::plain(const Step& s, Datum* slots) {
  if (s.op == Op::Bits && (s.operand.is_pointer() || s.result.is_pointer())) return reinterpret(s, slots);
  if (s.op == Op::Pick && !s.operand.has_lanes()) {
    slots[s.out] = slots[s.slots[slots[s.slots[0]].bits & 1 ? 1 : 2]];
    return;
  }
  bool lanes = s.operand.has_lanes() || s.result.has_lanes() || info(s.op).layout >= Layout::Splat;
  lanes ? with_lanes(s, slots) : scalar(s, slots);
}

// bits of a pointer reveal its object; a pointer from bits reaches revealed objects only.
void Evaluator::Machine::reinterpret(const Step& s, Datum* slots) {
  if (s.operand.has_lanes() || s.result.has_lanes()) {  // lanes side by side in as many bits
    std::vector<Bits> in, out(s.result.lanes());
    Datum first = slots[s.slots[0]];
    if (s.operand.is_pointer() && first.object()) memory_.reveal(first.object());
    for (unsigned k = 0; k < s.operand.lanes(); ++k) in.push_back(slots[s.slots[0] + k].bits);
    Type from = s.operand.is_pointer() ? Type::integer(s.operand.bits()) : s.operand;
    compute_lanes(Op::Bits, {&from, 1}, {&s.result, 1}, in, out);
    for (unsigned k = 0; k < s.result.lanes(); ++k) slots[s.out + k] = Datum::of(out[k]);
    if (s.result.is_pointer()) slots[s.out] = memory_.pointer_of(slots[s.out].bits);
    return;
  }
  Datum v = slots[s.slots[0]];
  if (s.operand.is_pointer() && v.object()) memory_.reveal(v.object());
  slots[s.out] = s.result.is_pointer() ? memory_.pointer_of(v.bits) : Datum{v.bits, 0};
}

bool Evaluator::Machine::keeps_promises(const Step& s, Type operand, Type result, std::span<const Bits> in) {
  uint8_t broken = s.promises ? broken_promises(s.op, s.promises, operand, result, in) : 0;
  if (!broken) return true;
  fault(fmt::format("'{}' breaks its promise '{}'", info(s.op).name, words_of(broken, promise_words())));
  return false;
}

namespace {

bool is_nan(Bits bits, Type t) {
  return t.bits() == 32 ? std::isnan(std::bit_cast<float>(static_cast<uint32_t>(bits)))
                        : std::isnan(std::bit_cast<double>(static_cast<uint64_t>(bits)));
}
bool is_infinite(Bits bits, Type t) {
  return t.bits() == 32 ? std::isinf(std::bit_cast<float>(static_cast<uint32_t>(bits)))
                        : std::isinf(std::bit_cast<double>(static_cast<uint64_t>(bits)));
}

}  // namespace

// nonan and noinf make a result arbitrary where one occurs; the other permits allow the exact result.
Bits Evaluator::Machine::permitted(const Step& s, Type operand, Type result, std::span<const Bits> in,
                                   Bits out) {
  auto offends = [&](Bits bits, Type t) {
    return t.is_float() && (((s.permits & permit::nonan) && is_nan(bits, t)) ||
                            ((s.permits & permit::noinf) && is_infinite(bits, t)));
  };
  bool broken = offends(out, result);
  for (size_t k = s.op == Op::Pick ? 1 : 0; k < in.size(); ++k) broken |= offends(in[k], operand);
  return broken ? (Bits(memory_.arbitrary()) << 64 | memory_.arbitrary()) & mask_of(result.bits()) : out;
}

void Evaluator::Machine::scalar(const Step& s, Datum* slots) {
  Bits in[3];
  unsigned count = info(s.op).arity();
  for (unsigned k = 0; k < count; ++k) {
    Datum d = slots[s.slots[k]];
    in[k] = s.operand.is_pointer() ? Bits(d.bits) : d.word();
  }
  if (s.promises && !keeps_promises(s, s.operand, s.result, {in, count})) return;
  Computed c = compute(s.op, s.operand, s.result, {in, count});
  if (c.trapped) return end(Outcome::End::Trap, fmt::format("{} by zero or out of range", info(s.op).name));
  if (s.permits & (permit::nonan | permit::noinf))
    c.bits = permitted(s, s.operand, s.result, {in, count}, c.bits);
  slots[s.out] = Datum::of(c.bits);
  if (info(s.op).result_count() == 2) slots[s.out + 1] = Datum::of(c.second);
}

bool Evaluator::Machine::keeps_lane_promises(const Step& s, std::span<const Type> types,
                                             std::span<const Bits> in) {
  if (info(s.op).layout == Layout::Lane || info(s.op).layout == Layout::Put) {
    if (!(s.promises & promise::bounded) || in[types[0].lanes()] < types[0].lanes()) return true;
    fault(fmt::format("'{}' breaks its promise 'bounded'", info(s.op).name));
    return false;
  }
  unsigned lanes = types[0].lanes();
  for (unsigned lane = 0; lane < lanes; ++lane) {
    Bits one[3];
    for (size_t k = 0; k < types.size(); ++k) one[k] = in[k * lanes + lane];
    if (!keeps_promises(s, s.operand.element(), s.result.element(), {one, types.size()})) return false;
  }
  return true;
}

void Evaluator::Machine::with_lanes(const Step& s, Datum* slots) {
  const Function& f = body();
  const eval::Plan& plan = *frames_.back().plan;
  Type types[3], results[2];
  size_t count = f.operand_count(s.origin), result_count = f.result_count(s.origin), out_lanes = 0;
  for (size_t k = 0; k < count; ++k) types[k] = f.type(f.operand(s.origin, k));
  for (size_t k = 0; k < result_count; ++k) {
    results[k] = f.type(f.result(s.origin, k));
    out_lanes += results[k].lanes();
  }
  words_in_.clear();
  for (uint32_t k = 0; k < s.all.count; ++k) words_in_.push_back(slots[plan.lists[s.all.first + k]].word());
  words_out_.assign(out_lanes, 0);
  if (s.promises && !keeps_lane_promises(s, {types, count}, words_in_)) return;
  std::vector<uint16_t> picked;
  if (s.op == Op::Shuffle)
    for (unsigned k = 0; k < results[0].lanes(); ++k) picked.push_back(f.shuffle_lane(s.origin, k));
  if (!compute_lanes(s.op, {types, count}, {results, result_count}, words_in_, words_out_, picked))
    return end(Outcome::End::Trap, fmt::format("{} by zero or out of range in a lane", info(s.op).name));
  if (s.permits & (permit::nonan | permit::noinf)) {
    bool by_lane = info(s.op).layout <= Layout::Convert && info(s.op).layout != Layout::Pick;
    unsigned lanes = results[0].lanes();
    for (unsigned lane = 0; by_lane && lane < lanes; ++lane) {
      Bits one[3];
      for (size_t k = 0; k < count; ++k) one[k] = words_in_[k * lanes + lane];
      words_out_[lane] =
          permitted(s, s.operand.element(), s.result.element(), {one, count}, words_out_[lane]);
    }
  }
  for (size_t k = 0; k < out_lanes; ++k) slots[s.out + k] = Datum::of(words_out_[k]);
}

}  // namespace porphyry
