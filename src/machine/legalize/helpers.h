// Routines that stand for operations too long to write out each time: our own, in the IR (helpers.por), added
// to the module that needs them as local functions.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include "porphyry/ir/module.h"

namespace porphyry::machine {

class Helpers {
 public:
  explicit Helpers(Module& module) : module_(module) {}
  // The routine of this name, added with all it calls when it is first asked for. The name must be one of
  // helpers.por.
  Symbol operator[](std::string_view name);
  // The variant for words of 64 or 32 bits.
  Symbol for_words(std::string_view name, unsigned word);

 private:
  Module& module_;
  std::map<std::string, Symbol, std::less<>> added_;
};

// The text they are read from, as a module.
std::string_view helpers_text();

}  // namespace porphyry::machine
