#include "porphyry/text/literals.h"

#include <fmt/format.h>

#include <bit>
#include <charconv>
#include <cmath>

#include "porphyry/ir/compute.h"

namespace porphyry::text {
namespace {

struct FloatShape {
  unsigned mantissa;  // bits
  uint64_t exponent;  // all ones, in place
  uint64_t quiet;     // the plain nan
};
FloatShape shape_of(Type type) {
  if (type.bits() == 32) return {23, 0x7f800000, 0x7fc00000};
  return {52, 0x7ff0000000000000, 0x7ff8000000000000};
}

std::optional<uint64_t> magnitude(std::string_view digits, int base) {
  uint64_t n = 0;
  auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), n, base);
  if (error != std::errc() || end != digits.data() + digits.size() || digits.empty()) return std::nullopt;
  return n;
}

}  // namespace

std::optional<uint64_t> integer_bits(std::string_view digits, Type type) {
  bool negative = digits.starts_with('-');
  if (negative) digits.remove_prefix(1);
  bool hex = digits.starts_with("0x") || digits.starts_with("0X");
  if (hex) digits.remove_prefix(2);
  auto n = magnitude(digits, hex ? 16 : 10);
  if (!n) return std::nullopt;
  uint64_t mask = static_cast<uint64_t>(mask_of(type.bits()));
  uint64_t half = (mask >> 1) + 1;  // the magnitude of the least signed value
  if (negative) return *n <= half ? std::optional((0 - *n) & mask) : std::nullopt;
  return *n <= mask ? n : std::nullopt;
}

std::optional<uint64_t> float_bits(std::string_view word, Type type) {
  FloatShape shape = shape_of(type);
  uint64_t sign = 0;
  if (word.starts_with('-')) {
    sign = uint64_t(1) << (type.bits() - 1);
    word.remove_prefix(1);
  }
  if (word == "inf") return sign | shape.exponent;
  if (word == "nan") return sign | shape.quiet;
  if (word.starts_with("nan(") && word.ends_with(")")) {
    auto payload = integer_bits(word.substr(4, word.size() - 5), Type::integer(64));
    if (!payload || *payload == 0 || *payload >> shape.mantissa) return std::nullopt;
    return sign | shape.exponent | *payload;
  }
  bool hex = word.starts_with("0x") || word.starts_with("0X");
  if (hex) word.remove_prefix(2);
  if (word.empty() || word.front() == '+' || word.front() == '-') return std::nullopt;
  auto form = hex ? std::chars_format::hex : std::chars_format::general;
  auto read = [&](auto value) -> std::optional<uint64_t> {
    auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value, form);
    if (error != std::errc() || end != word.data() + word.size()) return std::nullopt;
    if constexpr (sizeof(value) == 4)
      return sign | std::bit_cast<uint32_t>(value);
    else
      return sign | std::bit_cast<uint64_t>(value);
  };
  return type.bits() == 32 ? read(float()) : read(double());
}

std::optional<uint64_t> literal_bits(std::string_view word, Type type) {
  switch (type.shape()) {
    case Shape::Bool:
      if (word == "true") return 1;
      return word == "false" ? std::optional<uint64_t>(0) : std::nullopt;
    case Shape::Pointer: return word == "null" ? std::optional<uint64_t>(0) : std::nullopt;
    case Shape::Integer: return integer_bits(word, type);
    case Shape::Float:
      // "Floats need a point or exponent", so that a literal's kind is seen at a glance.
      if (word.find_first_of(".eEpPn") == std::string_view::npos) return std::nullopt;
      return float_bits(word, type);
    case Shape::None: break;
  }
  return std::nullopt;
}

std::string literal_text(uint64_t bits, Type type) {
  if (type.is_bool()) return bits ? "true" : "false";
  if (type.is_pointer()) return bits == 0 ? "null" : fmt::format("{:#x}", bits);
  if (type.is_integer()) {
    int64_t value = static_cast<int64_t>(bits << (64 - type.bits())) >> (64 - type.bits());
    return fmt::format("{}", value);
  }
  FloatShape shape = shape_of(type);
  uint64_t sign = uint64_t(1) << (type.bits() - 1), plain = bits & ~sign;
  std::string minus = bits & sign ? "-" : "";
  if (plain == shape.exponent) return minus + "inf";
  if (plain == shape.quiet) return minus + "nan";
  if (plain > shape.exponent) return minus + fmt::format("nan({:#x})", plain & ~shape.exponent);
  std::string out = type.bits() == 32 ? fmt::format("{}", std::bit_cast<float>(static_cast<uint32_t>(bits)))
                                      : fmt::format("{}", std::bit_cast<double>(bits));
  return out.find_first_of(".e") == std::string::npos ? out + ".0" : out;
}

}  // namespace porphyry::text
