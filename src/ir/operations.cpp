#include "porphyry/ir/operations.h"

#include <array>

#include "porphyry/base/hash.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

constexpr uint8_t B = 1 << static_cast<int>(Shape::Bool), I = 1 << static_cast<int>(Shape::Integer),
                  F = 1 << static_cast<int>(Shape::Float), P = 1 << static_cast<int>(Shape::Pointer);
constexpr uint8_t none = 0, commutes = OperationInfo::commuting, traps = OperationInfo::trapping,
                  reads = OperationInfo::reading, writes = OperationInfo::writing,
                  ends = OperationInfo::ending, calls = OperationInfo::calling,
                  reserves = OperationInfo::reserving, marks = OperationInfo::marking;
constexpr uint8_t no_promise = 0;
using promise::separate, promise::lossless, promise::fits_s, promise::fits_u, promise::bounded,
    promise::nonzero;

}  // namespace

constexpr OperationInfo operation_table[operation_count] = {
#define PORPHYRY_OPERATION(enumerator, name, layout, accepts, result, traits, promises) \
  OperationInfo{Op::enumerator, name, Layout::layout, accepts, ResultRule::result, traits, promises},
#include "porphyry/ir/operations.inc"
#undef PORPHYRY_OPERATION
};

namespace {

// Names by hash, open addressing; made once, before the program starts, and never written again.
struct NameTable {
  static constexpr size_t size = 512;
  std::array<uint8_t, size> rows_plus_one{};

  NameTable() {
    for (size_t k = 0; k < operation_count; ++k) {
      size_t at = place(operation_table[k].name);
      if (!rows_plus_one[at]) rows_plus_one[at] = static_cast<uint8_t>(k + 1);
    }
  }
  size_t place(std::string_view name) const {
    size_t at = hash_of(name) % size;
    while (rows_plus_one[at] && operation_table[rows_plus_one[at] - 1u].name != name) at = (at + 1) % size;
    return at;
  }
};
const NameTable by_name;

}  // namespace

unsigned OperationInfo::result_count() const {
  if (result == ResultRule::SameTwice || result == ResultRule::SameTruth) return 2;
  return result == ResultRule::None ? 0 : 1;
}

std::optional<Op> operation_named(std::string_view name) {
  uint8_t found = by_name.rows_plus_one[by_name.place(name)];
  return found ? std::optional(operation_table[found - 1u].op) : std::nullopt;
}

std::optional<std::string> conversion_problem(Op op, Type from, Type to) {
  auto refuse = [&](const char* rule) { return std::string(info(op).name) + " takes " + rule; };
  if (op != Op::Bits && from.lanes() != to.lanes()) return refuse("a value to one of as many lanes");
  bool integers = from.is_integer() && to.is_integer();
  switch (op) {
    case Op::Narrow:
      if (integers && to.bits() < from.bits()) return std::nullopt;
      if (from.is_float() && to.is_float() && to.bits() < from.bits()) return std::nullopt;
      return refuse("an integer to a narrower one, or f64 to f32");
    case Op::WidenS:
      if (integers && to.bits() > from.bits()) return std::nullopt;
      return refuse("an integer to a wider one");
    case Op::WidenU:
      if (to.is_integer() && (from.is_bool() || (integers && to.bits() > from.bits()))) return std::nullopt;
      return refuse("a bool or an integer to a wider integer");
    case Op::Widen:
      if (from.is_float() && to.is_float() && from.bits() < to.bits()) return std::nullopt;
      return refuse("f32 to f64");
    case Op::ToFloatS:
    case Op::ToFloatU:
      if (from.is_integer() && to.is_float()) return std::nullopt;
      return refuse("an integer to a float");
    case Op::ToIntS:
    case Op::ToIntU:
      if (from.is_float() && to.is_integer()) return std::nullopt;
      return refuse("a float to an integer");
    case Op::Bits:
      if (from.total_bits() == to.total_bits() && from != to) return std::nullopt;
      return refuse("a value to another type of the same number of bits in all");
    default: return refuse("no conversion");
  }
}

}  // namespace porphyry
