// Operations that a book does not cover, said in others that it does.
#pragma once

#include "folding_pen.h"
#include "helpers.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

// The number 0x0f0f… whose ones and zeros alternate in runs of `run` bits, ones lowest.
constexpr uint64_t stripes(unsigned run, unsigned width) {
  uint64_t m = 0;
  for (unsigned k = 0; k < width; k += 2 * run) m |= static_cast<uint64_t>(mask_of(run)) << k;
  return m;
}

class Expander {
 public:
  Expander(Module& module, Function& function, const Coverage& coverage, Helpers& helpers)
      : f_(function), pen_(module, function), coverage_(coverage), helpers_(helpers) {}

  FoldingPen& pen() { return pen_; }

  // Writes `op`, or what stands for it. `result` may be left out where it follows from the operands.
  Value make(Op op, std::vector<Value> operands, Type result = {});
  // What stands for an operation with two results.
  std::pair<Value, Value> make_pair(Op op, const std::vector<Value>& operands);

 private:
  using Operands = std::vector<Value>;

  Value overflow(Op op, const Operands& v, Value wrapped, Type type);
  Value saturating(Op op, const Operands& v, Type type);
  Value expand(Op op, const Operands& v, Type type, Type result);
  Value uncovered(Op op, const Operands& v, Type result);
  Value bools_compared(Op op, const Operands& v);
  Value narrow(Op op, const Operands& v, Type type, Type result);
  Value divide_narrow(const Operands& v, Type type);
  Value rotate(Op op, const Operands& v, Type type);
  Value float_by_bits(Op op, const Operands& v, Type type);
  Value float_extreme(Op op, const Operands& v, Type type);
  Value to_int(Op op, Value v, Type from, Type to);
  Value to_float_unsigned(Value v, Type from, Type to);
  Value high_product(Op op, const Operands& v, Type type);
  Value popcount(Value v, Type type);
  Value reverse(Value v, Type type, unsigned smallest);
  Value whole_number(Op op, Value v, Type type);
  Value helper(const char* name, const Operands& v, Type type);

  Value number(Type t, uint64_t n) { return f_.constant(t, n); }
  Value convert(Op op, Type to, Value v) { return f_.type(v) == to ? v : make(op, {v}, to); }

  Function& f_;
  FoldingPen pen_;
  const Coverage& coverage_;
  Helpers& helpers_;
};

}  // namespace porphyry::machine
