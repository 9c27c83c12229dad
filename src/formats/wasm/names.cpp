#include "sections.h"

namespace porphyry::wasm {

// Calls `see` for each number and what follows it.
template <class See>
static void each_number(In& in, See see) {
  for (uint32_t n = in.count("names"); n > 0 && in.good(); --n) {
    uint32_t index = in.u32();
    if (in.good()) see(index);
  }
}

void read_names(In in, Sections& into) {
  Program& p = into.program;
  while (in.good() && !in.at_end()) {
    uint8_t id = in.byte();
    In part(in.bytes(in.u32()));
    if (!in.good()) return;
    if (id == 0) into.name = part.name();
    if (id == 1)
      each_number(part, [&](uint32_t f) {
        std::string_view name = part.name();
        if (f < p.functions.size()) p.functions[f].name = name;
      });
    if (id == 2)
      each_number(part, [&](uint32_t f) {
        each_number(part, [&](uint32_t local) {
          std::string_view name = part.name();
          if (!name.empty()) into.local_names.emplace(uint64_t(f) << 32 | local, name);
        });
      });
  }
}

}  // namespace porphyry::wasm
