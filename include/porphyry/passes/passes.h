// The passes of the library, and the levels they make up. Passes stand in src/passes/, a folder for what they
// work on and a row each in passes.inc.
#pragma once

#include "porphyry/optimize/pipeline.h"
#include "porphyry/rewrite/rule.h"

namespace porphyry {

const PassTable& standard_passes();
// The rewrite rules of `fold`: src/passes/rules/, one after the other by name of file.
const rewrite::RuleTable& standard_rules();
inline Result<Pipeline> read_pipeline(std::string_view text) {
  return read_pipeline(text, standard_passes());
}

// A level means one thing everywhere: which passes run, and how much work lowering does.
//
//   auto level = level_named("-O1");
//   run_pipeline(*module, level->pipeline());
//   auto code = machine::lower(*module, target, machine::LowerOptions::at(*level));
struct Level {
  std::string_view name;  // "-O1"
  std::string_view passes;
  bool improve_code = true;  // lowering orders instructions, and sets up frames only where they are needed
  bool spend_bytes =
      true;              // for speed, in lowering: on where loops begin, and on jumps of their own for cases
  bool observe = false;  // every watched variable and every line at its place
  std::string_view doc;

  Pipeline pipeline() const;
};
std::span<const Level> all_levels();
// Of "-O1" or "O1"; for an unknown level an error that lists those there are.
Result<Level> level_named(std::string_view name);

}  // namespace porphyry
