// What writer and reader of the packed form agree on. Numbers are LEB128: seven bits a byte, low ones first,
// the top bit says that more follow; a number is at most 64 bits long. "ref" is an index plus one; zero is
// nothing.
#pragma once

#include <cstdint>

#include "porphyry/ir/operations.h"
#include "porphyry/ir/type.h"

namespace porphyry::packed {

inline constexpr char magic[4] = {'P', 'O', 'R', 'B'};

// Of a symbol.
enum : uint8_t {
  is_local = 4,
  is_weak = 8,
  is_const = 16,
  is_variadic = 32
};  // above two bits of SymbolKind
// Of a comment outside of functions, above the seven places it may have.
inline constexpr uint8_t comment_has_part = 16;
// Of an instruction; what each bit announces follows in this order.
enum : uint8_t {
  has_promises = 1,
  has_permits = 2,
  has_position = 4,
  hint_shift = 3,   // two bits
  has_names = 32,   // of results
  has_weights = 64  // of edges
};
// Of an address.
enum : uint8_t { indexed = 1, masked = 2, is_volatile = 4, early = 8, as_unwritten = 16, has_kind = 32, guarded = 64 };

constexpr uint64_t type_code(Type t) {
  return uint64_t(t.shape()) | uint64_t(t.bits()) << 3 | uint64_t(t.lanes() - 1u) << 11;
}

constexpr uint64_t zigzag(int64_t v) {
  return static_cast<uint64_t>(v) << 1 ^ static_cast<uint64_t>(v >> 63);
}
constexpr int64_t unzigzag(uint64_t v) { return static_cast<int64_t>(v >> 1) ^ -static_cast<int64_t>(v & 1); }

// Whether an operation's operands are not counted in the file. Version 1 counts those of all others, however
// many letters they have in the table of layouts.
inline bool has_fixed_operands(const OperationInfo& row) { return row.is_plain() || row.op == Op::When; }

}  // namespace porphyry::packed
