// Addresses in the Intel form of assembly text, and the names that form keeps for itself.
#include <fmt/format.h>

#include <algorithm>
#include <regex>

#include "x64.h"

namespace porphyry::targets {

using namespace machine;

std::string x64_spell_address(const Target& target, const PlainAddress& a, unsigned bits,
                              const std::string& name) {
  static constexpr std::pair<unsigned, const char*> sizes[] = {
      {8, "byte"}, {16, "word"}, {32, "dword"}, {64, "qword"}, {128, "xmmword"}};
  std::string size, inside;
  for (auto [n, word] : sizes)
    if (n == bits) size = std::string(word) + " ptr ";
  if (a.relative) return size + "[rip + " + name + "]";
  auto plus = [&] { return inside.empty() ? "" : " + "; };
  if (a.base >= 0) inside += target.register_name(static_cast<unsigned>(a.base), 64);
  if (a.index >= 0) {
    inside += plus() + std::string(target.register_name(static_cast<unsigned>(a.index), 64));
    if (a.scale != 1 || a.base < 0) inside += fmt::format("*{}", a.scale);
  }
  if (a.displacement < 0 && !inside.empty())
    inside += fmt::format(" - {}", -int64_t(a.displacement));
  else if (a.displacement != 0 || inside.empty())
    inside += plus() + std::to_string(a.displacement);
  return size + "[" + inside + "]";
}

bool x64_is_taken_name(std::string_view name) {
  static const std::regex registers(
      "[re]?([abcd]x|[sd]i|[bsi]p)|[abcd][lh]|[sd]il|[sb]pl|r\\d+[bwd]?|[xyz]?mm\\d+|[cdt]r\\d+|[cdefgs]s|"
      "k\\d|st|bnd\\d");
  static constexpr std::string_view words[] = {
      "offset",  "ptr",     "byte",    "word", "dword", "qword", "fword", "tbyte", "oword", "mmword",
      "xmmword", "ymmword", "zmmword", "near", "far",   "short", "flat",  "and",   "or",    "xor",
      "not",     "mod",     "shl",     "shr",  "eq",    "ne",    "lt",    "le",    "gt",    "ge"};
  std::string low;
  for (char c : name) low += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return std::regex_match(low, registers) ||
         std::find(std::begin(words), std::end(words), low) != std::end(words);
}

}  // namespace porphyry::targets
