#include "instances.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "porphyry/base/files.h"
#include "porphyry/call/session.h"
#include "porphyry/host/for_c.h"
#include "porphyry/host/wasi.h"

namespace porphyry::tool {
namespace {

wasm::WasiOptions wasi_options(const Options& o, const std::vector<std::string>& words) {
  wasm::WasiOptions out;
  out.arguments = words;
  out.arguments.insert(out.arguments.begin(), o.file);
  for (const std::string& e : o.environment) {
    size_t equals = e.find('=');
    if (equals == e.npos || equals == 0)
      fail({complaint("'" + e + "' names nothing of an environment", "NAME=VALUE")}, call_at_fault);
    out.environment.emplace_back(e.substr(0, equals), e.substr(equals + 1));
  }
  if (!o.folder.empty() && access(o.folder.c_str(), R_OK | X_OK) != 0)
    fail({complaint("the folder '" + o.folder + "' cannot be read")}, call_at_fault);
  out.folder = o.folder;
  out.seed = o.seed;
  out.input = [](std::span<uint8_t> to) {
    ssize_t n = read(STDIN_FILENO, to.data(), to.size());
    return n < 0 ? size_t(0) : static_cast<size_t>(n);
  };
  out.output = [](std::string_view text) { fmt::print("{}", text), std::fflush(stdout); };
  out.errors = [](std::string_view text) { fmt::print(stderr, "{}", text); };
  return out;
}

std::unique_ptr<wasm::Instance> made(const Options& o, std::shared_ptr<wasm::LoadedProgram> program,
                                     const wasm::Imports& imports) {
  Result<std::unique_ptr<wasm::Instance>> out = Diagnostics();
  if (o.on == "eval") {
    out = make_evaluated_instance(std::move(program), imports, {.seed = o.seed, .step_limit = o.step_limit});
  } else {
    const machine::Target& target = target_of(o);
    auto code = wasm::NativeCode::compile(std::move(program), target, lower_options(o, target));
    if (!code) fail(code.why(), input_at_fault);
    out = make_instance(*code, imports, {.time_limit_seconds = o.time_limit});
  }
  if (!out) fail(out.why(), input_at_fault);
  return std::move(*out);
}

// What ended otherwise than by a result ends the tool.
void check(const wasm::CallResult& run, const std::string& called) {
  using End = wasm::CallResult::End;
  if (run.end == End::Result || (run.end == End::Exit && run.exit_code == 0)) return;
  if (run.end == End::Exit) throw Failure{static_cast<int>(run.exit_code & 0xff), {}};
  say(fmt::format("{}: {}{}\n", run.end == End::Trap ? "a trap" : "not finished", run.message,
                  called.empty() ? "" : fmt::format(", called as '{}'", called)));
  throw Failure{input_at_fault, {}};
}

}  // namespace

void run_instance(const Options& o, std::string bytes) {
  refuse_idle(o, {{"--here", "--here with a module of the IR", false},
                  {"--lazy", "--lazy with a module of the IR", false},
                  {"--stage", "--stage with a module of the IR", false},
                  {"--guarded", "--guarded with --on native", o.on == "native"}});
  if (!o.calls.empty() && !o.function.empty())
    fail({complaint("a file of calls and one call", "--calls, or a function")}, call_at_fault);
  auto program =
      wasm::load_program(o.file == "-" ? "standard input" : o.file, std::move(bytes), {.guarded = o.guarded});
  if (!program) fail(program.why(), input_at_fault);
  run_pipeline(*(*program)->program.module, pipeline_of(o, "-O0"), {.threads = 0});
  const std::string entry = o.function.empty() && o.calls.empty() ? "_start" : o.function;
  const bool command = entry == "_start";
  std::vector<std::string> words;
  for (const std::string& w : o.words)
    words.push_back(w.starts_with(number_mark) ? w.substr(number_mark.size()) : w);
  wasm::Imports imports;
  add_wasi(imports, wasi_options(o, command ? words : std::vector<std::string>()));
  std::unique_ptr<wasm::Instance> instance = made(o, *program, imports);
  wasm::Session::Runner runner;
  if (o.on == "sim")
    runner = [&](wasm::Instance& of, std::string_view name, std::span<const Datum> arguments) {
      return simulate_call(
          of, name, arguments,
          {.seed = o.seed, .step_limit = o.given.contains("--step-limit") ? o.step_limit : 20'000'000});
    };
  wasm::Session session(*instance, runner);
  if (!command) check(session.begin(), "");
  std::vector<wasm::SessionCall> calls;
  if (!o.calls.empty()) {
    auto text = read_file(o.calls);
    if (!text) fail(text.why(), call_at_fault);
    auto all = session.run_file(SourceText(o.calls, std::move(*text)));
    if (!all) fail(all.why(), call_at_fault);
    calls = std::move(*all);
  } else {
    auto one = session.call(entry, command ? std::vector<std::string>() : words);
    if (!one) fail(one.why(), call_at_fault);
    calls.push_back(std::move(*one));
  }
  std::string told;
  for (const wasm::SessionCall& c : calls) {
    std::string results = fmt::format("{}", fmt::join(c.results, o.calls.empty() ? "\n" : ", "));
    if (!o.calls.empty())
      told += c.text + (results.empty() ? "\n" : " = " + results + "\n");
    else if (!results.empty())
      told += results + "\n";
  }
  if (o.memory)
    for (const std::string& line : session.changed_memory()) told += line + "\n";
  put_out(o, told);
  if (!calls.empty()) check(calls.back().run, o.calls.empty() ? "" : calls.back().text);
}

std::unique_ptr<Loaded> load_for_c(const Options& o, std::string bytes) {
  auto out = std::make_unique<Loaded>();
  const std::string name = o.file == "-" ? "standard input" : o.file;
  auto program = wasm::read_wasm(out->realm, name, bytes);
  if (!program) fail(program.why(), input_at_fault);
  std::string prefix = o.file.substr(o.file.rfind('/') == o.file.npos ? 0 : o.file.rfind('/') + 1);
  prefix = prefix.substr(0, prefix.find('.'));
  auto header = prepare_for_c(*program, prefix == "-" ? "module" : prefix);
  if (!header) fail(header.why(), input_at_fault);
  if (!o.header.empty())
    if (Diagnostics wrong = write_file(o.header, *header); !wrong.empty()) fail(wrong, call_at_fault);
  out->module = std::move(program->module);
  return out;
}

}  // namespace porphyry::tool
