// Builds of the same functions side by side: what their code consists of, how long it takes, and line by
// line.
//
//   std::vector<Build> builds;
//   for (const Level& l : all_levels()) builds.push_back(*build(module, recipe_of(l), target));
//   auto table = compare(builds, *figure_named("bytes"));
//   for (const ComparedFunction& f : table.functions) …           // the largest change first
#pragma once

#include <map>
#include <set>

#include "porphyry/ask/inputs.h"
#include "porphyry/jit/load.h"
#include "porphyry/machine/listing.h"
#include "porphyry/measure/timing.h"
#include "porphyry/object/read.h"
#include "porphyry/optimize/pipeline.h"
#include "porphyry/passes/passes.h"

namespace porphyry {

// What a figure counts. `time` and `cycles` are there only where calls were timed; what registers are moved
// for is known only of code that was allocated here.
struct Figure {
  std::string_view name, doc;
  unsigned machine::FunctionListing::Totals::*count = nullptr;  // null: a time
  bool of_allocation = false;
};
std::span<const Figure> all_figures();
const Figure* figure_named(std::string_view name);  // null when there is none

// How a build is made of a module.
struct BuildRecipe {
  std::string name;
  Pipeline pipeline;
  machine::LowerOptions options = {};
  uint8_t permits = 0;
};
BuildRecipe recipe_of(const Level& level);

struct Build {
  std::string name;
  std::vector<machine::FunctionListing> functions;
  std::vector<std::string> names;  // of each function, as the source has it, without parameters
  // What runs it; null where it was not asked for, or cannot be: then `no_run` says why.
  std::unique_ptr<Jit> code;
  std::unique_ptr<LoadedObject> object;
  std::string no_run;
  bool is_object = false;
  // By function, nothing where it was not timed.
  std::vector<std::optional<Timing>> times;

  // Its row; ~0 when there is none.
  size_t find(std::string_view name) const;
};
struct BuildWants {
  bool run = false;    // the code, ready to be called: the target must be this processor's
  bool lines = false;  // the listings' lines, which align() takes; names and figures are there without them
};
// A copy of the module goes through the recipe; its realm must outlive the build. Errors are those of passes
// and of lowering.
Result<Build> build(const Module& module, const BuildRecipe& recipe, const machine::Target& target,
                    BuildWants wants = {});
// An object of any compiler.
Build build_of(std::string name, const ReadObject& object, const machine::Target& target,
               const Resolver& externals, bool run);

// Times the calls in all builds, in turn: each build's function gets the sum of the medians of its calls.
// Signatures are the module's. A build that computes something else than the first one, or comes to no end,
// is not timed; a diagnostic tells so.
Diagnostics measure(std::vector<Build>& builds, const Module& module, const std::vector<WrittenCall>& calls,
                    const machine::Target& target, const TimingOptions& options = {});

// One function in all builds.
struct ComparedFunction {
  std::string name;
  std::vector<std::optional<machine::FunctionListing::Totals>> totals;  // nothing where a build lacks it
  std::vector<std::optional<Timing>> times;
  std::vector<uint8_t> decoded;  // by build: read from an object
  // Of the figure, from the least to the most, as a share of the most; 1 where a build lacks the function.
  double change = 0;

  bool everywhere() const;  // whether all builds have it
};
struct Compared {
  std::vector<std::string> builds;
  std::vector<ComparedFunction> functions;             // the largest change first
  std::vector<machine::FunctionListing::Totals> sums;  // by build, over the functions that all of them have
  bool timed = false;
};
Compared compare(const std::vector<Build>& builds, const Figure& by);
// Of a function in one build; nothing where it has no such figure.
std::optional<double> value_of(const ComparedFunction& f, size_t build, const Figure& figure);

// Two builds of one function, line by line.
struct AlignedLine {
  enum class Kind : uint8_t {
    Same,   // the same text
    Alike,  // the same but for registers, and places in the code
    Moved,  // one that stands elsewhere on the other side
    Left,   // only there
    Right
  } kind = Kind::Same;
  static constexpr size_t none = ~size_t(0);
  size_t left = none, right = none;  // lines of the listings, counted through all blocks
};
// O((lines left + right) * lines that differ).
std::vector<AlignedLine> align(const machine::FunctionListing& left, const machine::FunctionListing& right,
                               const machine::Target& target);
// The lines of a listing, one behind the other.
std::vector<const machine::ListingLine*> lines_of(const machine::FunctionListing& listing);

// What lines of code have in common when their registers are others: the name of a class stands for each
// register, and nothing for a place in the code.
class LineShapes {
 public:
  explicit LineShapes(const machine::Target& target);
  // One for each of lines_of. O(letters * log registers).
  std::vector<std::string> of(const machine::FunctionListing& listing) const;

 private:
  std::string shape(const std::string& text, const std::set<std::string>& labels) const;
  std::map<std::string, std::string> registers_;  // by name
};

}  // namespace porphyry
