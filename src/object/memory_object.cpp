// An object for code that lies in memory already: what a linker would do to it is done.
#include <cstring>

#include "debug_parts.h"
#include "porphyry/base/rounding.h"

namespace porphyry {
namespace {

using namespace machine;

// Writes what the relocations ask for, now that all addresses are known.
void settle(ObjectFile& object, const Target& target) {
  for (ObjectFile::Section& s : object.sections) {
    for (const ObjectFile::Relocation& r : s.relocations) {
      const ObjectFile::Symbol& symbol = object.symbols[r.symbol];
      uint64_t to = object.sections[symbol.section].address + symbol.value + static_cast<uint64_t>(r.addend);
      bool relative = r.type == target.object.relative_32 || r.type == target.object.call_32;
      if (relative) to -= s.address + r.offset;
      std::memcpy(s.bytes.data() + r.offset, &to, r.type == target.object.absolute_64 ? 8 : 4);
    }
    s.relocations.clear();
  }
}

}  // namespace

ObjectFile make_memory_object(const LoweredModule& lowered, std::span<const PlacedCode> functions,
                              std::span<const uint8_t> code, const Target& target) {
  ObjectFile out;
  out.machine = target.object.machine;
  uint64_t start = reinterpret_cast<uint64_t>(code.data());
  out.sections.push_back({.name = ".text",
                          .is_code = true,
                          .align = 16,
                          .address = start,
                          .bytes = std::string(code.begin(), code.end())});
  uint32_t text = object::add_section_symbol(out, 0);
  std::vector<object::PlacedFunction> placed;
  for (const PlacedCode& f : functions) {
    placed.push_back({f.function, text, f.address - start});
    out.symbols.push_back({.name = f.function->name,
                           .section = 0,
                           .value = f.address - start,
                           .size = f.function->bytes.size(),
                           .is_function = true});
  }
  object::add_call_frames(out, target, placed);
  out.sections.back().address =
      round_up<uint64_t>(start + code.size(), 16);  // distances to the code are short there
  if (lowered.legal->position_count()) object::add_lines(out, *lowered.legal, target, placed);
  settle(out, target);
  return out;
}

}  // namespace porphyry
