// JSON read in one place, as the library's reader is long to compile.
#pragma once

#include <nlohmann/json.hpp>
#include <string>

namespace porphyry::testing {

using Json = nlohmann::json;

Json read_json(const std::string& text);  // throws as the library does

}  // namespace porphyry::testing
