// Addresses in the Intel form of assembly text, and the names that form keeps for itself.
#include <fmt/format.h>

#include <algorithm>

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
  if (!name.empty())
    inside += plus() + name;
  else if (a.displacement < 0 && !inside.empty())
    inside += fmt::format(" - {}", -int64_t(a.displacement));
  else if (a.displacement != 0 || inside.empty())
    inside += plus() + std::to_string(a.displacement);
  return size + "[" + inside + "]";
}

namespace {

template <size_t N>
bool among(const std::string_view (&words)[N], std::string_view word) {
  return std::find(std::begin(words), std::end(words), word) != std::end(words);
}

constexpr std::string_view named_registers[] = {
    "ax", "bx", "cx", "dx",  "si",  "di",  "bp",  "sp", "ip", "al", "bl", "cl", "dl", "ah",
    "bh", "ch", "dh", "sil", "dil", "bpl", "spl", "cs", "ds", "es", "fs", "gs", "ss", "st"};
constexpr std::string_view numbered_registers[] = {"r",  "mm", "xmm", "ymm", "zmm",
                                                   "cr", "dr", "tr",  "k",   "bnd"};
constexpr std::string_view operators[] = {
    "offset",  "ptr",     "byte",    "word", "dword", "qword", "fword", "tbyte", "oword", "mmword",
    "xmmword", "ymmword", "zmmword", "near", "far",   "short", "flat",  "and",   "or",    "xor",
    "not",     "mod",     "shl",     "shr",  "eq",    "ne",    "lt",    "le",    "gt",    "ge"};

}  // namespace

bool x64_is_taken_name(std::string_view name) {
  std::string low;
  for (char c : name) low += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  std::string_view word = low;
  if (among(operators, word) || among(named_registers, word)) return true;
  if (word.size() == 3 && (word[0] == 'r' || word[0] == 'e') && among(named_registers, word.substr(1)))
    return true;
  size_t digits = word.find_first_of("0123456789");
  if (digits == std::string_view::npos) return false;
  std::string_view number = word.substr(digits);
  if (word[0] == 'r' && std::string_view("bwd").find(number.back()) != std::string_view::npos)
    number.remove_suffix(1);
  return among(numbered_registers, word.substr(0, digits)) && !number.empty() &&
         number.find_first_not_of("0123456789") == std::string_view::npos;
}

}  // namespace porphyry::targets
