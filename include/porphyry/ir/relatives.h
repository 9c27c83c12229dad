// Comparisons that say the same of the same two operands.
#pragma once

#include "porphyry/ir/operations.h"

namespace porphyry {

// a OP b is b MIRRORED a; not (a OP b) is a OPPOSITE b.
struct Relatives {
  Op op, mirrored, opposite;
};
inline constexpr Relatives relatives[] = {{Op::Eq, Op::Eq, Op::Ne},
                                          {Op::Ne, Op::Ne, Op::Eq},
                                          {Op::LtS, Op::GtS, Op::GeS},
                                          {Op::LeS, Op::GeS, Op::GtS},
                                          {Op::GtS, Op::LtS, Op::LeS},
                                          {Op::GeS, Op::LeS, Op::LtS},
                                          {Op::LtU, Op::GtU, Op::GeU},
                                          {Op::LeU, Op::GeU, Op::GtU},
                                          {Op::GtU, Op::LtU, Op::LeU},
                                          {Op::GeU, Op::LeU, Op::LtU},
                                          // Of floats these are all false where one is no number: none is
                                          // another's opposite, each stands for itself.
                                          {Op::Lt, Op::Gt, Op::Lt},
                                          {Op::Gt, Op::Lt, Op::Gt},
                                          {Op::Le, Op::Ge, Op::Le},
                                          {Op::Ge, Op::Le, Op::Ge}};

// Null for what is no comparison, and for `unordered`.
constexpr const Relatives* relatives_of(Op op) {
  for (const Relatives& r : relatives)
    if (r.op == op) return &r;
  return nullptr;
}

// Of orderings of integers: whether they see signs, and whether a is the smaller one where a OP b holds.
constexpr bool sees_signs(Op op) {
  return op == Op::LtS || op == Op::LeS || op == Op::GtS || op == Op::GeS;
}
constexpr bool is_below(Op op) {
  return op == Op::LtS || op == Op::LeS || op == Op::LtU || op == Op::LeU;
}

}  // namespace porphyry
