// Operations on lanes, from what they compute on one.
#include <array>
#include <vector>

#include "porphyry/ir/compute.h"

namespace porphyry {
namespace {

Bits reduced(Op op, Type type, std::span<const Bits> in) {
  Op step = joining_op(op);
  Bits so_far = in[0];
  for (size_t k = 1; k < in.size(); ++k) {
    Bits pair[] = {so_far, in[k]};
    so_far = compute(step, type.element(), type.element(), pair).bits;
  }
  return so_far;
}

// Lane 0 is least significant, elements side by side without gaps.
void reinterpreted(Type from, Type to, std::span<const Bits> in, std::span<Bits> out) {
  std::vector<bool> bits;
  bits.reserve(from.total_bits());
  for (unsigned k = 0; k < from.lanes(); ++k)
    for (unsigned b = 0; b < from.bits(); ++b) bits.push_back(in[k] >> b & 1);
  for (unsigned k = 0; k < to.lanes(); ++k) {
    out[k] = 0;
    for (unsigned b = 0; b < to.bits(); ++b) out[k] |= Bits(bits[k * to.bits() + b]) << b;
  }
}

bool lane_by_lane(Op op, std::span<const Type> operands, std::span<const Type> results,
                  std::span<const Bits> in, std::span<Bits> out) {
  unsigned lanes = results[0].lanes();
  size_t typed = info(op).roles().starts_with(static_cast<char>(OperandRole::Condition)) ? 1 : 0;
  Type operand = operands[typed].element(), result = results[0].element();
  for (unsigned lane = 0; lane < lanes; ++lane) {
    std::array<Bits, 3> v{};
    size_t at = 0;
    for (size_t k = 0; k < operands.size(); ++k) {
      v[k] = in[at + (operands[k].has_lanes() ? lane : 0)];  // a single condition picks all lanes alike
      at += operands[k].lanes();
    }
    Computed c = compute(op, operand, result, {v.data(), operands.size()});
    if (c.trapped) return false;
    out[lane] = c.bits;
    if (results.size() == 2) out[lanes + lane] = c.second;
  }
  return true;
}

}  // namespace

Op joining_op(Op op) {
  switch (op) {
    case Op::Sum: return Op::Add;
    case Op::Product: return Op::Mul;
    case Op::LeastS: return Op::MinS;
    case Op::LeastU: return Op::MinU;
    case Op::GreatestS: return Op::MaxS;
    case Op::GreatestU: return Op::MaxU;
    case Op::Least: return Op::Min;
    case Op::Greatest: return Op::Max;
    case Op::Any: return Op::Or;
    default: return Op::And;
  }
}

bool compute_lanes(Op op, std::span<const Type> operands, std::span<const Type> results,
                   std::span<const Bits> in, std::span<Bits> out, std::span<const uint16_t> lanes) {
  unsigned count = operands[0].lanes();
  switch (info(op).layout) {
    case Layout::Splat:
      for (Bits& w : out) w = in[0];
      return true;
    case Layout::Lane: out[0] = in[static_cast<size_t>(in[count] % count)]; return true;
    case Layout::Put:
      for (unsigned k = 0; k < count; ++k) out[k] = in[k];
      out[static_cast<size_t>(in[count] % count)] = in[count + 1];
      return true;
    case Layout::Shuffle:
      for (size_t k = 0; k < lanes.size(); ++k) out[k] = in[lanes[k]];
      return true;
    case Layout::Interleave:
      for (unsigned k = 0; k < count; ++k) out[2 * k] = in[k], out[2 * k + 1] = in[count + k];
      return true;
    case Layout::Reduce: out[0] = reduced(op, operands[0], in); return true;
    default: break;
  }
  if (op == Op::Bits && (operands[0].has_lanes() || results[0].has_lanes())) {
    reinterpreted(operands[0], results[0], in, out);
    return true;
  }
  return lane_by_lane(op, operands, results, in, out);
}

}  // namespace porphyry
