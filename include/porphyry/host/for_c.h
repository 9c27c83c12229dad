// A program from WebAssembly as an object that C and C++ link: names with a prefix, instances made and freed
// by functions, a header that declares them.
//
//   auto program = read_wasm(realm, "frost.wasm", bytes);
//   std::string header = wasm::prepare_for_c(*program, "frost");
//   auto code = machine::lower(std::move(program->module), target, {.exported = true});
//   elf_bytes(make_object(*code, target));
//
// Memory comes from the C library. A trap ends the process by a signal, as abort does.
#pragma once

#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

// A name that C takes: letters, digits and underscores; others become underscores.
std::string c_name(std::string_view name);

// Adds to the program's module what the header declares, and makes all else local; gives the header. The
// program must have been read without `guarded`. What linking the C library's names refuses is told.
Result<std::string> prepare_for_c(Program& program, std::string_view prefix);

}  // namespace porphyry::wasm
