// Listings as text (with colour where a terminal shows it), as JSON, and as assembly text that the system
// assembler turns into the same bytes.
#pragma once

#include <string>

#include "porphyry/machine/listing.h"
#include "porphyry/object/read.h"

namespace porphyry {

// Where values lived is told of those that were moved, or of all.
std::string render(const machine::FunctionListing& listing, bool colour = false, bool all_lives = false);
// With a line about the whole object at its end, if wanted.
std::string render(const ObjectListing& object, bool colour = false, bool with_summary = true);
std::string render_json(const std::vector<machine::FunctionListing>& listings);
std::string render_assembly(const machine::LoweredModule& module, const machine::Target& target);

}  // namespace porphyry
