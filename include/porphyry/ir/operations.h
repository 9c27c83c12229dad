// The operations of the IR, as data. One row an operation, in operations.inc; everything that asks "what is
// this operation?" asks here.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "porphyry/ir/type.h"

namespace porphyry {

enum class Op : uint8_t {
#define PORPHYRY_OPERATION(enumerator, ...) enumerator,
#include "porphyry/ir/operations.inc"
#undef PORPHYRY_OPERATION
};

#define PORPHYRY_OPERATION(...) +1
inline constexpr size_t operation_count = 0
#include "porphyry/ir/operations.inc"
    ;
#undef PORPHYRY_OPERATION

// How an operation is written. One, Two, Three: that many plain operands; the rest have forms of their own.
// Up to Convert there is one result that is computed lane by lane.
enum class Layout : uint8_t {
  One,
  Two,
  Three,
  Pick,
  Convert,
  Pair,
  Carry,
  Splat,
  Lane,
  Put,
  Shuffle,
  Interleave,
  Reduce,
  Load,
  Store,
  At,
  Reserve,
  AddressOf,
  Release,
  Copy,
  Fill,
  Renew,
  Sole,
  End,
  Call,
  CallThrough,
  Watch,
  Go,
  When,
  Choose,
  Return,
  Trap
};

enum class ResultRule : uint8_t { Same, Truth, SameTwice, SameTruth, Element, Doubled, Stated, Own, None };

struct OperationInfo {
  Op op;
  std::string_view name;
  Layout layout;
  uint8_t accepts;  // bits 1 << Shape
  ResultRule result;
  uint8_t traits;
  uint8_t promises;  // bits of promise::
  std::string_view doc;

  enum Trait : uint8_t {
    commuting = 1,
    trapping = 2,
    reading = 4,
    writing = 8,
    ending = 16,
    calling = 32,
    reserving = 64,
    marking = 128
  };
  constexpr bool commutes() const { return traits & commuting; }
  constexpr bool may_trap() const { return traits & trapping; }
  constexpr bool reads_memory() const { return traits & reading; }
  constexpr bool writes_memory() const { return traits & writing; }
  constexpr bool ends_block() const { return traits & ending; }
  constexpr bool calls() const { return traits & calling; }
  // Says something about the program (sole, end, watch): not to be dropped or merged for being unused.
  constexpr bool marks() const { return traits & marking; }
  // The value depends on the operands alone and computing it shows nothing: it may be folded, merged or
  // dropped.
  constexpr bool is_pure() const { return (traits & ~commuting) == 0; }
  // Computed from plain operands alone, lane by lane or not: compute() knows it.
  bool is_plain() const { return layout <= Layout::Reduce; }
  bool accepts_shape(Shape shape) const { return accepts >> static_cast<unsigned>(shape) & 1; }
  // Operands of plain operations; 0 for the rest.
  unsigned arity() const;
  // Results when the table decides it: calls have those of the function.
  unsigned result_count() const;
};

extern const OperationInfo operation_table[operation_count];
inline const OperationInfo& info(Op op) { return operation_table[static_cast<size_t>(op)]; }
inline std::span<const OperationInfo> all_operations() { return operation_table; }
// Operations that are told apart by what follows the word (call, return call) give the first one.
std::optional<Op> operation_named(std::string_view name);

// Whether a conversion may take a value of type `from` to type `to`; when not, why not.
std::optional<std::string> conversion_problem(Op op, Type from, Type to);

}  // namespace porphyry
