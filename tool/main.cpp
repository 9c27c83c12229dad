// porphyry: the command-line tool. Arguments are parsed here; each verb is a call or two into the library.
// Returns 0, 1 when the input is at fault, 2 when the call is.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <set>

#include "arguments.h"
#include "common.h"
#include "porphyry/base/heap.h"
#include "porphyry/render/diagnostics.h"
#include "verbs.h"

namespace {

using porphyry::tool::known_forms;
using porphyry::tool::known_targets;
using porphyry::tool::Options;

void add_level(CLI::App* verb, Options& o);

void add_common(CLI::App* verb, Options& o, bool with_level) {
  verb->add_option("file", o.file, "A module (" + known_forms() + "); - for standard input, which is usual");
  if (with_level) add_level(verb, o);
}
void add_files(CLI::App* verb, Options& o, bool with_level) {
  verb->add_option("files", o.files, "Modules (" + known_forms() + "); standard input when there is none");
  verb->parse_complete_callback([&o] {
    if (o.files.empty()) o.files = {"-"};
    o.file = o.files[0];
  });
  if (with_level) add_level(verb, o);
}

void add_level(CLI::App* verb, Options& o) {
  verb->add_option("-O", o.level, "The level: -O0 or -O1");
  verb->add_option("--pipeline", o.pipeline,
                   "A written pipeline instead of a level, such as \"promote; fold; sweep\"");
}

void add_output(CLI::App* verb, Options& o) {
  verb->add_option("-o", o.output, "Where to write (a folder for several inputs); standard output otherwise")
      ->type_name("FILE");
}
void add_json(CLI::App* verb, Options& o) { verb->add_flag("--json", o.json, "Report as JSON"); }
void add_machine(CLI::App* verb, Options& o) {
  verb->add_option("--target", o.target, "The target: " + known_targets() + "; usually this processor's");
  verb->add_option("--with", o.features, "The features to use, separated by commas, or none");
}

// The options that a call has, by name.
std::set<std::string> given_to(const CLI::App& verb) {
  std::set<std::string> out;
  for (const CLI::Option* option : verb.get_options())
    if (option->count() > 0) out.insert(option->get_name());
  return out;
}

}  // namespace

