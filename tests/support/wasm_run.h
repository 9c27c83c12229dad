// Runs WebAssembly modules in tests on every engine there is, and compares.
#pragma once

#include <gtest/gtest.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/host/instance.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"

namespace porphyry::testing {

struct Engine {
  const char* name;
  bool native = false, guarded = false;
  const char* level = "-O0";
};
inline constexpr Engine engines[] = {{"evaluator"},
                                     {"evaluator -O1", false, false, "-O1"},
                                     {"native", true},
                                     {"native guarded", true, true},
                                     {"native -O1", true, false, "-O1"},
                                     {"native guarded -O1", true, true, "-O1"},
                                     {"evaluator -O2", false, false, "-O2"},
                                     {"native -O2", true, false, "-O2"}};

inline std::shared_ptr<wasm::LoadedProgram> must_load(std::string bytes,
                                                      const wasm::ReadOptions& options = {}) {
  auto program = wasm::load_program("test.wasm", std::move(bytes), options);
  EXPECT_TRUE(program.good()) << render(program.why());
  if (!program) return nullptr;
  Diagnostics wrong = verify(*(*program)->program.module);
  EXPECT_TRUE(wrong.empty()) << render(wrong);
  return wrong.empty() ? *program : nullptr;
}

inline Result<std::unique_ptr<wasm::Instance>> instance_of(const Engine& e, std::string bytes,
                                                           const wasm::Imports& imports = {}) {
  auto program = must_load(std::move(bytes), {.guarded = e.guarded});
  if (!program) return complaint("not read");
  auto level = level_named(e.level);
  run_pipeline(*program->program.module, level->pipeline());
  if (!e.native) return make_evaluated_instance(program, imports);
  auto code = wasm::NativeCode::compile(program, *native_target(), machine::LowerOptions::at(*level));
  if (!code) return code.why();
  return make_instance(*code, imports);
}

// "7", "7, 2.5" or "trap: why".
inline std::string outcome(const wasm::CallResult& run) {
  if (run.end != wasm::CallResult::End::Result)
    return "trap: " + run.message.substr(0, run.message.find(", in "));
  std::string out;
  for (const Datum& d : run.results)
    out += (out.empty() ? "" : ", ") + std::to_string(static_cast<int64_t>(d.bits)) +
           (d.high ? ":" + std::to_string(d.high) : "");
  return out;
}

}  // namespace porphyry::testing
