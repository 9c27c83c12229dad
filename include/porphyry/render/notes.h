// Notes as text, at the lines they are about, as JSON, and as SARIF; why code was selected.
#pragma once

#include <string>

#include "porphyry/ask/code.h"
#include "porphyry/ask/why.h"

namespace porphyry {

// The word for a kind: "done", "declined", "seen" or "left".
std::string_view kind_name(Note::Kind kind);

std::string render(const Notes& notes, bool colour = false);
std::string render_json(const Notes& notes);
// The Static Analysis Results Interchange Format, version 2.1.0 (OASIS, 2020): what was done and declined as
// notes, what is left over as warnings. Notes without a position in a source get the module's file.
std::string render_sarif(const Notes& notes, const std::string& file, const std::string& version);

// The text with its notes below the lines they are about; only functions and lines around notes when it is
// long.
std::string render(const Annotated& text, const Notes& notes, bool colour = false);

// An instruction of a listing: its lines, the rules that were tried, and where its value lay.
std::string render(const CodeAnswer& answer, bool colour = false);
std::string render_json(const CodeAnswer& answer);

}  // namespace porphyry
