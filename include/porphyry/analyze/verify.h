// Whether a module keeps the rules of the IR: block ends, argument counts, types, dominance. All mistakes at
// once, each with its place in the text or, for a module that was built, the printed instruction.
#pragma once

#include "porphyry/text/reader.h"

namespace porphyry {

// Where a module came from, so that messages can point there.
struct Origin {
  const SourceText* source = nullptr;
  const TextMap* places = nullptr;
};

Diagnostics verify(const Module& module, const Origin& origin = {});
Diagnostics verify(const Module& module, Symbol function, const Origin& origin = {});

// Reads and verifies in one go; a module comes out only without a mistake.
Result<std::unique_ptr<Module>> load_text(Realm& realm, const SourceText& source);
// The same for packed bytes; `name` is the file's, for messages.
Result<std::unique_ptr<Module>> load_packed(Realm& realm, const std::string& name, std::string_view bytes);
// Whichever of the two the bytes are: packed files say so in their first four.
Result<std::unique_ptr<Module>> load_module(Realm& realm, const SourceText& source);

}  // namespace porphyry
