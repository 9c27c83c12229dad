// The standard system interface, preview 1, as a small stand-in of our own: arguments, environment, clocks,
// random numbers from a seed, the standard streams, files under one folder, exit.
//
//   wasm::WasiOptions options{.arguments = {"station", "--nights", "3"}, .folder = "readings"};
//   wasm::Imports imports;
//   add_wasi(imports, options);
//   …
//   CallResult run = instance->call("_start", {});   // Exit with a code, or a result
//
// Source: the interface's own description, snapshot preview 1. What is about sockets is refused
// (errno notsup).
//
// Nothing outside of the folder can be reached: `..` stops at the folder, links are never followed, and none
// is made.
#pragma once

#include "porphyry/host/instance.h"

namespace porphyry::wasm {

struct WasiOptions {
  std::vector<std::string> arguments;  // the program's name first
  std::vector<std::pair<std::string, std::string>> environment;
  std::string folder;             // of the host; empty: no files
  std::string folder_name = "/";  // as the program sees it
  uint64_t seed = 1;              // of random numbers
  std::optional<uint64_t>
      fixed_clock;  // nanoseconds since 1970 that all clocks show; else those of the system
  // Fills the bytes as far as there is input, and says how far: 0 at its end. Empty: there is none.
  std::function<size_t(std::span<uint8_t>)> input;
  // Empty: what is written goes nowhere.
  std::function<void(std::string_view)> output, errors;
};

inline constexpr std::string_view wasi_module = "wasi_snapshot_preview1";

// Gives the functions of the interface. Each call of this makes a process of its own, with its own files: one
// for each instance.
void add_wasi(Imports& imports, WasiOptions options);

}  // namespace porphyry::wasm
