// A run of machine code step by step, at any of its stages: each instruction with the registers, lanes and
// flags that it wrote, and the values of the program that those carry.
//
//   auto t = trace_code(module, target, read_call("average 3 4"), {.stage = CodeStage::Encoded});
//   for (const TraceLine& l : t->lines) for (const RegisterWrite& w : l.writes) …
#pragma once

#include "porphyry/ask/trace.h"
#include "porphyry/machine/lower.h"

namespace porphyry {

enum class CodeStage : uint8_t {
  Selected,   // on registers without number, which carry the names of values
  Allocated,  // on the processor's registers, with copies, spills and reloads
  Encoded     // the bytes, with frames and jumps
};
// "selected", "allocated", "encoded"; nothing for other words.
std::optional<CodeStage> code_stage_named(std::string_view name);

struct CodeTraceOptions {
  CodeStage stage = CodeStage::Encoded;
  TraceOptions lines = {};  // which are kept; its limits hold as well, each instruction a step
  machine::LowerOptions lower = {};
};

// The lines as `trace` has them: `text` is the instruction, `value` the last value of the program that is
// whole behind it, `key` the same as for the operation that makes it, so that traces of code and of the IR
// can be laid beside each other. Errors: words that do not fit, code that cannot be made. Runs on any
// machine.
Result<Trace> trace_code(const Module& module, const machine::Target& target, const WrittenCall& call,
                         const CodeTraceOptions& options = {});

}  // namespace porphyry
