// Records of runs: how often the edges of each function were taken, to be put on a program's edges as
// weights. A record tells of the functions as they were when it was made; one of a function that has changed
// since is refused, with its name.
//
//   EdgeCounts counts;
//   Evaluator(module, {.counts = &counts}).call(f, arguments);
//   std::string text = write_record(module, counts);
//   Diagnostics stale = apply_record(module, SourceText("night.record", text));
//
// The file is text: a first line `porphyry record 1`, then a line for each function that was run,
//
//   HASH EDGES COUNT … NAME
//
// the hash of its body (ir/body_text.h, without weights) in 16 hexadecimal digits, how many edges its blocks
// have, as many counts, block by block in reverse postorder, and its name up to the end of the line.
#pragma once

#include <string>

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/source_text.h"
#include "porphyry/ir/edge_counts.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// O(instructions of functions that were run).
std::string write_record(const Module& module, const EdgeCounts& counts);
// Gives edges their weights. Problems: lines that are none, each with its place, and then nothing is changed;
// functions that are not there or have changed, after all others were given theirs. O(record + instructions).
Diagnostics apply_record(Module& module, const SourceText& record);

}  // namespace porphyry
