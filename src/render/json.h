// JSON as all of it is written here: keys in the order in which they were given, two columns deeper each
// level; what is no UTF-8 is replaced, since names may hold any byte.
#pragma once

#include <nlohmann/json.hpp>
#include <string>

namespace porphyry {

using Json = nlohmann::ordered_json;

// Ends with a line's end. In one place, as the library's writer is long to compile.
std::string json_text(const Json& value);

}  // namespace porphyry
