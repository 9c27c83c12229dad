// Modules that others made, and what they want of their host. See scripts/corpus.
#pragma once

#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "porphyry/host/wasi.h"

namespace porphyry::testing {

// A module's bytes; empty when it was not fetched.
inline std::string corpus_module(const std::string& name) {
  std::ifstream in(std::string(PORPHYRY_ROOT) + "/build/corpus/" + name + ".wasm", std::ios::binary);
  return std::string(std::istreambuf_iterator<char>(in), {});
}

// The host that such programs expect: what copies bytes, makes the memory larger, and the system interface.
// What else they import traps when it is called.
inline wasm::Imports corpus_host(const wasm::Program& program) {
  wasm::Imports out;
  out.missing_functions_trap = true;
  add_wasi(out, {.arguments = {"corpus"}, .fixed_clock = 1'700'000'000'000'000'000});
  auto copy = [](wasm::Instance& of, uint32_t to, uint32_t from, uint32_t count) {
    std::memmove(of.memory().data() + to, of.memory().data() + from, count);
  };
  auto copy_back = [copy](wasm::Instance& of, uint32_t to, uint32_t from, uint32_t count) -> uint32_t {
    return copy(of, to, from, count), to;
  };
  auto resize = [](wasm::Instance& of, uint32_t bytes) -> int32_t {
    uint64_t now = of.memory().size();
    return bytes <= now || of.grow_memory(static_cast<uint32_t>((bytes - now + 65535) / 65536));
  };
  for (const wasm::Import& i : program.imports) {
    if (i.kind != wasm::Kind::Function || i.module == wasm::wasi_module) continue;
    const wasm::FunctionType& t = program.type_of(i.index);
    bool three = t.parameters == std::vector(3, wasm::ValueType::I32);
    if (i.name == "emscripten_resize_heap" ||
        (i.module == "a" && t == wasm::FunctionType{{wasm::ValueType::I32}, {wasm::ValueType::I32}}))
      out.function(i.module, i.name, resize);
    else if (i.module == "a" && three && t.results.empty())
      out.function(i.module, i.name, copy);
    else if (i.module == "a" && three)
      out.function(i.module, i.name, copy_back);
    else if (i.name == "emscripten_date_now" || i.name == "emscripten_get_now")
      out.function(i.module, i.name, [] { return 1.7e12; });
    else if (i.module == "a")  // of what cannot be told by its name nothing is expected
      out.add(i.module, i.name, t, [](wasm::HostFunctionCall&) { return true; });
  }
  return out;
}

// An instance with its memory in typed pieces.
class Guest {
 public:
  explicit Guest(wasm::Instance& of, std::string malloc) : of_(of), malloc_(std::move(malloc)) {}

  uint64_t operator()(std::string_view name, std::vector<uint64_t> arguments) {
    std::vector<Datum> given;
    for (uint64_t a : arguments) given.push_back({a});
    wasm::CallResult run = run_ ? run_(of_, name, given) : of_.call(name, given);
    if (run.end != wasm::CallResult::End::Result && trouble.empty())
      trouble = std::string(name) + ": " + run.message;
    return run.results.empty() ? 0 : run.results[0].bits;
  }
  uint32_t room(size_t bytes) {
    if (!malloc_.empty()) return static_cast<uint32_t>((*this)(malloc_, {bytes}));
    auto at = static_cast<uint32_t>(of_.memory().size());
    if (!of_.grow_memory(static_cast<uint32_t>(bytes / 65536 + 1))) trouble = "the memory does not grow";
    return at;
  }
  template <class T>
  uint32_t put(const std::vector<T>& all) {
    uint32_t at = room(std::max<size_t>(all.size() * sizeof(T), 1));
    write(at, all);
    return at;
  }
  uint32_t text(std::string_view s) {
    std::vector<char> all(s.begin(), s.end());
    all.push_back(0);
    return put(all);
  }
  template <class T>
  void write(uint32_t at, const std::vector<T>& all) {
    if (!all.empty()) std::memcpy(of_.memory().data() + at, all.data(), all.size() * sizeof(T));
  }
  template <class T>
  T get(uint32_t at) {
    T out{};
    std::memcpy(&out, of_.memory().data() + at, sizeof out);
    return out;
  }
  template <class T>
  std::vector<T> many(uint32_t at, size_t count) {
    std::vector<T> out(count);
    if (count > 0) std::memcpy(out.data(), of_.memory().data() + at, count * sizeof(T));
    return out;
  }
  std::string text_at(uint32_t at) {
    return at == 0 ? "" : std::string(reinterpret_cast<const char*>(of_.memory().data()) + at);
  }

  wasm::Instance& instance() { return of_; }
  // From here on calls are simulated.
  void simulate() {
    run_ = [](wasm::Instance& of, std::string_view name, std::span<const Datum> given) {
      return simulate_call(of, name, given);
    };
  }

  std::string trouble;  // the first call that was no result

 private:
  wasm::Instance& of_;
  std::string malloc_;
  std::function<wasm::CallResult(wasm::Instance&, std::string_view, std::span<const Datum>)> run_;
};

}  // namespace porphyry::testing
