// Notes as JSON: the record that reports and the page share.
#pragma once

#include "json.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

Json notes_json(const Notes& notes);

}  // namespace porphyry
