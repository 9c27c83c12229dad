#include "porphyry/print/literals.h"

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

std::optional<Bits> magnitude(std::string_view digits, unsigned base) {
  if (digits.empty() || digits.size() > 128) return std::nullopt;
  if (digits.size() <= (base == 10 ? 19 : 16)) {  // fits 64 bits whatever the digits are
    uint64_t n = 0;
    auto [end, error] =
        std::from_chars(digits.data(), digits.data() + digits.size(), n, static_cast<int>(base));
    if (error != std::errc() || end != digits.data() + digits.size()) return std::nullopt;
    return n;
  }
  Bits n = 0;
  for (char c : digits) {
    unsigned d = c >= '0' && c <= '9'   ? unsigned(c - '0')
                 : c >= 'a' && c <= 'f' ? unsigned(c - 'a') + 10
                 : c >= 'A' && c <= 'F' ? unsigned(c - 'A') + 10
                                        : 99;
    if (d >= base || n > (~Bits(0) - d) / base) return std::nullopt;
    n = n * base + d;
  }
  return n;
}

std::string decimal(Bits n) {
  if (n >> 64 == 0) return fmt::format_int(static_cast<uint64_t>(n)).str();
  constexpr uint64_t step = 10'000'000'000'000'000'000u;
  return decimal(n / step) + fmt::format("{:019}", static_cast<uint64_t>(n % step));
}

}  // namespace

std::optional<Bits> integer_bits(std::string_view digits, Type type) {
  bool negative = digits.starts_with('-');
  if (negative) digits.remove_prefix(1);
  bool hex = digits.starts_with("0x") || digits.starts_with("0X");
  if (hex) digits.remove_prefix(2);
  auto n = magnitude(digits, hex ? 16 : 10);
  if (!n) return std::nullopt;
  Bits mask = mask_of(type.bits());
  Bits half = (mask >> 1) + 1;  // the magnitude of the least signed value
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
    return sign | shape.exponent | static_cast<uint64_t>(*payload);
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

std::optional<Bits> literal_bits(std::string_view word, Type type) {
  switch (type.shape()) {
    case Shape::Bool:
      if (word == "true") return 1;
      return word == "false" ? std::optional<Bits>(0) : std::nullopt;
    case Shape::Pointer: return word == "null" ? std::optional<Bits>(0) : std::nullopt;
    case Shape::Integer: return integer_bits(word, type);
    case Shape::Float: {
      // "Floats need a point or exponent", so that a literal's kind is seen at a glance.
      if (word.find_first_of(".eEpPn") == std::string_view::npos) return std::nullopt;
      auto bits = float_bits(word, type);
      return bits ? std::optional<Bits>(*bits) : std::nullopt;
    }
    case Shape::None: break;
  }
  return std::nullopt;
}

std::optional<std::vector<uint64_t>> literal_words(std::string_view text, Type type) {
  std::vector<std::string_view> lanes;
  bool list = text.size() >= 2 && text.front() == '{' && text.back() == '}';
  if (list) {
    std::string_view inside = text.substr(1, text.size() - 2);
    while (true) {
      size_t comma = std::min(inside.find(','), inside.size());
      std::string_view word = inside.substr(0, comma);
      while (word.starts_with(' ')) word.remove_prefix(1);
      while (word.ends_with(' ')) word.remove_suffix(1);
      lanes.push_back(word);
      if (comma == inside.size()) break;
      inside.remove_prefix(comma + 1);
    }
    if (!type.has_lanes() || lanes.size() != type.lanes()) return std::nullopt;
  } else {
    lanes.assign(type.lanes(), text);
  }
  std::vector<uint64_t> out;
  for (std::string_view word : lanes) {
    auto bits = literal_bits(word, type);
    if (!bits) return std::nullopt;
    out.push_back(static_cast<uint64_t>(*bits));
    if (type.words_per_lane() == 2) out.push_back(static_cast<uint64_t>(*bits >> 64));
  }
  return out;
}

std::string literal_text(Bits word, Type type) {
  if (type.is_bool()) return word & 1 ? "true" : "false";
  if (type.is_integer()) {
    Bits value = sign_extended(word, type.bits());
    return value >> 127 ? "-" + decimal(0 - value) : decimal(value);
  }
  uint64_t bits = static_cast<uint64_t>(word);
  if (type.is_pointer()) return bits == 0 ? "null" : fmt::format("{:#x}", bits);
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

std::vector<uint64_t> lane_words(Type type, Bits bits) {
  std::vector<uint64_t> out;
  for (unsigned k = 0; k < type.lanes(); ++k) {
    Bits lane = bits >> (k * type.bits()) & mask_of(type.bits());
    out.push_back(static_cast<uint64_t>(lane));
    if (type.words_per_lane() == 2) out.push_back(static_cast<uint64_t>(lane >> 64));
  }
  return out;
}

std::string literal_text(std::span<const uint64_t> words, Type type) {
  unsigned step = type.words_per_lane();
  auto lane = [&](unsigned k) {
    Bits w = words[k * step];
    return literal_text(step == 2 ? w | Bits(words[k * step + 1]) << 64 : w, type.element());
  };
  bool uniform = true;
  for (size_t k = step; k < words.size(); ++k) uniform &= words[k] == words[k - step];
  if (uniform) return lane(0);
  std::string out = "{";
  for (unsigned k = 0; k < type.lanes(); ++k) out += (k ? ", " : "") + lane(k);
  return out + "}";
}

}  // namespace porphyry::text
