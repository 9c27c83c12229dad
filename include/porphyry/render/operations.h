// The operation table as a page.
#pragma once

#include <string>

namespace porphyry {

// Markdown, one table a group: docs/operations.md is this.
std::string render_operations();
// The same as JSON: a list of {name, layout, takes, gives, promises, may, meaning}.
std::string render_operations_json();

}  // namespace porphyry
