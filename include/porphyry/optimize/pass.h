// Passes: steps over one function, or over a module. A pass is a function with a row in a table; the ones of
// the library stand in src/passes/, legalization's in src/machine/legalize/, and a program may add its own:
//
//   PassTable table = standard_passes();
//   table.add({.name = "count", .doc = "counts calls", .run = [&](FunctionContext& c) { … }});
//   auto pipeline = read_pipeline("promote; count", table);
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <variant>

#include "porphyry/analyze/facts.h"
#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"
#include "porphyry/optimize/drawing.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

// What a pass over functions works on, and where it leaves its notes. Valid while the pass runs: what it
// keeps for later it copies.
class FunctionContext {
 public:
  // `surroundings`: objects that passes of a kind need, such as the state of legalization; may be null.
  // `in_module`: analyses of the module; must outlive this.
  FunctionContext(Module& module, ModuleFacts& in_module, Symbol symbol, Notes* notes,
                  TypeMap* surroundings = nullptr, std::vector<Drawing>* drawings = nullptr)
      : module(module),
        in_module(in_module),
        symbol(symbol),
        function(module.function(symbol)),
        facts(function),
        notes_(notes),
        surroundings_(surroundings),
        drawings_(drawings) {}

  Module& module;
  ModuleFacts& in_module;
  Symbol symbol;
  Function& function;
  Facts facts;
  std::string_view pass;  // the name of the one that runs

  // What the pass's row says it needs, so that it is there.
  template <class T>
  T& surroundings() const {
    return *surroundings_->find<T>();
  }

  ~FunctionContext() { function.end_journal(); }
  FunctionContext(const FunctionContext&) = delete;

  // For a pass that goes on from what changed: instructions that were written, or whose operands or uses
  // changed, since the pass that runs now ended its last run over this function. Nothing when it is the first
  // run: then it looks at all of them. Entries may be erased, and stand there several times.
  //
  //   if (auto changed = c.changed()) … those … else … all …
  std::optional<std::vector<Instruction>> changed();
  // Whoever runs passes calls this behind each.
  void ended();

  bool wants_notes() const { return notes_ != nullptr; }
  bool keeps_small() const { return module[symbol].facts.keep_small; }
  void done(Position p, std::string value, std::string what, std::string why,
            std::vector<std::pair<std::string, std::string>> figures = {});
  void declined(Position p, std::string value, std::string what, std::string why, std::string unlock,
                std::vector<std::pair<std::string, std::string>> figures = {});
  // Whoever wants drawings gets this one; else nothing happens.
  bool wants_drawings() const { return drawings_ != nullptr; }
  void draw(Drawing drawing) {
    if (drawings_) drawings_->push_back(std::move(drawing));
  }
  // A value as the text form names it.
  std::string name(Value v) const;

 private:
  void add(Note note, Position p);
  // How long the journal was when a pass that asks for changes ended; nothing while its first run goes on.
  struct Asked {
    std::string_view pass;
    std::optional<size_t> seen;
  };
  std::vector<Asked> asked_;
  Notes* notes_;
  TypeMap* surroundings_;
  std::vector<Drawing>* drawings_;
};

// What a pass over a module works on. Facts of functions are made anew, as any of them may change.
struct ModuleContext {
  Module& module;
  Notes* notes = nullptr;  // may be null
  TypeMap* surroundings = nullptr;
  std::string_view pass;
  bool changed = false;  // set by a pass that changed what no function shows, such as a symbol's row
  std::vector<Drawing>* drawings = nullptr;  // may be null
};

// Whether a pass changed something, functions tell themselves: see Function::changes.
using OverFunction = std::function<void(FunctionContext&)>;
using OverModule = std::function<void(ModuleContext&)>;

struct Pass {
  std::string name;  // one word of letters, digits and '-'
  std::string doc;   // one line
  std::variant<OverFunction, OverModule> run;
  Kept keeps;  // analyses that hold after it changed a function
  // After the last function, for what a pass over functions leaves to be done in the module; may be empty.
  std::function<void(ModuleContext&)> finish = {};
  // It changes nothing but its function, makes at most new names, and reads of the module what no such pass
  // changes: several functions may be worked on at a time.
  bool apart = false;
  // What must be among the surroundings, and what the pass is for that brings it; null when nothing.
  TypeId needs = nullptr;
  std::string needs_doc = {};

  bool over_module() const { return run.index() == 1; }
};

// Passes by name, in the order they were added. Copies share the passes, and pipelines that were read keep
// theirs, so a table may go before them.
class PassTable {
 public:
  // Refused when the name is taken, or no word.
  Diagnostics add(Pass pass);
  std::shared_ptr<const Pass> find(std::string_view name) const;
  std::span<const std::shared_ptr<const Pass>> all() const { return passes_; }

 private:
  std::vector<std::shared_ptr<const Pass>> passes_;
};

// The row of one of our own passes; `split_slots` is called `split-slots`, and `inline_`, which is
// no name in C++, `inline`. Rows stand in .inc files:
//
//   PORPHYRY_PASS(promote, Apart, keeps_all(), "stack slots become values")
//
// which are read twice, as declarations and as rows.
std::string pass_name(std::string_view function);

}  // namespace porphyry
