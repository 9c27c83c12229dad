// Reads a module of WebAssembly, gives it what it imports, calls its functions and looks into its memory.
#include <fmt/format.h>

#include "porphyry/host/instance.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"

int main() {
  using namespace porphyry;
  // (import "orchard" "warn" (func (param f32)))  (memory (export "memory") 1 4)
  // (func (export "lowest") (param $at i32) (param $count i32) (result f32) …  warns of each reading below 0
  const unsigned char module[] = {
      0,    'a',  's',  'm',  1,    0,    0,    0,    1,    0x0b, 2,    0x60, 1,    0x7d, 0,    0x60, 2,    0x7f, 0x7f,
      1,    0x7d, 2,    0x10, 1,    7,    'o',  'r',  'c',  'h',  'a',  'r',  'd',  4,    'w',  'a',  'r',  'n',  0,
      0,    3,    2,    1,    1,    5,    4,    1,    1,    1,    4,    7,    0x13, 2,    6,    'm',  'e',  'm',  'o',
      'r',  'y',  2,    0,    6,    'l',  'o',  'w',  'e',  's',  't',  0,    1,    0x0a, 0x3d, 1,    0x3b, 1,    2,
      0x7d, 0x43, 0,    0,    0x80, 0x7f, 0x21, 2,    0x03, 0x40, 0x20, 0,    0x2a, 2,    0,    0x22, 3,    0x43, 0,
      0,    0,    0,    0x5d, 0x04, 0x40, 0x20, 3,    0x10, 0,    0x0b, 0x20, 2,    0x20, 3,    0x96, 0x21, 2,    0x20,
      0,    0x41, 4,    0x6a, 0x21, 0,    0x20, 1,    0x41, 1,    0x6b, 0x22, 1,    0x0d, 0,    0x0b, 0x20, 2,    0x0b};
  auto failed = [](const Diagnostics& why) { return fmt::print(stderr, "{}", render(why)), 1; };
  auto program = wasm::load_program("orchard.wasm", std::string(std::begin(module), std::end(module)),
                                    {.guarded = true});  // memory is guarded by pages, not by comparisons
  if (!program) return failed(program.why());
  auto code = wasm::NativeCode::compile(*program, *native_target());
  if (!code) return failed(code.why());

  wasm::Imports imports;  // what is missing, or of another type, is told at once
  imports.function("orchard", "warn", [](float degrees) { fmt::print("frost: {} degrees\n", degrees); });
  auto instance = make_instance(*code, imports);
  if (!instance) return failed(instance.why());

  const float night[] = {2.5f, 0.75f, -1.25f, -0.5f, 1.0f};
  std::memcpy((*instance)->memory().data() + 64, night, sizeof night);
  auto lowest = (*instance)->function<float(int32_t, int32_t)>("lowest");
  if (!lowest) return failed(lowest.why());
  if (auto degrees = (*lowest)(64, 5)) fmt::print("the lowest of the night: {} degrees\n", *degrees);

  fmt::print("a trap is an outcome: {}", render((*lowest)(65532, 2).why()));
  fmt::print("{} bytes of memory", (*instance)->memory().size());
  if ((*instance)->grow_memory(2)) fmt::print(", {} after growing\n", (*instance)->memory().size());
}
