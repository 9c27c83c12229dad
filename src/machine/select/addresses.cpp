#include "addresses.h"

namespace porphyry::machine {
namespace {

// An offset far outside of a frame object might not fit once the object has its place.
bool near(const Function& f, Instruction reserve, int64_t offset) {
  return std::abs(offset) <= static_cast<int64_t>(f.reserve_shape(reserve).bytes) + 4096;
}

void fold_anchor(const Function& f, AddressParts& p, Instruction d) {
  p.base = {};
  p.reserve = f.op(d) == Op::Reserve ? d : Instruction();
  p.anchor = p.reserve.exists() ? Anchor::Slot : Anchor::Symbol;
  if (!p.reserve.exists()) p.anchored = f.symbol(d).index;
}

// Folds an `at` that makes the base into the parts; false when they do not fit into one address.
bool fold_at(const Function& f, AddressParts& p, Instruction d, const AddressShape& shape) {
  const Address& below = f.address(d);
  int64_t sum = p.offset + below.offset;
  bool index_fits = !below.indexed || (!p.index.exists() && !shape.scales.empty());
  if (!index_fits || !shape.offset_fits(sum)) return false;
  if (below.indexed) p.index = f.operand(d, 1), p.scale = below.scale;
  p.offset = sum;
  p.base = f.operand(d, 0);
  return true;
}

void fold_constant_index(const Function& f, AddressParts& p, const AddressShape& shape) {
  int64_t sum = p.offset + static_cast<int64_t>(f.constant_bits(p.index)) * p.scale;
  if (p.reserve.exists() ? near(f, p.reserve, sum) : shape.offset_fits(sum)) p.offset = sum, p.index = {};
}

}  // namespace

AddressParts address_parts(const Function& f, Instruction access, const AddressShape& shape) {
  AddressParts p;
  Op op = f.op(access);
  if (op == Op::Reserve || op == Op::AddressOf) {
    fold_anchor(f, p, access);
    return p;
  }
  size_t base = op == Op::Store ? 1 : 0;
  const Address& a = f.address(access);
  p.base = f.operand(access, base);
  p.offset = a.offset;
  p.scale = a.scale;
  if (a.indexed) p.index = f.operand(access, base + 1);
  for (Instruction d = f.definition(p.base); d.exists();
       d = p.base.exists() ? f.definition(p.base) : Instruction()) {
    if (f.op(d) == Op::At) {
      if (!fold_at(f, p, d, shape)) break;
      continue;
    }
    bool folds = f.op(d) == Op::Reserve ? near(f, d, p.offset)
                                        : f.op(d) == Op::AddressOf && shape.symbols && !p.index.exists();
    if (folds) fold_anchor(f, p, d);
    break;
  }
  if (p.index.exists() && f.is_constant(p.index)) fold_constant_index(f, p, shape);
  return p;
}

}  // namespace porphyry::machine
