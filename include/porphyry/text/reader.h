// Reads the text form. Every mistake of the text is reported, each with its place; what could be read is
// still there, so that a verifier can go on.
#pragma once

#include <functional>
#include <memory>

#include "porphyry/base/source_text.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// Where in the text things stand, for messages about a module that was read.
struct TextMap {
  struct Place {
    uint32_t offset = 0, length = 0;
  };
  struct Body {
    Place header;
    SideTable<Instruction, Place> instructions;
    SideTable<Block, Place> blocks;
    bool is_complete = true;  // false when mistakes left parts of the body out
  };
  std::vector<Body> bodies;           // by symbol
  std::vector<Place> kinds, records;  // by handle
};

struct ReadModule {
  std::unique_ptr<Module> module;
  TextMap places;
  Diagnostics problems;  // in the order of the text
};

// Called after a function's body has been read, while it is still in the processor's caches. All headers have been
// read by then, other bodies and data perhaps not.
using BodyRead = std::function<void(ReadModule& so_far, Symbol function)>;

// O(length). Reads the whole text whatever is wrong with it.
ReadModule read_text(Realm& realm, const SourceText& source, const BodyRead& body_read = {});

// All of a file's bytes, or why they cannot be had.
Result<std::string> read_file(const std::string& path);

}  // namespace porphyry
