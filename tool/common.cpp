#include "common.h"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>
#include <sstream>

#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/base/parallel.h"
#include "porphyry/formats/format.h"
#include "porphyry/formats/record.h"
#include "porphyry/ir/words.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/optimize/permit.h"
#include "porphyry/optimize/user_passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"

namespace porphyry::tool {

// For a terminal: control characters of the input as they are escaped in text; colours stay.
static std::string harmless(const std::string& text) {
  std::string out;
  for (size_t k = 0; k < text.size(); ++k) {
    auto c = static_cast<unsigned char>(text[k]);
    size_t end = k + 1;
    if (c == 0x1b && end < text.size() && text[end] == '[') {
      while (end + 1 < text.size() &&
             (std::isdigit(static_cast<unsigned char>(text[end + 1])) || text[end + 1] == ';'))
        ++end;
      if (end + 1 < text.size() && text[end + 1] == 'm') {
        out += text.substr(k, end + 2 - k);
        k = end + 1;
        continue;
      }
    }
    out += (c < 0x20 && c != '\n' && c != '\t') || c == 0x7f ? fmt::format("\\x{:02x}", c)
                                                             : std::string(1, text[k]);
  }
  return out;
}

void say(const std::string& all) {
  const std::string text = isatty(STDERR_FILENO) ? harmless(all) : all;
  std::fwrite(text.data(), 1, text.size(), stderr);
}

void show_progress(const std::string& text) {
  if (isatty(STDERR_FILENO)) fmt::print(stderr, "\r\x1b[K{}", text);
}

void fail(const Diagnostics& why, int status) { throw Failure{status, why}; }

Failure outcome_of(const std::function<void()>& body) {
  try {
    body();
    return {0, {}};
  } catch (const Failure& f) {
    return f;
  } catch (const std::bad_alloc&) {
    return {input_at_fault, {complaint("there is not enough memory for this", "a smaller input")}};
  }
}

void each_on_all_cores(size_t count, const std::function<void(size_t)>& job) {
  std::vector<Failure> failures(count, Failure{0, {}});
  on_all_cores(count, [&](size_t k) { failures[k] = outcome_of([&] { job(k); }); });
  for (Failure& f : failures)
    if (f.status) throw std::move(f);
}

int guarded(const std::function<void()>& body) {
  Failure f = outcome_of(body);
  say(render(f.why));
  return f.status;
}

std::string input_of(const Options& o) {
  if (o.file == "-") {
    std::ostringstream all;
    all << std::cin.rdbuf();
    return all.str();
  }
  auto read = read_file(o.file);
  if (!read) fail(read.why(), input_at_fault);
  return std::move(*read);
}

std::unique_ptr<Loaded> load(const Options& o) { return load(o, input_of(o)); }

// What bytes are that are no module; nothing when they may be one.
static const char* other_than_a_module(std::string_view bytes) {
  if (bytes.find_first_not_of(" \t\r\n") == bytes.npos) return "is empty";
  if (bytes.starts_with("\x7f"
                        "ELF"))
    return "is an object file or a program, which 'show' reads";
  if (bytes.starts_with("!<arch>\n")) return "is an archive: its members have to be taken out first";
  return format_of_bytes(bytes) ? nullptr : "is in no form that is known";
}

std::unique_ptr<Loaded> load(const Options& o, std::string bytes) {
  if (const char* other = other_than_a_module(bytes))
    fail({complaint((o.file == "-" ? "standard input" : "'" + o.file + "'") + " " + other,
                    "a module, " + known_forms())},
         input_at_fault);
  auto out = std::make_unique<Loaded>();
  out->source = std::make_unique<SourceText>(o.file == "-" ? "standard input" : o.file, std::move(bytes));
  auto module = load_module(out->realm, *out->source);
  if (!module) fail(module.why(), input_at_fault);
  out->module = std::move(*module);
  return out;
}

static Level level_of(const Options& o, const char* usual_level) {
  auto level = level_named(o.level.empty() ? usual_level : "-O" + o.level);
  if (!level) fail(level.why(), call_at_fault);
  return *level;
}

void refuse_illegal(const Module& module, const machine::Target& target) {
  Diagnostics wrong = machine::target_problems(module, target);
  if (wrong.empty()) wrong = machine::return_call_problems(module, target);
  if (!wrong.empty()) fail(wrong, input_at_fault);
}

static uint8_t permits_of(const Options& o) {
  uint8_t out = 0;
  for (const std::string& word : o.permits) {
    auto bit = bit_of(word, permit_words());
    if (!bit) {
      std::vector<std::string> known(permit_words().begin(), permit_words().end());
      fail({complaint("no permit is called '" + word + "'", listed(known))}, call_at_fault);
    }
    out |= *bit;
  }
  return out;
}

Pipeline pipeline_of(const Options& o, const char* usual_level) {
  if (!o.level.empty() && !o.pipeline.empty())
    fail({complaint("a level and a pipeline are given", "one of them")}, call_at_fault);
  return o.pipeline.empty() ? level_of(o, usual_level).pipeline() : pipeline_named(o, o.pipeline);
}

PassTable passes_of(const Options& o) {
  PassTable table = standard_passes();
  for (const auto& pass : machine::legalization_passes().all()) table.add(*pass);
  for (const std::string& library : o.libraries)
    if (Diagnostics wrong = load_passes(library, table); !wrong.empty()) fail(wrong, call_at_fault);
  return table;
}

Pipeline pipeline_named(const Options& o, const std::string& text) {
  if (auto level = level_named(text)) return level->pipeline();
  auto p = read_pipeline(text, passes_of(o));
  if (!p) fail(p.why(), call_at_fault);
  return *p;
}

bool wants_target(const Pipeline& pipeline) {
  std::vector<std::string> names = pipeline.names();
  return std::any_of(names.begin(), names.end(),
                     [](const std::string& name) { return machine::legalization_passes().find(name); });
}

void give_facts(const Options& o, Module& module, Notes* notes) {
  if (!o.recorded.empty()) {
    auto record = read_file(o.recorded);
    if (!record) fail(record.why(), input_at_fault);
    SourceText text(o.recorded, *record);
    Diagnostics problems = apply_record(module, text);
    // A part that is stale is told of and left alone; what is no record ends the call.
    if (!problems.empty() && !problems[0].file.empty()) fail(problems, input_at_fault);
    if (!problems.empty()) say(render(problems));
  }
  if (uint8_t permits = permits_of(o)) give_permits(module, permits, notes);
}

void with_pipeline(const Options& o, Module& module, const Pipeline& pipeline, Notes* notes,
                   const std::function<Diagnostics(const PipelineOptions&)>& run) {
  give_facts(o, module, notes);
  // Several files take a thread each.
  PipelineOptions options{.notes = notes, .threads = o.files.size() > 1 ? 1u : 0u};
  std::optional<machine::Coverage> coverage;
  std::optional<machine::Legalizer> legalizer;
  if (wants_target(pipeline)) {
    const machine::Target& target = target_of(o);
    refuse_illegal(module, target);
    coverage.emplace(target, lower_options(o, target).features.value_or(target.usual_features));
    legalizer.emplace(module, target, *coverage);
    options.surroundings = &legalizer->surroundings();
  }
  // What is asked for by name is called from outside, local or not.
  Symbol asked = o.function.empty() ? Symbol() : module.find(o.function);
  bool was_local = asked.exists() && std::exchange(module[asked].is_local, false);
  Diagnostics broken = run(options);
  if (!broken.empty()) fail(broken, input_at_fault);
  if (asked.exists()) module[asked].is_local = was_local;
}

std::unique_ptr<Loaded> optimized(const Options& o, std::unique_ptr<Loaded> loaded, const Pipeline& pipeline,
                                  Notes* notes, std::vector<Drawing>* drawings) {
  Module& module = *loaded->module;
  with_pipeline(o, module, pipeline, notes, [&](PipelineOptions options) {
    options.drawings = drawings;
    return run_pipeline(module, pipeline, options);
  });
  return loaded;
}

std::unique_ptr<Loaded> load_optimized(const Options& o, const char* usual_level, Notes* notes) {
  Pipeline pipeline = pipeline_of(o, usual_level);  // a wrong one is said before anything is read
  return optimized(o, load(o), pipeline, notes);
}

std::string known_levels() {
  std::vector<std::string> names;
  for (const Level& l : all_levels()) names.emplace_back(l.name);
  return listed(names);
}

std::string known_targets() {
  std::vector<std::string> names;
  for (const machine::Target* t : all_targets()) names.emplace_back(t->name);
  return listed(names);
}

const machine::Target& target_of(const Options& o) {
  const machine::Target* found = o.target.empty() ? native_target() : target_named(o.target);
  if (!found)
    fail({complaint(
             o.target.empty() ? "no target is this processor's" : "no target is called '" + o.target + "'",
             known_targets())},
         call_at_fault);
  return *found;
}

void follow_variables(machine::LowerOptions& options, const Module& module) {
  if (module.position_count() && options.variables == machine::Variables::Ignored)
    options.variables = machine::Variables::Followed;
}

machine::LowerOptions lower_options(const Options& o, const machine::Target& target,
                                    const char* usual_level) {
  auto out = machine::LowerOptions::at(level_of(o, usual_level));
  if (o.features == "usual") return out;
  machine::Features bits = 0;
  std::vector<std::string> names(target.features.begin(), target.features.end());
  std::istringstream words(o.features);
  for (std::string word; std::getline(words, word, ',');) {
    auto at = std::find(names.begin(), names.end(), word);
    if (at != names.end())
      bits |= machine::Features(1) << (at - names.begin());
    else if (word != "none")
      fail({complaint(fmt::format("{} has no feature '{}'", target.name, word), listed(names) + ", or none")},
           call_at_fault);
  }
  out.features = bits;
  return out;
}

std::string some_of(const std::string& wanted, const std::vector<std::string>& names) {
  constexpr size_t most = 12;
  if (names.size() <= most) return listed(names);
  std::string near = nearest(wanted, names);
  std::vector<std::string> first(names.begin(), names.begin() + most);
  first.push_back(fmt::format("one of {} more", names.size() - most));
  return (near.empty() ? "" : "perhaps '" + near + "'; there are ") + listed(first);
}

Symbol function_of(const Module& module, const std::string& name) {
  Symbol s = module.find(name);
  if (s.exists() && module.is_function(s)) return s;
  std::vector<std::string> names;
  for (Symbol s : module.functions()) names.emplace_back(module.symbol_name(s));
  fail({complaint("no function with a body is called '" + name + "'",
                  names.empty() ? "a module with functions" : some_of(name, names))},
       call_at_fault);
}

void refuse_idle(const Options& o, std::initializer_list<Needs> all) {
  Diagnostics idle;
  for (const Needs& n : all)
    if (!n.met && o.given.contains(n.option))
      idle.push_back(complaint(std::string(n.option) + " does nothing here", n.when));
  if (!idle.empty()) fail(idle, call_at_fault);
}

std::string known_forms() {
  std::vector<std::string> names;
  for (const Format& f : all_formats()) names.emplace_back(f.name);
  return listed(names);
}

const Format& form_to_write(const Options& o) {
  const Format* by_name = format_named(o.as);
  if (!o.as.empty() && !(by_name && by_name->write))
    fail({complaint("there is no form '" + o.as + "'", known_forms())}, call_at_fault);
  const Format* f = by_name ? by_name : format_of_path(o.output);
  return f && f->write ? *f : *format_named("text");
}

void check_form_ending(const Options& o) {
  std::vector<std::string> endings;
  for (const Format& f : all_formats())
    if (f.write && (o.as.empty() || o.as == f.name)) endings.emplace_back(f.ending);
  check_ending(o, endings);
}

void check_ending(const Options& o, const std::vector<std::string>& names) {
  std::string_view file(o.output);
  file.remove_prefix(file.rfind('/') == file.npos ? 0 : file.rfind('/') + 1);
  size_t dot = file.rfind('.');
  if (dot == file.npos || dot == 0 || file.starts_with("..")) return;
  for (const std::string& e : names)
    if (file.substr(dot) == e) return;
  fail({complaint(fmt::format("nothing that is written here ends in '{}'", file.substr(dot)), listed(names))},
       call_at_fault);
}

void put_out(const Options& o, const std::string& all) {
  if (o.output.empty() || o.output == "-") {
    const std::string text = on_terminal() ? harmless(all) : all;
    bool whole = std::fwrite(text.data(), 1, text.size(), stdout) == text.size();
    if (std::fflush(stdout) != 0 || !whole)
      fail({complaint("standard output cannot be written", "a place that takes the result")}, input_at_fault);
    return;
  }
  Diagnostics failed = write_file(o.output, all);
  if (!failed.empty()) fail(failed, input_at_fault);
}

void tell(const Options& o, const std::string& text) {
  Options out = o;
  out.output.clear();
  put_out(out, text);
}

std::vector<std::string> call_words(const Options& o) {
  std::vector<std::string> out;
  for (const std::string& w : o.words)
    out.push_back(w.starts_with(number_mark) ? w.substr(number_mark.size()) : w);
  return out;
}

std::optional<std::string> filtered(const std::string& command, const std::string& input) {
  // By way of a file: writing and reading one process at once may block both.
  char name[] = "/tmp/porphyry.XXXXXX";
  int file = mkstemp(name);
  if (file < 0) return std::nullopt;
  bool written = write(file, input.data(), input.size()) == static_cast<ssize_t>(input.size());
  close(file);
  std::string out;
  std::FILE* pipe = written ? popen((command + " < " + name + " 2>/dev/null").c_str(), "r") : nullptr;
  char buffer[4096];
  for (size_t n; pipe && (n = fread(buffer, 1, sizeof buffer, pipe)) > 0;) out.append(buffer, n);
  bool good = pipe && pclose(pipe) == 0;
  unlink(name);
  return good ? std::optional(out) : std::nullopt;
}

bool on_terminal() { return isatty(STDOUT_FILENO) != 0; }
bool in_colour(const Options& o) { return o.output.empty() && on_terminal() && !o.no_colour; }

}  // namespace porphyry::tool
