// What the tool does with WebAssembly besides reading it as a module.
#pragma once

#include "common.h"

namespace porphyry::tool {

// Makes an instance and calls one export, or those that a file says.
void run_instance(const Options& o, std::string bytes);
// A module that C can link, and its header, if one is wanted.
std::unique_ptr<Loaded> load_for_c(const Options& o, std::string bytes);

}  // namespace porphyry::tool
