// A tour: calls written one a line, each run by the evaluator and on the processor and compared.
//
//   what is asked | function argument …
//
// Arguments as in call.h; files are looked for beside the tour. `#` starts a comment.
#pragma once

#include "porphyry/base/source_text.h"
#include "porphyry/call/call.h"

namespace porphyry {

struct TourStop {
  std::string question;
  std::string call;  // as it was written
  CallOutcome evaluated, native;
  std::string answer;  // the results, else the numbers of the memory that was written
  bool agree = false;  // results and every byte of memory
};

// Every wrong line is reported. `name` is the tour's file, for messages; `folder` is where its files lie.
Result<std::vector<TourStop>> run_tour(const Module& module, const Jit& jit, const machine::Target& target,
                                       const SourceText& tour, const std::string& folder);

}  // namespace porphyry
