// The argument parser's help and messages in the house's form: what is wrong, then what was expected.
#pragma once

#include <CLI/App.hpp>
#include <string>

#include "porphyry/base/diagnostics.h"

namespace porphyry::tool {

std::string upper(std::string word);

// `porphyry VERB FILE … [options]`; arguments are named FILE, FUNCTION, NUMBER or WORD.
void speak_our_form(CLI::App& app);

// What a call got wrong, from what the parser says of it.
Diagnostic call_problem(const CLI::App& app, const CLI::ParseError& error);

}  // namespace porphyry::tool