int main(int count, char** arguments) {
  using namespace porphyry::tool;
  porphyry::keep_freed_memory();
  CLI::App app(
      "Porphyry lowers, optimizes and runs programs in its intermediate representation, and gives its "
      "reasons.",
      "porphyry");
  app.require_subcommand(1);
  app.set_version_flag("--version", "porphyry " PORPHYRY_VERSION)->description("Which version this is");
  Options o;
  int status = 0;

  auto* check = app.add_subcommand("check", "Reads and verifies a module; all mistakes at once");
  add_files(check, o, false);
  add_json(check, o);
  check->callback([&] {
    o.given = given_to(*check);
    status = verb_check(o);
  });

  auto* show =
      app.add_subcommand("show",
                         "Writes the program in canonical text form, a function's block graph, or the "
                         "listing of an object file by any compiler");
  add_common(show, o, true);
  add_output(show, o);
  show->add_option("--function", o.function, "Only this function");
  show->add_option("--as", o.as,
                   "text, or its block graph as dot, svg or png; else by the ending of -o. "
                   "Object files: listing or json");
  show->add_flag("--no-colour", o.no_colour, "Plain text on a terminal, too");
  show->callback([&] {
    o.given = given_to(*show);
    status = verb_show(o);
  });

  auto* sample =
      app.add_subcommand("make-sample", "Writes a generated program, always the same for one seed");
  add_output(sample, o);
  sample->add_option("--seed", o.seed, "Which program");
  sample->add_option("--count", o.count, "How many programs from the seed on, with --coverage");
  sample->add_flag("--coverage", o.coverage, "Tell how often each operation comes up instead of writing");
  sample->add_flag("--native", o.native, "Always little-endian with pointers of 64 bits");
  sample->add_option("--as", o.as, known_forms());
  sample->callback([&] {
    o.given = given_to(*sample);
    status = verb_make_sample(o);
  });

  auto* operations = app.add_subcommand("operations", "The table of operations, as Markdown or JSON");
  add_output(operations, o);
  add_json(operations, o);
  operations->callback([&] {
    o.given = given_to(*operations);
    status = verb_operations(o);
  });

  auto* pack = app.add_subcommand("pack", "A module to its packed form");
  add_files(pack, o, false);
  add_output(pack, o);
  pack->callback([&] {
    o.given = given_to(*pack);
    status = verb_pack(o);
  });

  auto* unpack = app.add_subcommand("unpack", "A packed module to its text form");
  add_files(unpack, o, false);
  add_output(unpack, o);
  unpack->callback([&] {
    o.given = given_to(*unpack);
    status = verb_unpack(o);
  });

  auto* optimize = app.add_subcommand("optimize", "IR to IR through a level or a written pipeline");
  add_files(optimize, o, true);
  add_output(optimize, o);
  optimize->add_flag("--steps", o.steps, "Tell what each pass changed, on standard error");
  optimize->callback([&] {
    o.given = given_to(*optimize);
    status = verb_optimize(o);
  });

  auto* lower = app.add_subcommand(
      "lower", "To machine code: a listing, an object file, assembly text, JSON or legalized IR");
  add_files(lower, o, true);
  add_output(lower, o);
  add_machine(lower, o);
  lower->add_option("--function", o.function, "Only this function (listings and IR)");
  lower->add_option("--as", o.as,
                    "listing, object, assembly, json or ir; else by the ending of -o: .o, .s, .por");
  lower->add_option("--until", o.until, "The last step of legalization to take, with --as ir");
  lower->add_flag("--lives", o.lives, "Where each value lived, not only those that were moved");
  lower->add_flag("--no-colour", o.no_colour, "Plain text on a terminal, too");
  lower->callback([&] {
    o.given = given_to(*lower);
    status = verb_lower(o);
  });

  auto* run = app.add_subcommand(
      "run", "Calls a function: porphyry run night.por chill file:temps.txt:f32 96 2.5 --on native");
  add_common(run, o, true);
  add_machine(run, o);
  run->add_option("function", o.function, "The function to call")->required();
  run->add_option("arguments", o.words, "Numbers, file:PATH:TYPE[:COLUMN] or zero:BYTES");
  run->add_option("--on", o.on,
                  "eval (the reference evaluator), native (the processor) or sim (by the book)");
  run->add_option("--stage", o.stage,
                  "What is simulated: code as it was selected, as it was allocated, or encoded");
  run->add_option("--seed", o.seed, "What the evaluator fills fresh memory from");
  run->add_option("--time-limit", o.time_limit, "Seconds for a native run");
  run->add_option("--step-limit", o.step_limit,
                  "Operations for a run of the evaluator (1,000,000,000 unless said), instructions for one "
                  "of the simulator "
                  "(20,000,000)");
  run->add_flag("--trace", o.trace, "Each simulated instruction and what it changed, on standard error");
  run->add_flag(
      "--here", o.here,
      "Native in this process instead of a child, known to a debugger and to the system's profiler");
  run->add_flag("--lazy", o.lazy, "Native, each function compiled when it is first called");
  run->add_flag("--memory", o.memory, "Show what changed in memory");
  run->positionals_at_end(false);
  run->callback([&] {
    o.given = given_to(*run);
    status = verb_run(o);
  });

  auto* why = app.add_subcommand(
      "why", "The notes of the passes: what was done, what was declined and what would unlock it");
  add_common(why, o, true);
  add_json(why, o);
  why->add_option("--function", o.function, "Only this function");
  why->callback([&] {
    o.given = given_to(*why);
    status = verb_why(o);
  });

  auto* demo = app.add_subcommand("demo", "The whole tour on the shipped night of readings");
  demo->add_option("--folder", o.folder,
                   "Where frostwatch.por and its data lie; those that are shipped otherwise");
  demo->add_flag("--no-colour", o.no_colour, "Plain text on a terminal, too");
  demo->callback([&] {
    o.given = given_to(*demo);
    status = verb_demo(o);
  });

  // Negative numbers are arguments of a call, not options: behind the function's name all words that look
  // like numbers are handed over behind a mark that is taken off again.
  std::vector<std::string> words;
  for (int k = count - 1; k > 0; --k) {
    std::string w = arguments[k];
    if (w.size() > 1 && w[0] == '-' &&
        (std::isdigit(static_cast<unsigned char>(w[1])) || w == "-inf" || w == "-nan"))
      w = number_mark + w;
    words.push_back(w);
  }
  std::vector<std::string> verbs;
  for (const CLI::App* verb : app.get_subcommands({})) verbs.push_back(verb->get_name());
  if (count > 1 && arguments[1][0] != '-' &&
      std::find(verbs.begin(), verbs.end(), arguments[1]) == verbs.end()) {
    std::string near = porphyry::nearest(arguments[1], verbs);
    porphyry::Diagnostic d = porphyry::complaint(
        "there is no verb '" + std::string(arguments[1]) + "'",
        near.empty() ? porphyry::listed(verbs)
                     : "perhaps '" + near + "'; the verbs are " + porphyry::listed(verbs, "and"));
    say(porphyry::render({d}));
    return 2;
  }
  speak_our_form(app);
  try {
    app.parse(words);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);  // help, or the version
    say(porphyry::render({call_problem(app, e)}));
    return 2;
  }
  return status;
}
