// From a module to machine code: legalize, select, allocate, lay out the frame, emit.
#pragma once

#include <memory>

#include "porphyry/base/scratch.h"
#include "porphyry/machine/emit.h"
#include "porphyry/machine/select.h"
#include "porphyry/passes/passes.h"

namespace porphyry::machine {

struct LowerOptions {
  // What a level asks for.
  static LowerOptions at(const Level& level) {
    LowerOptions out;
    out.schedule = out.late_frame = level.improve_code;
    out.align_loops = out.repeat_tails = level.spend_bytes;
    if (level.observe) out.variables = Variables::Observed;
    return out;
  }

  std::optional<Features> features;  // bits of the target's features; else its usual ones
  bool check_allocation = false;     // run the independent checker on every function
  bool schedule = false;             // order instructions by latencies; see schedule.h
  bool align_loops = false;          // innermost loops begin at multiples of 16 bytes; see emit.h
  bool repeat_tails = false;         // blocks end loops' rounds by themselves; see the architecture page
  bool late_frame = false;           // frames are set up only on paths that need them; see emit.h
  Variables variables = Variables::Ignored;  // what debuggers are told of them; see watched.h
  bool explain = false;                      // keep what listings tell of where values lived
  // For a linker, which may put another definition in the place of a name that is not local: such names are
  // reached through the linker's table of addresses and its stubs, as shared libraries want it.
  bool exported = false;
  bool keep_bodies = true;  // of the legalized functions: listings and simulators want them, objects do not
};

struct LoweredModule {
  std::unique_ptr<Module> legal;             // what was selected from: the origin of every line
  std::vector<Signature> source_signatures;  // by symbol, before legalization; helpers behind
  // By symbol of the module: where its parameters' names begin, in the realm or of nothing.
  std::vector<uint32_t> first_parameter;
  std::vector<Name> parameter_names;
  std::vector<CompiledFunction> functions;
  // Local data items that legalization has added, each the address of a symbol that is reached through it. In
  // an object file the linker's table of addresses takes their place.
  struct AddressWord {
    Symbol word, of;
  };
  std::vector<AddressWord> address_words;
  bool exported = false;  // as it was lowered; see LowerOptions
};

// A module of which nothing is lowered yet: a copy to legalize, and what it said before.
LoweredModule begin_lowering(const Module& module);

// The module must be verified. O(n log n) in its size.
Result<LoweredModule> lower(const Module& module, const Target& target, const LowerOptions& options = {});
// The same, but the module is consumed: it becomes the legal one. A large function then takes half
// the memory above the module, most of all when bodies are not kept.
Result<LoweredModule> lower(std::unique_ptr<Module> module, const Target& target,
                            const LowerOptions& options = {});

// Where functions are while they are made: the code, and what a stage needs as long as it runs.
struct LowerMemory {
  Scratch code, work, more_work;
  void reset() { code.reset(), work.reset(), more_work.reset(); }
};

// One function of an already legalized module. Nothing of the result lies in `memory`, which is reset first.
Result<CompiledFunction> lower_function(const Module& legal, Symbol function, const RuleIndex& rules,
                                        const LowerOptions& options, LowerMemory& memory,
                                        std::span<const Watched> watched = {});

}  // namespace porphyry::machine
