// The manual page and completions of shells, made of the arguments' own descriptions.
#pragma once

#include <string>

namespace CLI {
class App;
}

namespace porphyry::tool {

// roff, for man(1).
std::string man_page(const CLI::App& app);
// A script for "bash", "zsh" or "fish"; empty for others.
std::string completion(const CLI::App& app, const std::string& shell);

}  // namespace porphyry::tool
