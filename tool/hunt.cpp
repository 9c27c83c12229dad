// Searches for the best pipeline, for as long as there is time; goes on where it stopped.
#include <dlfcn.h>
#include <fmt/format.h>

#include <chrono>
#include <csignal>
#include <filesystem>

#include "common.h"
#include "porphyry/ask/crew.h"
#include "porphyry/ask/hunt.h"
#include "porphyry/base/files.h"
#include "porphyry/render/hunt.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

// Whether somebody has asked for an end: a handler can only set a mark.
volatile std::sig_atomic_t& interrupted() {
  static volatile std::sig_atomic_t it = 0;
  return it;
}

// What this process and its like talk through.
std::unique_ptr<Messenger> join() {
  std::error_code none;
  const auto tool = std::filesystem::read_symlink("/proc/self/exe", none).parent_path();
  for (const auto& folder : {tool, tool / ".." / PORPHYRY_LIBRARIES / "porphyry"}) {
    const auto file = folder / "porphyry_spread.so";
    if (!std::filesystem::exists(file, none)) continue;
    void* library = dlopen(file.c_str(), RTLD_NOW | RTLD_GLOBAL);
    auto make = library ? reinterpret_cast<Messenger* (*)()>(dlsym(library, "porphyry_messenger")) : nullptr;
    if (!make)
      fail({complaint(fmt::format("'{}' cannot be loaded: {}", file.string(), dlerror()),
                      "an MPI, as it was there when the tool was built")},
           input_at_fault);
    std::unique_ptr<Messenger> out(make());
    if (out->count() < 2) {
      out->leave(true);
      fail({complaint("--spread, and this is the only process", "mpirun -n 4 porphyry hunt … --spread")},
           call_at_fault);
    }
    return out;
  }
  fail({complaint("there is no porphyry_spread.so beside the tool", "the library that it is installed with")},
       input_at_fault);
}

HuntState begin(const Options& o, const Module& module) {
  HuntState state{.seed = o.seed};
  if (o.state.empty() || !std::filesystem::exists(o.state)) return state;
  auto text = read_file(o.state);
  if (!text) fail(text.why(), input_at_fault);
  auto read = read_state(o.state, *text);
  if (!read) fail(read.why(), input_at_fault);
  if (read->program != hash_of(module))
    fail({complaint("'" + o.state + "' belongs to another program",
                    "a file that is not there yet, or its program")},
         input_at_fault);
  return *read;
}

}  // namespace

int verb_hunt(const Options& o) {
  return guarded([&] {
    check_ending(o, {o.json ? ".json" : ".txt"});
    if (o.goal != "size" && o.goal != "time")
      fail({complaint("nothing is searched for by '" + o.goal + "'", "size or time")}, call_at_fault);
    const machine::Target& target = target_of(o);
    auto loaded = load(o);
    give_facts(o, *loaded->module);
    refuse_illegal(*loaded->module, target);
    if (!o.function.empty()) function_of(*loaded->module, o.function);
    // So many generations take as long as they take, unless the call says otherwise.
    const bool timed = o.rounds == 0 || o.given.contains("--time-limit");
    const auto end =
        std::chrono::steady_clock::now() + std::chrono::duration<double>(timed ? o.time_limit : 1e6);
    HuntQuestion question{
        .goal = o.goal == "size" ? HuntQuestion::Goal::Size : HuntQuestion::Goal::Time,
        .function = o.function,
        // Code as that of the level for the same goal, whose passes are sought.
        .options = lower_options(o, target, o.goal == "size" ? "-Os" : "-O2"),
        .threads = o.threads,
        .cancelled = [&] { return interrupted() != 0 || std::chrono::steady_clock::now() > end; }};
    for (const std::string& text : o.one_calls) question.calls.push_back(read_call(text));
    HuntState state = begin(o, *loaded->module);
    auto hunt = Hunt::make(*loaded->module, question, target);
    if (!hunt) fail(hunt.why(), call_at_fault);
    const std::unique_ptr<Messenger> messenger = o.spread ? join() : nullptr;
    if (messenger && messenger->self() != 0) {
      if (Diagnostics wrong = answer(*messenger, **hunt); !wrong.empty()) fail(wrong, input_at_fault);
      return;
    }
    auto crew = messenger ? std::make_unique<Crew>(*messenger, (*hunt)->stamp()) : nullptr;
    question.crew = crew.get();
    std::signal(SIGINT, [](int) { interrupted() = 1; });
    while (o.rounds == 0 || state.generation < o.rounds) {
      if (!(*hunt)->next_generation(state)) break;
      if (crew && !crew->strangers().empty())
        fail(
            {complaint(fmt::format("{} of the processes search for something else", crew->strangers().size()),
                       "the same program, options and version in all of them")},
            input_at_fault);
      if (!o.state.empty())
        if (Diagnostics wrong = write_file(o.state, write_state(state)); !wrong.empty())
          fail(wrong, input_at_fault);
      show_progress(fmt::format("generation {}, {} pipelines, best {:.0f}", state.generation, state.built,
                                state.best.empty() ? 0 : state.best[0].cost));
    }
    std::signal(SIGINT, SIG_DFL);
    show_progress("");
    crew.reset();
    if (state.best.empty())
      fail({complaint("there was no time for the first pipelines", "a longer --time-limit")}, input_at_fault);
    const Recipe recipe = (*hunt)->best(state);
    put_out(o, o.json ? render_json(recipe, state, question) : render(recipe, state, question));
  });
}

}  // namespace porphyry::tool
