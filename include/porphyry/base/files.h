// Whole files, read and written.
#pragma once

#include <string>
#include <string_view>

#include "porphyry/base/diagnostics.h"

namespace porphyry {

// All of a file's bytes, or why they cannot be had.
Result<std::string> read_file(const std::string& path);
// Writes a file whole or not at all: beside it first, then renamed.
Diagnostics write_file(const std::string& path, std::string_view bytes);

}  // namespace porphyry
