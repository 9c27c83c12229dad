// Passes of one's own in a shared library, for the tool and for programs that load such.
//
// In the library, which is compiled against the installed headers (`find_package(porphyry)` gives
// porphyry::passes for that) and takes everything else from the program that loads it:
//
//   #include "porphyry/optimize/user_passes.h"
//
//   PORPHYRY_USER_PASSES(table) {
//     table.add({.name = "count", .doc = "counts calls", .run = [](porphyry::FunctionContext& c) { … }});
//   }
//
// Then `porphyry optimize orchard.por --passes ./libcount.so --pipeline "promote; count"`. A pass may ask for
// any analysis, those of the library and its own (`c.facts.get<T>()`), leave notes (`c.done`, `c.declined`)
// and drawings
// (`c.draw`).
//
// A program that loads passes exports its symbols and holds the whole library: link with --whole-archive, and
// set ENABLE_EXPORTS.
#pragma once

#include <string>

#include "porphyry/optimize/pass.h"

namespace porphyry {

// What a library was compiled against. Two that differ cannot work together: tables lie differently in
// memory.
struct MadeFor {
  const char* version;
  uint64_t layout;
};

inline constexpr const char* version_text = "0.1.0";
// Changes when what passes touch lies otherwise: sizes of the tables, numbers of operations, the compiler's
// conventions.
constexpr uint64_t layout_stamp() {
  uint64_t out = 0xcbf29ce484222325;
  for (uint64_t n : {uint64_t(sizeof(Function)), uint64_t(sizeof(Module)), uint64_t(sizeof(SymbolRow)),
                     uint64_t(sizeof(Realm)), uint64_t(sizeof(Pass)), uint64_t(sizeof(FunctionContext)),
                     uint64_t(sizeof(ModuleContext)), uint64_t(sizeof(Note)), uint64_t(sizeof(std::string)),
                     uint64_t(operation_count), uint64_t(__GXX_ABI_VERSION)})
    out = (out ^ n) * 0x100000001b3;
  return out;
}

// Adds the passes of a shared library to a table. The library stays loaded until the process ends, as passes
// are called at any time. Errors: there is no such library, it has no passes, it was compiled against another
// version, a pass that the table refuses.
Diagnostics load_passes(const std::string& path, PassTable& table);

}  // namespace porphyry

#define PORPHYRY_USER_PASSES(table)                                                         \
  extern "C" __attribute__((visibility("default"))) porphyry::MadeFor porphyry_made_for() { \
    return {porphyry::version_text, porphyry::layout_stamp()};                              \
  }                                                                                         \
  extern "C" __attribute__((visibility("default"))) void porphyry_add_passes(porphyry::PassTable& table)
