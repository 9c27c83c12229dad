#include "porphyry/ir/type.h"

#include <charconv>

namespace porphyry {
namespace {

// Plain decimal digits without leading zero.
std::optional<unsigned> small_number(std::string_view digits) {
  unsigned n = 0;
  auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), n);
  bool whole = error == std::errc() && end == digits.data() + digits.size();
  return whole && digits[0] != '0' ? std::optional(n) : std::nullopt;
}

std::optional<Type> scalar_named(std::string_view name) {
  if (name.empty()) return std::nullopt;
  if (name[0] == 'i') {
    if (name.size() < 2 || name.size() > 4) return std::nullopt;
    auto bits = small_number(name.substr(1));
    return bits && *bits >= 2 && *bits <= 128 ? std::optional(Type::integer(*bits)) : std::nullopt;
  }
  if (name == "ptr") return Type::pointer();
  if (name == "bool") return Type::boolean();
  if (name == "f32") return Type::f32();
  if (name == "f64") return Type::f64();
  return std::nullopt;
}

}  // namespace

std::optional<Type> Type::named(std::string_view name) {
  size_t bracket = name.find('[');
  if (bracket == std::string_view::npos) return scalar_named(name);
  auto element = scalar_named(name.substr(0, bracket));
  if (!element || element->is_pointer() || name.back() != ']' || bracket + 2 >= name.size())
    return std::nullopt;
  auto lanes = small_number(name.substr(bracket + 1, name.size() - bracket - 2));
  if (!lanes || *lanes < 2 || *lanes > lane_limit) return std::nullopt;
  return element->with_lanes(*lanes);
}

std::string Type::name() const {
  std::string out;
  switch (shape()) {
    case Shape::None: return "nothing";
    case Shape::Bool: out = "bool"; break;
    case Shape::Pointer: out = "ptr"; break;
    case Shape::Integer: out = "i" + std::to_string(bits()); break;
    case Shape::Float: out = "f" + std::to_string(bits()); break;
  }
  return has_lanes() ? out + "[" + std::to_string(lanes()) + "]" : out;
}

}  // namespace porphyry
