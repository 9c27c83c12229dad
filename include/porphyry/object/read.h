// Relocatable object files of any compiler, read back, and their code shown in the form of our own listings:
// decoded by a book alone. What the book does not describe stays bytes, named and counted as such.
//
//   auto object = read_object("frostwatch.o", bytes);
//   ObjectListing all = list_object(*object, *native_target());
#pragma once

#include <string_view>

#include "porphyry/machine/listing.h"
#include "porphyry/object/object.h"

namespace porphyry {

bool is_object(std::string_view bytes);

// An object and the source lines of its code, if it says any.
struct ReadObject {
  ObjectFile file;
  struct Line {
    uint64_t offset;       // of the first byte it holds for, in the section
    std::string position;  // file:line:column
  };
  std::vector<std::vector<Line>> lines;  // by section, in order of offset
};

// Reads ELF for 64 bits, little-endian, relocatable (by libelf; lines by libdw). `name` is for messages.
// Damaged files give the reason. O(n log n).
Result<ReadObject> read_object(const std::string& name, std::string_view bytes);

struct ObjectListing {
  std::vector<machine::FunctionListing> functions;  // in the order of sections and offsets
  unsigned instructions = 0, described = 0;
  uint64_t bytes = 0, bytes_not_described = 0;
};

// A listing for each function; code outside of functions has one named after its section. Jumps and relocated
// places are named. Loops are the natural ones of its jumps. The object must be of the target's processor.
// O(n log n) in the code.
ObjectListing list_object(const ReadObject& object, const machine::Target& target);

}  // namespace porphyry
