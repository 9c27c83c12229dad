// Reads the text form. Every mistake of the text is reported, each with its place; what could be read is
// still there, so that a verifier can go on.
#pragma once

#include <functional>
#include <memory>

#include "porphyry/base/source_text.h"
#include "porphyry/ir/module.h"
#include "porphyry/ir/places.h"

namespace porphyry {

struct ReadModule {
  std::unique_ptr<Module> module;
  PlaceMap places;
  Diagnostics problems;  // in the order of the text
};

// Called after a function's body has been read, while it is still in the processor's caches. All headers have
// been read by then, other bodies and data perhaps not.
using BodyRead = std::function<void(ReadModule& so_far, Symbol function)>;

// O(length). Reads the whole text whatever is wrong with it.
ReadModule read_text(Realm& realm, const SourceText& source, const BodyRead& body_read = {});

// Reads and verifies in one go; a module comes out only without a mistake.
Result<std::unique_ptr<Module>> load_text(Realm& realm, const SourceText& source);

}  // namespace porphyry
