// Numbers of the text form to bits and back.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "porphyry/ir/type.h"

namespace porphyry::text {

// Bits of an integer literal for a type, or what is wrong with it: signed or unsigned of the width.
std::optional<uint64_t> integer_bits(std::string_view digits, Type type);
// Bits of a float literal: decimal, hex, inf, nan, nan(payload).
std::optional<uint64_t> float_bits(std::string_view word, Type type);
// Any literal of the type, words such as true and null included.
std::optional<uint64_t> literal_bits(std::string_view word, Type type);
// The shortest text that reads back to the same bits.
std::string literal_text(uint64_t bits, Type type);

}  // namespace porphyry::text
