// porphyry: the command-line tool. Arguments are parsed here; each verb is a call or two into the library.
// Returns 0, 1 when the input is at fault, 2 when the call is.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <set>

#include "arguments.h"
#include "common.h"
#include "manual.h"
#include "porphyry/ask/views.h"
#include "porphyry/base/heap.h"
#include "porphyry/render/diagnostics.h"
#include "verbs.h"

namespace {

using porphyry::tool::known_forms;
using porphyry::tool::known_levels;
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
  verb->add_option("-O", o.level, "The level: " + known_levels());
  verb->add_option("--pipeline", o.pipeline,
                   "A written pipeline instead of a level, such as \"promote; fold; sweep\"");
  verb->add_option("--passes", o.libraries, "A shared library with passes of your own, for --pipeline")
      ->allow_extra_args(false);
  verb->add_option("--permit", o.permits,
                   "What passes may do to all floats: reorder, fuse, nonan, noinf, nozerosign, estimate; or "
                   "to loops: ends")
      ->delimiter(',');
  verb->add_option("--recorded", o.recorded,
                   "A record of runs (see run --record): how often edges are taken");
}

void add_colour(CLI::App* verb, Options& o) {
  verb->add_flag("--no-colour", o.no_colour, "Plain text on a terminal, too");
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

// ---- what each verb takes ---------------------------------------------------------------------------------

void options_of_check(CLI::App* verb, Options& o) {
  add_files(verb, o, true);
  add_json(verb, o);
  add_machine(verb, o);
  verb->add_flag("--secret", o.secret,
                 "Where parameters that are marked secret decide branches, are part of addresses, or of what "
                 "takes its time, in the IR and in the code of a level; ends with 1 where they do");
  add_colour(verb, o);
}

void options_of_show(CLI::App* verb, Options& o) {
  add_common(verb, o, true);
  add_output(verb, o);
  verb->add_option("--function", o.function, "Only this function");
  verb->add_option("--as", o.as,
                   "text, or its block graph as dot, svg or png; else by the ending of -o. "
                   "Object files: listing or json; views and slices: json as well");
  std::string views = "blocks";
  for (const porphyry::View& v : porphyry::all_views()) views += ", " + std::string(v.name);
  verb->add_option("--view", o.view, "A drawing in place of the program: " + views);
  verb->add_option("--slice", o.slice, "All that this value of --function depends on");
  verb->add_flag("--forward", o.forward, "With --slice, all that depends on it");
  add_colour(verb, o);
}

void options_of_make_sample(CLI::App* verb, Options& o) {
  add_output(verb, o);
  verb->add_option("--seed", o.seed, "Which program");
  verb->add_option("--count", o.count, "How many programs from the seed on, with --coverage");
  verb->add_flag("--coverage", o.coverage, "Tell how often each operation comes up instead of writing");
  verb->add_flag("--native", o.native, "Always little-endian with pointers of 64 bits");
  verb->add_option("--as", o.as, known_forms());
}

void options_of_operations(CLI::App* verb, Options& o) {
  add_output(verb, o);
  add_json(verb, o);
}

void options_of_pack(CLI::App* verb, Options& o) {
  add_files(verb, o, false);
  add_output(verb, o);
}

void options_of_unpack(CLI::App* verb, Options& o) {
  add_files(verb, o, false);
  add_output(verb, o);
}

void options_of_optimize(CLI::App* verb, Options& o) {
  add_files(verb, o, true);
  add_output(verb, o);
  add_json(verb, o);
  verb->add_flag("--steps", o.steps,
                 "Tell what each pass changed and what it cost; the module is written only with -o");
  verb->add_flag("--difference", o.difference, "With --steps, the lines that each step changed");
  verb->add_option("--pass", o.pass, "With --steps, only those of this pass, and what it changed");
  verb->add_option("--function", o.function,
                   "With --steps, only those of this function, and what changed in it");
  verb->add_flag("--check", o.check,
                 "Evaluate the program before and behind each pass, and name the first one that changed what "
                 "it means; ends with 1 when there is one");
  verb->add_option("--call", o.one_calls,
                   "With --check, \"FUNCTION ARGUMENT …\" in place of inputs that are made; may be repeated")
      ->allow_extra_args(false);
  verb->add_option("--inputs", o.inputs, "With --check, how many inputs are made for each function");
  verb->add_option("--seed", o.seed, "With --check, which inputs are made");
  add_colour(verb, o);
}

void options_of_lower(CLI::App* verb, Options& o) {
  add_files(verb, o, true);
  add_output(verb, o);
  add_machine(verb, o);
  verb->add_option("--function", o.function, "Only this function (listings and IR)");
  verb->add_option(
      "--as", o.as,
      "listing, object, assembly, json, ir or page; else by the ending of -o: .o, .s, .por, .html");
  verb->add_option("--until", o.until, "The last step of legalization to take, with --as ir");
  verb->add_option("--header", o.header, "WebAssembly: also write the C header of the object to this file");
  verb->add_flag("--lives", o.lives, "Where each value lived, not only those that were moved");
  add_colour(verb, o);
}

void options_of_run(CLI::App* verb, Options& o) {
  add_common(verb, o, true);
  add_machine(verb, o);
  verb->add_option("function", o.function,
                   "The function to call; of WebAssembly, an export: _start unless said");
  verb->add_option("arguments", o.words, "Numbers, file:PATH:TYPE[:COLUMN] or zero:BYTES");
  verb->add_option("--on", o.on,
                   "eval (the reference evaluator), native (the processor) or sim (by the book)");
  verb->add_option("--stage", o.stage,
                   "What is simulated: code as it was selected, as it was allocated, or encoded");
  verb->add_option("--seed", o.seed, "What the evaluator fills fresh memory from");
  verb->add_option("--time-limit", o.time_limit, "Seconds for a native run");
  verb->add_option("--step-limit", o.step_limit,
                   "Operations for a run of the evaluator (1,000,000,000 unless said), instructions for one "
                   "of the simulator "
                   "(20,000,000)");
  verb->add_flag(
      "--here", o.here,
      "Native in this process instead of a child, known to a debugger and to the system's profiler");
  verb->add_flag("--lazy", o.lazy, "Native, each function compiled when it is first called");
  verb->add_flag("--memory", o.memory, "Show what changed in memory");
  verb->add_option("--record", o.record, "Write how often each edge was taken to this file, with --on eval");
  verb->add_option("--calls", o.calls,
                   "WebAssembly: a file of calls in one instance, EXPORT ARGUMENT … a line");
  verb->add_flag("--guarded", o.guarded, "WebAssembly: memory is guarded by pages instead of comparisons");
  verb->add_option("--folder", o.folder, "WebAssembly: the folder whose files the program may reach");
  verb->add_option("--env", o.environment, "WebAssembly: NAME=VALUE of the program's environment")
      ->allow_extra_args(false);
  verb->positionals_at_end(false);
}

void options_of_compare(CLI::App* verb, Options& o) {
  add_files(verb, o, true);
  add_output(verb, o);
  add_json(verb, o);
  add_machine(verb, o);
  verb->add_option("--side", o.sides,
                   "One build: -O LEVEL, --pipeline, --with, --permit or another file, such as \"-O2 --with "
                   "none\"; may be repeated. Else each file is one, and of a single file each level")
      ->allow_extra_args(false);
  verb->add_option("--by", o.by, "The figure that sorts, and fills the grid: instructions, bytes, time, …");
  verb->add_option("--call", o.one_calls,
                   "\"FUNCTION ARGUMENT …\" to be timed in every build, as run takes it; may be repeated")
      ->allow_extra_args(false);
  verb->add_option("--function", o.function, "The lines of this function in two builds, beside each other");
  add_colour(verb, o);
}

void options_of_hunt(CLI::App* verb, Options& o) {
  add_common(verb, o, false);
  add_output(verb, o);
  add_json(verb, o);
  add_machine(verb, o);
  verb->add_option("--for", o.goal, "size (bytes of code) or time (of the calls that are given)");
  verb->add_option("--function", o.function, "Only the bytes of this function count");
  verb->add_option("--call", o.one_calls,
                   "\"FUNCTION ARGUMENT …\" to be timed, and checked, as run takes it; may be repeated")
      ->allow_extra_args(false);
  verb->add_option("--time-limit", o.time_limit, "Seconds to search; interrupting it ends it as well");
  verb->add_option("--rounds", o.rounds, "Generations, instead of as many as the time allows");
  verb->add_option("--state", o.state, "A file that the search is written to, and goes on from");
  verb->add_option("--seed", o.seed, "Which search");
  verb->add_option("--threads", o.threads, "How many pipelines are tried at a time; one a core unless said");
  verb->add_flag(
      "--spread", o.spread,
      "Among the processes that an MPI has started: mpirun --enable-recovery -n 16 porphyry hunt …");
}

void options_of_prove(CLI::App* verb, Options& o) {
  add_common(verb, o, true);
  add_output(verb, o);
  add_json(verb, o);
  verb->add_option("--against", o.against,
                   "Another file with functions of the same names, instead of a level");
  verb->add_option("--function", o.function, "Only this function");
  verb->add_option("--bound", o.bound, "Rounds of loops, all together, that a run may take (4 unless said)");
  verb->add_option("--time-limit", o.time_limit,
                   "Seconds for each function: to follow it, and again for the solver");
  add_colour(verb, o);
}

void options_of_manual(CLI::App* verb, Options& o) {
  add_output(verb, o);
  verb->add_option("--as", o.as, "man (the manual page), or completions for bash, zsh or fish");
}

void options_of_trace(CLI::App* verb, Options& o) {
  add_common(verb, o, true);
  add_output(verb, o);
  add_json(verb, o);
  verb->add_option("function", o.function, "The function to call");
  verb->add_option("arguments", o.words, "As run takes them");
  verb->add_option("--against", o.against,
                   "Run a second form in step and point at the first value that differs: a level, a written "
                   "pipeline, or a file");
  verb->add_option(
      "--stage", o.stage,
      "What runs: the program itself (ir, unless said), or its code as it was selected, as it was "
      "allocated, or encoded, with registers, lanes and flags");
  verb->add_flag("--bits", o.bits, "The bits of each value, too");
  verb->add_option("--in", o.inside, "Only values made in this function");
  add_machine(verb, o);
  verb->add_option("--value", o.value, "Only this value");
  verb->add_option("--skip", o.skip, "Lines to leave out at the beginning");
  verb->add_option("--lines", o.lines, "Lines to show (2,000 unless said)");
  verb->add_option("--seed", o.seed, "What the evaluator fills fresh memory from");
  verb->add_option("--step-limit", o.step_limit, "Operations (1,000,000,000 unless said)");
  verb->positionals_at_end(false);
}

void options_of_shrink(CLI::App* verb, Options& o) {
  add_common(verb, o, false);
  add_output(verb, o);
  verb->add_option("--test", o.test,
                   "A command; {} stands for the file with a smaller program. It is kept when the command "
                   "ends as it does with the whole program")
      ->required();
  verb->add_option("--says", o.says, "And when what the command prints holds these words");
  verb->add_option("--time-limit", o.time_limit, "Seconds that the command may take");
  verb->add_option("--threads", o.threads, "How many commands run at a time; one a core unless said");
}

void options_of_why(CLI::App* verb, Options& o) {
  add_common(verb, o, true);
  add_output(verb, o);
  add_json(verb, o);
  add_machine(verb, o);
  verb->add_option("--function", o.function, "Only this function");
  verb->add_option("--line", o.line, "Only this line of the source: 24, or frost.fml:24");
  verb->add_option("--value", o.value, "Only this value");
  verb->add_option("--pass", o.pass, "Only this pass");
  verb->add_option("--kind", o.kind,
                   "done, declined, seen, or left: what stands there and would not be expected");
  verb->add_option("--text", o.text, "Only notes that hold these words");
  verb->add_flag(
      "--beside", o.beside,
      "The notes below the lines they are about, of the source if it is there, else of the program");
  verb->add_flag("--sarif", o.sarif, "As SARIF, the standard for findings of tools");
  verb->add_option("--code", o.code,
                   "Why the code of one value is what it is, or the instruction at an offset: the rules "
                   "that were tried, and where the value lay");
  add_colour(verb, o);
}

void options_of_demo(CLI::App* verb, Options& o) {
  verb->add_option("--folder", o.folder,
                   "Where frostwatch.por and its data lie; those that are shipped otherwise");
  add_colour(verb, o);
}

struct Verb {
  const char *name, *doc;
  void (*options)(CLI::App* verb, Options& o);
  int (*run)(const Options& o);
};
constexpr Verb verbs[] = {
    {"check", "Reads and verifies a module; all mistakes at once", options_of_check,
     porphyry::tool::verb_check},
    {"show",
     "Writes the program in canonical text form, a function's block graph, or the listing of an object file "
     "by any compiler",
     options_of_show, porphyry::tool::verb_show},
    {"make-sample", "Writes a generated program, always the same for one seed", options_of_make_sample,
     porphyry::tool::verb_make_sample},
    {"operations", "The table of operations, as Markdown or JSON", options_of_operations,
     porphyry::tool::verb_operations},
    {"pack", "A module to its packed form", options_of_pack, porphyry::tool::verb_pack},
    {"unpack", "A packed module to its text form", options_of_unpack, porphyry::tool::verb_unpack},
    {"optimize", "IR to IR through a level or a written pipeline", options_of_optimize,
     porphyry::tool::verb_optimize},
    {"lower", "To machine code: a listing, an object file, assembly text, JSON or legalized IR",
     options_of_lower, porphyry::tool::verb_lower},
    {"run", "Calls a function: porphyry run night.por chill file:temps.txt:f32 96 2.5 --on native",
     options_of_run, porphyry::tool::verb_run},
    {"why", "The notes of the passes: what was done, what was declined and what would unlock it",
     options_of_why, porphyry::tool::verb_why},
    {"compare", "Builds side by side: levels, pipelines, features, files, objects of other compilers",
     options_of_compare, porphyry::tool::verb_compare},
    {"hunt", "Searches for the pipeline that makes the program smallest, or calls of it fastest",
     options_of_hunt, porphyry::tool::verb_hunt},
    {"trace",
     "A call step by step, each value in all its forms; --against runs two forms of the program in step",
     options_of_trace, porphyry::tool::verb_trace},
    {"shrink", "Cuts a program down to what still makes a command end as it does", options_of_shrink,
     porphyry::tool::verb_shrink},
    {"prove", "Whether functions mean the same behind passes, or in another file, for all inputs",
     options_of_prove, porphyry::tool::verb_prove},
    {"manual", "The manual page, or completions for a shell", options_of_manual, nullptr},
    {"demo", "The whole tour on the shipped night of readings", options_of_demo, porphyry::tool::verb_demo},
};

// Negative numbers are arguments of a call, not options: all words that look like numbers are handed over
// behind a mark that is taken off again. The last one comes first, as the parser wants it.
std::vector<std::string> marked_words(int count, char** arguments) {
  std::vector<std::string> words;
  for (int k = count - 1; k > 0; --k) {
    std::string w = arguments[k];
    if (w.size() > 1 && w[0] == '-' &&
        (std::isdigit(static_cast<unsigned char>(w[1])) || w == "-inf" || w == "-nan"))
      w = porphyry::tool::number_mark + w;
    words.push_back(w);
  }
  return words;
}

int print_manual(const CLI::App& app, const Options& o) {
  using namespace porphyry::tool;
  return guarded([&] {
    const std::string as = o.as.empty() ? "man" : o.as;
    const std::string text = as == "man" ? man_page(app) : completion(app, as);
    if (text.empty())
      fail({porphyry::complaint("there is no manual in the form '" + as + "'", "man, bash, zsh or fish")},
           call_at_fault);
    put_out(o, text);
  });
}

// What is wrong with a word in the place of a verb; nothing when it is one, or an option.
std::optional<porphyry::Diagnostic> unknown_verb(const std::string& word) {
  std::vector<std::string> names;
  for (const Verb& v : verbs) names.emplace_back(v.name);
  if (word.starts_with('-') || std::find(names.begin(), names.end(), word) != names.end())
    return std::nullopt;
  std::string near = porphyry::nearest(word, names);
  return porphyry::complaint("there is no verb '" + word + "'",
                             near.empty()
                                 ? porphyry::listed(names)
                                 : "perhaps '" + near + "'; the verbs are " + porphyry::listed(names, "and"));
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
  for (const Verb& v : verbs) {
    CLI::App* verb = app.add_subcommand(v.name, v.doc);
    v.options(verb, o);
    verb->callback([&app, &o, &status, &v, verb] {
      o.given = given_to(*verb);
      status = v.run ? v.run(o) : print_manual(app, o);
    });
  }
  if (count > 1)
    if (auto d = unknown_verb(arguments[1])) return say(porphyry::render({*d})), 2;
  speak_our_form(app);
  try {
    app.parse(marked_words(count, arguments));
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);  // help, or the version
    say(porphyry::render({call_problem(app, e)}));
    return 2;
  }
  return status;
}
