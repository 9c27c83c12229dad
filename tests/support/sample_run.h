// Generated programs called by the evaluator.
#pragma once

#include "porphyry/eval/evaluator.h"
#include "porphyry/sample/sample.h"

namespace porphyry::testing {

// The arguments of a generated program: the piece's address, then a datum a lane.
inline std::vector<Datum> sample_arguments(const Sample& program, Datum piece) {
  std::vector<Datum> out{piece};
  const auto& types = program.module->function(program.main).signature().parameters;
  size_t at = 0;
  for (size_t k = 1; k < types.size(); ++k)
    for (unsigned lane = 0; lane < types[k].lanes(); ++lane) {
      Datum d{program.arguments[at++], 0};
      if (types[k].words_per_lane() == 2) d.high = program.arguments[at++];
      out.push_back(d);
    }
  return out;
}

}  // namespace porphyry::testing
