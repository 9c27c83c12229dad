// What verbs share: loading a module through a level, picking a target, writing a result.
#pragma once

#include <functional>
#include <memory>
#include <optional>

#include "porphyry/base/source_text.h"
#include "porphyry/formats/format.h"
#include "porphyry/ir/module.h"
#include "porphyry/machine/lower.h"
#include "porphyry/passes/passes.h"
#include "verbs.h"

namespace porphyry::tool {

constexpr int input_at_fault = 1, call_at_fault = 2;

// A verb's way out when something is wrong.
struct Failure {
  int status;
  Diagnostics why;
};
// To standard error; a failure to write there is ignored.
void say(const std::string& text);
// How far something is: over the line before, on a terminal only. Empty: takes it away.
void show_progress(const std::string& text);
[[noreturn]] void fail(const Diagnostics& why, int status);

struct Loaded {
  Realm realm;
  std::unique_ptr<SourceText> source;
  std::unique_ptr<Module> module;
};

// What may stand for a name that is not there: all names of a few, of many the nearest and the first dozen.
std::string some_of(const std::string& wanted, const std::vector<std::string>& names);

// A file's bytes, or those of standard input.
std::string input_of(const Options& o);
std::unique_ptr<Loaded> load(const Options& o);
std::unique_ptr<Loaded> load(const Options& o, std::string bytes);
Pipeline pipeline_of(const Options& o, const char* usual_level);
// Of a level's name or a written pipeline, of all passes and those of the call's libraries.
Pipeline pipeline_named(const Options& o, const std::string& text);
// All passes that a pipeline may name.
PassTable passes_of(const Options& o);
// Whether a step of legalization is among the passes.
bool wants_target(const Pipeline& pipeline);
// Loads and runs the pipeline. One that is already loaded, or one from the input.
std::unique_ptr<Loaded> optimized(const Options& o, std::unique_ptr<Loaded> loaded, const Pipeline& pipeline,
                                  Notes* notes = nullptr, std::vector<Drawing>* drawings = nullptr);
std::unique_ptr<Loaded> load_optimized(const Options& o, const char* usual_level, Notes* notes = nullptr);
// Records and permits that the call gives.
void give_facts(const Options& o, Module& module, Notes* notes = nullptr);
// The same for a run of one's own, with all that passes need.
void with_pipeline(const Options& o, Module& module, const Pipeline& pipeline, Notes* notes,
                   const std::function<Diagnostics(const PipelineOptions&)>& run);
// Fails when a module is not one that legalization takes.
void refuse_illegal(const Module& module, const machine::Target& target);
const machine::Target& target_of(const Options& o);
machine::LowerOptions lower_options(const Options& o, const machine::Target& target,
                                    const char* usual_level = "-O0");
// For debuggers, which find code by its lines: where there are any, variables as well.
void follow_variables(machine::LowerOptions& options, const Module& module);
Symbol function_of(const Module& module, const std::string& name);
void put_out(const Options& o, const std::string& text);
// What is told of a run; with -o for what it makes, still to standard output.
void tell(const Options& o, const std::string& text);
// Arguments of a call as they were given: the mark of negative numbers is off.
std::vector<std::string> call_words(const Options& o);

// An option that does something only for some calls; one that would do nothing is refused.
struct Needs {
  const char *option, *when;  // the second in words
  bool met;
};
void refuse_idle(const Options& o, std::initializer_list<Needs> all);
// The ending of -o must be one of these, where it has one.
void check_ending(const Options& o, const std::vector<std::string>& endings);
// Modules can be written in several forms: the one that --as names, or that the ending of -o asks for, or
// text.
const Format& form_to_write(const Options& o);
void check_form_ending(const Options& o);
std::string known_forms();    // in words
std::string known_targets();  // in words
std::string known_levels();   // in words
bool on_terminal();
// Whether what goes to the output of this call is coloured.
bool in_colour(const Options& o);
// What a command of the system writes when it reads `input`; nothing when it fails.
std::optional<std::string> filtered(const std::string& command, const std::string& input);

// Runs the body and gives what it failed with; status 0 when it did not.
Failure outcome_of(const std::function<void()>& body);
// Does a job for each number below the count, several at a time; fails as the first of those that failed.
void each_on_all_cores(size_t count, const std::function<void(size_t)>& job);
// Runs a verb's body, says what went wrong, and gives the status.
int guarded(const std::function<void()>& body);

// Does a job for every input: one in place, several on all cores, with a line on the terminal of how far it
// has come when it takes longer than a second. What comes of one goes where -o says; of several, to standard
// output one after the other, or into the folder that -o names, as the input's name with this ending.
// Failures of one do not keep the others back; they are said in the order of inputs. Without an ending,
// nothing is put out.
int over_inputs(const Options& o, const std::string& ending,
                const std::function<std::string(const Options&)>& job);

}  // namespace porphyry::tool
