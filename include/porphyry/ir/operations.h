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

// What an operation consists of besides its meaning. Up to Reduce its results are computed from its operands
// alone, up to Convert lane by lane.
enum class Layout : uint8_t {
#define PORPHYRY_LAYOUT(enumerator, ...) enumerator,
#include "porphyry/ir/layouts.inc"
#undef PORPHYRY_LAYOUT
};

// What an operand is for, and so what its type may be. The letters are those of layouts.inc.
enum class OperandRole : char {
  Same = 's',        // all of these are of one type, which the operation accepts
  Condition = 'c',   // a bool, or one for each lane of the last operand
  Truth = 't',       // a bool for each lane of the first operand
  Source = 'x',      // what a conversion makes the stated type of
  Lanes = 'v',       // lanes that the operation accepts; all of these are of one type
  LaneNumber = 'i',  // an integer
  Element = 'e',     // an element of the first operand or, where it is the first, of the stated type
  Stored = 'w',      // of any type, which is written with a literal
  Byte = 'o',        // an i8
  Pointer = 'p',
  Bytes = 'n',     // a number of bytes, as wide as the pointer before it
  Flag = 'f',      // a bool
  Number = 'k',    // an integer without lanes
  Address = '@',   // a Pointer, and what the address says that it has besides:
  Index = 'j',     // as wide as the pointer
  Mask = 'm',      // a bool for each lane of what is accessed
  Inactive = 'd',  // of a load: what lanes without access have
  Any = '*'        // any number of operands, whose types come from elsewhere
};

// What an instruction carries besides operands, results and edges.
enum class Detail : uint8_t { None, Address, Copy, Reserve, Symbol, Name, Lanes, Cases };

struct LayoutInfo {
  std::string_view roles;  // letters of OperandRole
  Detail detail;
  bool stated;  // the type of the result stands behind the operation
  // How many operands there are; nothing when addresses or the instruction decide it.
  constexpr std::optional<unsigned> operand_count() const {
    if (roles.find_first_of("@*") != roles.npos) return std::nullopt;
    return static_cast<unsigned>(roles.size());
  }
};

inline constexpr LayoutInfo layout_table[] = {
#define PORPHYRY_LAYOUT(enumerator, operands, detail, stated) {operands, Detail::detail, stated},
#include "porphyry/ir/layouts.inc"
#undef PORPHYRY_LAYOUT
};
constexpr const LayoutInfo& info(Layout l) { return layout_table[static_cast<size_t>(l)]; }

enum class ResultRule : uint8_t { Same, Truth, SameTwice, SameTruth, Element, Doubled, Stated, Own, None };

struct OperationInfo {
  Op op;
  std::string_view name;
  Layout layout;
  uint8_t accepts;  // bits 1 << Shape
  ResultRule result;
  uint8_t traits;
  uint8_t promises;  // bits of promise::

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
  Detail detail() const { return info(layout).detail; }
  std::string_view roles() const { return info(layout).roles; }
  // Operands of plain operations; 0 for the rest.
  unsigned arity() const { return is_plain() ? static_cast<unsigned>(roles().size()) : 0; }
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
