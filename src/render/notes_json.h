// Notes as JSON: the record that reports and the page share.
#pragma once

#include <span>

#include "json.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

Json notes_json(std::span<const Note> notes);

}  // namespace porphyry
