// What verbs share: loading a module through a level, picking a target, writing a result.
#pragma once

#include <memory>
#include <new>
#include <optional>

#include "porphyry/base/source_text.h"
#include "porphyry/ir/module.h"
#include "porphyry/machine/lower.h"
#include "porphyry/optimize/pipeline.h"
#include "verbs.h"

namespace porphyry::tool {

constexpr int input_at_fault = 1, call_at_fault = 2;

// A verb's way out when something is wrong; the diagnostics are already printed.
struct Failure {
  int status;
};
[[noreturn]] void fail(const Diagnostics& why, int status);

struct Loaded {
  Realm realm;
  std::unique_ptr<SourceText> source;
  std::unique_ptr<Module> module;
};

std::unique_ptr<Loaded> load(const Options& o);
Pipeline pipeline_of(const Options& o, const char* usual_level);
// Loads and runs the pipeline.
std::unique_ptr<Loaded> load_optimized(const Options& o, const char* usual_level, Notes* notes = nullptr,
                                       std::vector<StepRecord>* steps = nullptr);
const machine::Target& target_of(const Options& o);
machine::LowerOptions lower_options(const Options& o, const machine::Target& target);
Symbol function_of(const Module& module, const std::string& name);
void put_out(const Options& o, const std::string& text);
bool on_terminal();
// What a command of the system writes when it reads `input`; nothing when it fails.
std::optional<std::string> filtered(const std::string& command, const std::string& input);

// Says so, and gives the status.
int out_of_memory();

// Runs a verb's body and turns failures into a status.
template <class Body>
int guarded(Body body) {
  try {
    body();
    return 0;
  } catch (const Failure& f) {
    return f.status;
  } catch (const std::bad_alloc&) {
    return out_of_memory();
  }
}

}  // namespace porphyry::tool
