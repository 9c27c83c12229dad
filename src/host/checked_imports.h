// What a program imports, found among what a host gives.
#pragma once

#include "porphyry/host/imports.h"

namespace porphyry::wasm {

// One of these, in the order of the program's imports.
struct CheckedImport {
  Imports::Function function;
  std::shared_ptr<HostMemory> memory;
  std::shared_ptr<HostTable> table;
  std::shared_ptr<HostGlobal> global;
  Instance* instance = nullptr;
  Export what = {};
  bool is_function() const { return function.run != nullptr; }
};

// All that is missing, or of another type, in one message. Specification, section 4.5.1 (external typing).
Result<std::vector<CheckedImport>> check_imports(const Program& program, const Imports& imports);

}  // namespace porphyry::wasm
