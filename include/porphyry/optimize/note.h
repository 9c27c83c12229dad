// Notes: why a pass acted, and why it declined, as data.
#pragma once

#include <string>
#include <utility>
#include <vector>

namespace porphyry {

struct Note {
  enum class Kind : uint8_t { Done, Declined, Seen, Left } kind = Kind::Done;
  std::string pass;  // of what is left over: the one that would have dealt with it
  std::string function;
  std::string position;  // source:line:column, empty when unknown
  std::string value;     // what it is about, as the text form names it
  std::string what;      // what was done, or would have been
  std::string why;
  std::vector<std::pair<std::string, std::string>> figures;  // what it was decided on
  std::string unlock;  // what would have changed the decision; for declined
};

using Notes = std::vector<Note>;

}  // namespace porphyry
