// Numbers of the text form to bits and back.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/type.h"

namespace porphyry::text {

// Bits of an integer literal for a type, decimal or hex: signed or unsigned of the width. Nothing when it is
// no number or does not fit.
std::optional<Bits> integer_bits(std::string_view digits, Type type);
// Bits of a float literal: decimal, hex, inf, nan, nan(payload).
std::optional<uint64_t> float_bits(std::string_view word, Type type);
// Any literal of a type, words such as true and null included; of lanes, what fills each of them.
std::optional<Bits> literal_bits(std::string_view word, Type type);
// A number or {1, 2, 3, 4}: the words of a constant of the type, see Type::words.
std::optional<std::vector<uint64_t>> literal_words(std::string_view text, Type type);
// The shortest text that reads back to the same bits, of a scalar.
std::string literal_text(Bits bits, Type type);
// The same for any type; `words` as constants have them (Type::words). Lanes that are all alike give one
// number, others {1, 2, 3}.
std::string literal_text(std::span<const uint64_t> words, Type type);

// The words of a constant from its bits side by side, at most 128 of them.
std::vector<uint64_t> lane_words(Type type, Bits bits);

}  // namespace porphyry::text
