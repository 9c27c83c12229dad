#include "porphyry/ask/code.h"

#include <fmt/format.h>

#include <algorithm>

#include "porphyry/print/print.h"

namespace porphyry {
namespace {

using namespace machine;

std::optional<uint64_t> offset_of(const std::string& word) {
  if (word.empty() || !std::isdigit(static_cast<unsigned char>(word[0]))) return std::nullopt;
  size_t used = 0;
  const uint64_t out = std::stoull(word.substr(0, 18), &used, 0);
  return used == word.size() ? std::optional(out) : std::nullopt;
}

// The instruction that makes a value of this name, or the operation without results of this name.
Instruction called(const Module& module, const Function& f, const std::string& name) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      for (Value v : f.results(i))
        if (value_text(module, f, v) == name) return i;
  return {};
}

Instruction at_offset(const CompiledFunction& c, uint64_t offset) {
  auto after = std::upper_bound(c.lines.begin(), c.lines.end(), offset,
                                [](uint64_t at, const EmittedLine& l) { return at < l.offset; });
  return after == c.lines.begin() || offset >= c.bytes.size() ? Instruction() : (after - 1)->origin;
}

}  // namespace

Result<CodeAnswer> why_code(const LoweredModule& lowered, const Target& target, Features features,
                            std::string_view function, const std::string& which) {
  const Module& module = *lowered.legal;
  auto compiled = std::find_if(lowered.functions.begin(), lowered.functions.end(),
                               [&](const CompiledFunction& c) { return c.name == function; });
  if (compiled == lowered.functions.end())
    return complaint(fmt::format("no function is called '{}'", function), "a function of the module");
  const Function& f = module.function(compiled->symbol);
  const auto offset = offset_of(which);
  const Instruction i = offset ? at_offset(*compiled, *offset) : called(module, f, which);
  if (!i.exists() && offset)
    return complaint(
        fmt::format("no instruction of the program stands at {:#x} of '{}'", *offset, function),
        fmt::format("an offset below {:#x} of one that is not there for frames, moves or padding",
                    compiled->bytes.size()));
  if (!i.exists()) {
    std::vector<std::string> names;
    for (Block b : f.blocks())
      for (Instruction made : f.instructions(b))
        for (Value v : f.results(made)) names.push_back(value_text(module, f, v));
    const std::string near = nearest(which, names);
    return complaint(fmt::format("no instruction of '{}' makes a value '{}'", function, which),
                     near.empty() ? "a value of the listing, or an offset such as 0x1c" : "perhaps " + near);
  }
  CodeAnswer out{.function = std::string(function), .operation = write_text(module, f, i)};
  const FunctionListing listing = make_listing(lowered, *compiled, target);
  size_t at = 0;
  for (const ListingBlock& b : listing.blocks)
    for (const ListingLine& line : b.lines) {
      if (at < compiled->lines.size() && compiled->lines[at].origin == i && line.role == Role::Program)
        out.lines.push_back(line);
      ++at;
    }
  out.reasons = explain_selection(module, compiled->symbol, i, RuleIndex(target, features));
  if (out.reasons.inside.exists()) out.inside = write_text(module, f, out.reasons.inside);
  if (f.result_count(i))
    for (const auto& life : listing.lives)
      if (life.value == value_text(module, f, f.result(i))) out.life = life;
  return out;
}

}  // namespace porphyry
