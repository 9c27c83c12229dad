// Passes: steps over one function, each in a file of its own under src/optimize/. The table of all of them is
// in pass.cpp.
#pragma once

#include <span>

#include "porphyry/analyze/facts.h"
#include "porphyry/ir/module.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

// What a pass works on, and where it leaves its notes.
class Workplace {
 public:
  Workplace(Module& module, Symbol symbol, Notes* notes)
      : module(module), symbol(symbol), function(module.function(symbol)), facts(function), notes_(notes) {}

  Module& module;
  Symbol symbol;
  Function& function;
  Facts facts;
  const char* pass = "";

  bool wants_notes() const { return notes_ != nullptr; }
  void done(Position p, std::string value, std::string what, std::string why,
            std::vector<std::pair<std::string, std::string>> figures = {});
  void declined(Position p, std::string value, std::string what, std::string why, std::string unlock,
                std::vector<std::pair<std::string, std::string>> figures = {});
  // A value as the text form names it.
  std::string name(Value v) const;

 private:
  void add(Note note, Position p);
  Notes* notes_;
};

struct Pass {
  const char* name;
  const char* doc;
  bool (*run)(Workplace&);  // true when it changed something
  uint8_t keeps;            // facts that hold afterwards even when it did
};

std::span<const Pass> all_passes();
const Pass* pass_named(std::string_view name);

// The passes themselves.
bool promote(Workplace& w);
bool fold(Workplace& w);
bool sweep(Workplace& w);

}  // namespace porphyry
