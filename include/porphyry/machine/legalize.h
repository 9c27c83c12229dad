// Brings a module into what a book's rules cover, in the IR itself: every step's outcome is a module that can
// be printed, verified and run by the evaluator.
#pragma once

#include <memory>
#include <span>
#include <string_view>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"
#include "porphyry/machine/rule_keys.h"
#include "porphyry/machine/target.h"
#include "porphyry/machine/watched.h"
#include "porphyry/optimize/pipeline.h"

namespace porphyry::machine {

// What a book's rules compute from registers, for a set of features: a walk over the rules, O(rules). An
// answer takes a walk over those that begin with the operation.
class Coverage {
 public:
  Coverage(const Target& target, Features features);
  bool covers(Op op, Type operand, Type result) const { return has(Way::Plain, op, operand, result); }
  // The widest integer that a register holds.
  Type word() const { return word_; }

  // As many lanes of the element as a register has; no type when the book does not load them.
  Type whole(Type element) const;
  // Of lanes, which registers hold in whole; see Way.
  bool mask(Op op, Type lanes) const { return has(Way::Mask, op, lanes, {}); }
  bool by_constant(Op op, Type lanes) const { return has(Way::ByConstant, op, lanes, lanes); }
  bool by_splat(Op op, Type lanes) const { return has(Way::BySplat, op, lanes, lanes); }
  bool low_halves(Op op, Type lanes) const { return has(Way::LowHalves, op, lanes, lanes); }
  bool signed_halves(Op op, Type lanes) const { return has(Way::SignedHalves, op, lanes, lanes); }
  bool of_low(Op op, Type lanes, Type result) const { return has(Way::OfLow, op, lanes, result); }
  bool joined(Op op, Type lanes, Type result) const { return has(Way::Joined, op, lanes, result); }
  // Lanes of one value, or of two.
  bool shuffle(Type lanes, bool of_one, std::span<const uint16_t> order) const;

 private:
  struct Shuffle {
    Type lanes;
    bool of_one;
    std::span<const uint8_t> order;  // nothing: any
  };
  bool has(Way way, Op op, Type operand, Type result) const {
    return has({way, op, carrier(operand), carrier(result)});
  }
  bool has(const Covered& wanted) const;
  std::span<const Covered> of(Op op) const;

  Type word_;
  std::vector<Covered> rows_;    // by operation
  std::vector<uint16_t> first_;  // by operation: its first row; one more at the end
  std::vector<Shuffle> shuffles_;
};

// The steps are passes (src/machine/legalize/steps.inc), which need a target among their surroundings:
//   observe     keeps what is to be known of variables: their values, or places in the frame
//   reach       removes unreachable blocks
//   marks       removes sole, end, watch, here, renew, release and kinds, which passes before have heard
//   passing     parameters, arguments and results as the convention passes them; see passing.h
//   branches    `choose` becomes a tree of comparisons, balanced by the edges' weights, of bits in a word and
//   of
//               choices among 0, 1, … n, each of them an edge and nothing else possible: jump tables, for
//               targets with a rule for them
//   spans       `copy` and `fill` become accesses or calls of helpers
//   lanes       lanes become as many as a register holds where the book covers that, or scalars
//   definitions  operations that are defined by others (definitions.cpp)
//   widths      integers of odd and great widths become words
//   halves      words of 64 bits become two where the target's have 32
//   operations  what the book has no rule for is said in what it has; addresses take the machine's form
//   edges       edges from a block with several ways out to one with several ways in get a block, where they
//               pass arguments or a loop's boundary
//   beside      comparisons and addresses stand beside their users
//   watches     notes the values of watched variables
const PassTable& legalization_passes();
// All of them in order.
Pipeline legalization();

// The routines that legalization adds to modules that need them, as the text of one module: those for words
// of 32 bits end in _32. For tests, and for whoever wants to read them.
std::string helper_routines(const MemoryLayout& layout);

// Why a target takes no module like this: its layout of memory is another, or the target's book names less
// than lowering needs. Empty when it takes it. O(1).
Diagnostics target_problems(const Module& module, const Target& target);

// Return calls that cannot leave without a frame: they pass more words on the stack than the function itself
// was passed, so that there is no room for them. Empty when there is none. O(blocks + operands of return
// calls).
Diagnostics return_call_problems(const Module& module, const Target& target);

struct LegalizeOptions {
  std::optional<Pipeline> pipeline = {};  // else all steps
  // Names that are not local are reached through words of their address, as another definition may take their
  // place.
  bool exported = false;
  Variables variables = Variables::Ignored;  // what is to be known of them
  std::vector<StepRecord>* steps = nullptr;
};

// Runs the steps. The module must be verified and of the target's layout. Routines of our own that a function
// turns out to need are added behind all symbols as local functions (legalize/helpers.por), and have their
// own turn. O(size of what comes out), a log of the cases for `choose`.
class Legalizer {
 public:
  Legalizer(Module& module, const Target& target, const Coverage& coverage, LegalizeOptions options = {});
  ~Legalizer();
  // All steps in a row on one function, while it is at hand. Each function once, in the order of symbols.
  // To verify after each step, run the steps through run_pipeline with these surroundings.
  void function(Symbol symbol);
  // What variables the last function watches, in its order, unless they are ignored.
  std::vector<Watched> take_watched();
  // After the last function: external functions are declared by the convention, too. Gives the signatures by
  // symbol, helpers included, as they were before `passing`.
  std::vector<Signature> finish();
  // By symbol that is reached through one: the data item that holds its address; nothing for others.
  const std::vector<Symbol>& address_words() const;
  // For pipelines of one's own that mix steps with other passes: PipelineOptions::surroundings.
  TypeMap& surroundings() { return surroundings_; }

 private:
  Module& module_;
  Pipeline pipeline_;
  PipelineOptions options_;
  TypeMap surroundings_;
};

// The same for all functions of a module.
std::vector<Signature> legalize(Module& module, const Target& target, const Coverage& coverage,
                                LegalizeOptions options = {});

}  // namespace porphyry::machine
