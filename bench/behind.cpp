#include "behind.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <string_view>

namespace porphyry::bench {
namespace {

enum Sort { Load, Store, Move, Jump, Pick, Conversion, Division, Call, Compare, Other, sort_count };
constexpr const char* sort_names[] = {"loads",       "stores",    "moves", "jumps",       "picks",
                                      "conversions", "divisions", "calls", "comparisons", "the rest"};

Sort sort_of(std::string_view text) {
  const std::string_view word = text.substr(0, text.find(' '));
  const size_t bracket = text.find('['), comma = text.find(',');
  auto starts = [&](std::string_view with) { return word.starts_with(with); };
  if (starts("cmov") || starts("set")) return Pick;
  if (starts("call")) return Call;
  if (starts("j")) return Jump;
  if (starts("cvt")) return Conversion;
  if (starts("div") || starts("idiv") || starts("sqrt")) return Division;
  if (starts("cmp") || starts("test") || starts("ucomi") || starts("comi")) return Compare;
  if (bracket != text.npos && !starts("lea") && !starts("nop"))
    return bracket < comma && comma != text.npos ? Store : Load;
  if (starts("mov")) return Move;
  return Other;
}

struct Loop {
  unsigned depth = 0, instructions = 0;
  std::array<unsigned, sort_count> of = {};
};

Loop innermost(const machine::FunctionListing& l) {
  Loop out;
  for (const machine::ListingBlock& b : l.blocks) out.depth = std::max(out.depth, b.depth);
  for (const machine::ListingBlock& b : l.blocks) {
    if (b.depth != out.depth) continue;
    for (const machine::ListingLine& line : b.lines) {
      if (line.role == machine::Role::Padding || line.text.starts_with("nop")) continue;
      ++out.instructions;
      ++out.of[sort_of(line.text)];
    }
  }
  return out;
}

}  // namespace

std::string counted_beside(const machine::FunctionListing& ours, const machine::FunctionListing& theirs) {
  const Loop a = innermost(ours), b = innermost(theirs);
  const char* where = a.depth && b.depth ? "in the innermost loops" : "in all";
  std::string out = fmt::format("{} instructions {}, the host's {}", a.instructions, where, b.instructions);
  if (a.depth != b.depth) out += fmt::format(" (loops {} and {} deep)", a.depth, b.depth);
  const char* before = ": ";
  for (size_t k = 0; k < sort_count; ++k) {
    if (a.of[k] == b.of[k]) continue;
    out += fmt::format("{}{} {} and {}", before, sort_names[k], a.of[k], b.of[k]);
    before = ", ";
  }
  return out;
}

}  // namespace porphyry::bench
