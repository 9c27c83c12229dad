#include "fold_addresses.h"

#include "porphyry/ir/edit.h"

namespace porphyry {
namespace {

// An address and its operands, in one place.
struct Parts {
  Address shape;
  Value base, index;
};

bool add(int64_t& offset, int64_t n, int64_t times) {
  int64_t product, sum;
  if (__builtin_mul_overflow(n, times, &product) || __builtin_add_overflow(offset, product, &sum))
    return false;
  offset = sum;
  return true;
}

// One step; false when there is none. Addresses are sums modulo their width, as indices are.
bool step(const Function& f, Parts& p) {
  Type pointer = f.type(p.base);
  auto signed_bits = [&](Value v) {
    return static_cast<int64_t>(static_cast<__int128>(sign_extended(f.constant_bits(v), pointer.bits())));
  };
  if (p.index.exists()) {
    if (f.is_constant(p.index)) {
      if (!add(p.shape.offset, signed_bits(p.index), p.shape.scale)) return false;
      p.index = {}, p.shape.scale = 1, p.shape.indexed = false;
      return true;
    }
    Instruction sum = f.definition(p.index);
    if (sum.exists() && f.op(sum) == Op::Add && f.is_constant(f.operand(sum, 1))) {
      if (!add(p.shape.offset, signed_bits(f.operand(sum, 1)), p.shape.scale)) return false;
      p.index = f.operand(sum, 0);
      return true;
    }
    // i * 2^k: at most what every target's addresses scale by.
    if (sum.exists() && f.op(sum) == Op::Shl && f.is_constant(f.operand(sum, 1)) &&
        f.constant_bits(f.operand(sum, 1)) <= 3 && p.shape.scale == 1) {
      p.shape.scale = int64_t(1) << f.constant_bits(f.operand(sum, 1));
      p.index = f.operand(sum, 0);
      return true;
    }
  }
  Instruction at = f.definition(p.base);
  if (!at.exists() || f.op(at) != Op::At) return false;
  const Address& inner = f.address(at);
  if (inner.indexed && p.index.exists()) return false;
  if (!add(p.shape.offset, inner.offset, 1)) return false;
  if (inner.indexed) p.index = f.operand(at, 1), p.shape.scale = inner.scale, p.shape.indexed = true;
  p.base = f.operand(at, 0);
  return true;
}

}  // namespace

Instruction fold_address(Function& f, Instruction i) {
  if (f.op(i) != Op::Load && f.op(i) != Op::Store && f.op(i) != Op::At) return {};
  const size_t first = f.op(i) == Op::Store ? 1 : 0;
  const Address before = f.address(i);
  Parts p{before, f.operand(i, first), before.indexed ? f.operand(i, first + 1) : Value()};
  bool changed = false;
  while (step(f, p)) changed = true;
  if (!changed) return {};
  if (p.shape.indexed == before.indexed) {
    f.set(f.operand_slot(i, first), p.base);
    if (p.shape.indexed) f.set(f.operand_slot(i, first + 1), p.index);
    f.set_address(i, p.shape);
    return i;
  }
  std::vector<Value> operands;
  if (first) operands.push_back(f.operand(i, 0));
  operands.push_back(p.base);
  if (p.shape.indexed) operands.push_back(p.index);
  for (size_t k = first + before.operand_count(); k < f.operand_count(i); ++k)
    operands.push_back(f.operand(i, k));
  Type result = f.result_count(i) ? f.type(f.result(i)) : Type();
  Instruction made = f.insert_before(i, {.op = f.op(i),
                                         .operands = operands,
                                         .results = {&result, f.result_count(i)},
                                         .detail = f.add_address(p.shape),
                                         .position = f.position(i),
                                         .promises = f.promises(i),
                                         .permits = f.permits(i)});
  if (f.result_count(i)) {
    hand_name_over(f, f.result(i), f.result(made));
    f.replace_uses(f.result(i), f.result(made));
  }
  f.erase(i);
  return made;
}

}  // namespace porphyry
