#include "known_operations.h"

#include <algorithm>

namespace porphyry {

uint32_t KnownOperations::hash(Instruction i, std::span<const Value> operands, MemoryVersion memory) const {
  size_t h = static_cast<size_t>(f_.op(i)) * 0x9e3779b97f4a7c15u + memory.code;
  auto mix = [&](size_t v) { h = (h ^ v) * 0xff51afd7ed558ccdu, h ^= h >> 29; };
  if (exchangeable(i)) {
    uint32_t a = operands[0].index, b = operands[1].index;
    mix(std::min(a, b)), mix(std::max(a, b));
  } else {
    for (Value v : operands) mix(v.index);
  }
  mix(f_.type(f_.result(i)).total_bits());
  if (f_.op(i) == Op::AddressOf) mix(f_.symbol(i).index);
  if (f_.op(i) == Op::Load || f_.op(i) == Op::At)
    mix(static_cast<size_t>(f_.address(i).offset * 31 + f_.address(i).scale));
  return static_cast<uint32_t>(h >> 16);
}

bool KnownOperations::equal(Instruction known, Instruction like, std::span<const Value> operands) const {
  if (f_.op(known) != f_.op(like) || f_.operand_count(known) != operands.size() ||
      f_.result_count(known) != f_.result_count(like) ||
      f_.type(f_.result(known)) != f_.type(f_.result(like)))
    return false;
  bool same = true;
  for (size_t k = 0; k < operands.size(); ++k) same &= f_.operand(known, k) == operands[k];
  bool crossed =
      exchangeable(known) && f_.operand(known, 0) == operands[1] && f_.operand(known, 1) == operands[0];
  if (!same && !crossed) return false;
  switch (info(f_.op(known)).detail()) {
    case Detail::Symbol: return f_.symbol(known) == f_.symbol(like);
    case Detail::Lanes:
      for (size_t k = 0; k < f_.type(f_.result(known)).lanes(); ++k)
        if (f_.shuffle_lane(known, k) != f_.shuffle_lane(like, k)) return false;
      return true;
    case Detail::Address: {
      const Address &x = f_.address(known), &y = f_.address(like);
      // An early load's value may be arbitrary where another one's is not.
      return x.offset == y.offset && x.scale == y.scale && x.indexed == y.indexed && x.masked == y.masked &&
             (!x.early || y.early) && x.is_volatile == y.is_volatile;
    }
    default: return true;
  }
}

}  // namespace porphyry
