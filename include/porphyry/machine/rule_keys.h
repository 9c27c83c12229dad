// What tells rules apart before their patterns are tried: operation and type of a node as one number. The
// bookbinder writes these keys into the tables, and the index looks instructions up by them.
#pragma once

#include <cstdint>

#include "porphyry/ir/operations.h"
#include "porphyry/ir/type.h"

namespace porphyry::machine {

// What a type is carried as in a register: bool as i8, ptr as an integer of its width.
constexpr Type carrier(Type t) {
  return t.has_lanes() ? t : t.is_bool() ? Type::integer(8) : t.is_pointer() ? Type::integer(t.bits()) : t;
}

// Types as rules tell them apart: integers and floats by the register view that holds them, lanes by their
// element.
constexpr uint16_t type_key(Type t) {
  if (!t.exists()) return 0;
  t = t.is_bool() ? Type::integer(8).with_lanes(t.lanes()) : carrier(t);
  if (t.has_lanes()) return static_cast<uint16_t>(7 + type_key(t.element()));
  if (t.is_float()) return t.bits() == 32 ? 5 : 6;
  return t.bits() == 8 ? 1 : t.bits() == 16 ? 2 : t.bits() == 32 ? 3 : 4;
}
inline constexpr uint16_t type_keys = 14;

// Operations whose rules are told apart by the result's type, or by no type at all: those that take an
// address or a bool. All others: by an operand's.
constexpr bool is_keyed_by_result(Op op) { return op == Op::Load; }
constexpr bool is_keyed_by_nothing(Op op) {
  return op == Op::At || op == Op::AddressOf || op == Op::When || op == Op::Trap;
}

constexpr uint16_t node_key(Op op, Type t) {
  return static_cast<uint16_t>(static_cast<uint16_t>(op) * type_keys +
                               (is_keyed_by_nothing(op) ? 0 : type_key(t)));
}
inline constexpr size_t node_keys = operation_count * type_keys;
inline constexpr uint16_t no_node_key = 0xffff;  // of a pattern without an inner node; the greatest

}  // namespace porphyry::machine
