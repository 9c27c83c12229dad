#include "porphyry/ir/operations.h"

#include <algorithm>
#include <array>

namespace porphyry {
namespace {

constexpr uint8_t B = 1 << static_cast<int>(Shape::Bool), I = 1 << static_cast<int>(Shape::Integer),
                  F = 1 << static_cast<int>(Shape::Float), P = 1 << static_cast<int>(Shape::Pointer);
constexpr uint8_t none = 0, commutes = 1, traps = 2, reads = 4, writes = 8, ends = 16, calls = 32,
                  reserves = 64;

constexpr std::array<OperationInfo, operation_count> rows = {{
#define PORPHYRY_OPERATION(enumerator, name, layout, accepts, result, traits, doc) \
  OperationInfo{Op::enumerator, name, Layout::layout, accepts, ResultRule::result, traits, doc},
#include "porphyry/ir/operations.inc"
#undef PORPHYRY_OPERATION
}};

constexpr auto by_name = [] {
  std::array<uint16_t, operation_count> order{};
  for (size_t i = 0; i < order.size(); ++i) order[i] = static_cast<uint16_t>(i);
  std::sort(order.begin(), order.end(), [](auto a, auto b) { return rows[a].name < rows[b].name; });
  return order;
}();

}  // namespace

bool OperationInfo::commutes() const { return traits & porphyry::commutes; }
bool OperationInfo::may_trap() const { return traits & traps; }
bool OperationInfo::reads_memory() const { return traits & reads; }
bool OperationInfo::writes_memory() const { return traits & writes; }
bool OperationInfo::ends_block() const { return traits & ends; }
bool OperationInfo::is_pure() const { return (traits & ~porphyry::commutes) == 0; }

unsigned OperationInfo::arity() const {
  switch (layout) {
    case Layout::One:
    case Layout::Convert: return 1;
    case Layout::Two: return 2;
    case Layout::Three:
    case Layout::Pick: return 3;
    default: return 0;
  }
}

const OperationInfo& info(Op op) { return rows[static_cast<size_t>(op)]; }
std::span<const OperationInfo> all_operations() { return rows; }

std::optional<Op> operation_named(std::string_view name) {
  auto at = std::lower_bound(by_name.begin(), by_name.end(), name,
                             [](uint16_t row, std::string_view n) { return rows[row].name < n; });
  if (at == by_name.end() || rows[*at].name != name) return std::nullopt;
  return rows[*at].op;
}

std::optional<std::string> conversion_problem(Op op, Type from, Type to) {
  auto refuse = [&](const char* rule) { return std::string(info(op).name) + " takes " + rule; };
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
      if (from == Type::f32() && to == Type::f64()) return std::nullopt;
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
      if (from.bits() == to.bits() && from != to) return std::nullopt;
      return refuse("a value to another type of the same number of bits");
    default: return refuse("no conversion");
  }
}

}  // namespace porphyry
