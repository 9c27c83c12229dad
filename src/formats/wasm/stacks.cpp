#include "stacks.h"

#include <fmt/format.h>

namespace porphyry::wasm {

uint32_t Stacks::memory_offset(unsigned bits) {
  uint32_t align = in_.u32(), offset = in_.u32();
  if (in_.good() && (align > 4 || (8u << align) > bits))
    fail(fmt::format("an alignment of 2^{} bytes for an access of {}", align, bits / 8),
         "at most the width of the access");
  return offset;
}

Operand Stacks::missing(ValueType wanted) {
  fail(fmt::format("'{}' takes {} from the stack, but the block has none there", name_,
                   wanted == ValueType::Unknown ? "a value" : type_name(wanted)));
  return {wanted};
}

Operand Stacks::mismatch(ValueType wanted, ValueType is) {
  fail(fmt::format("'{}' takes {}, but {} is on the stack", name_, type_name(wanted), type_name(is)),
       std::string(type_name(wanted)));
  return {wanted};
}

void Stacks::too_many(size_t left) {
  fail(fmt::format("{} left on the stack where the block ends", counted(left, "value is", "values are")),
       "nothing but the block's results");
}

}  // namespace porphyry::wasm
