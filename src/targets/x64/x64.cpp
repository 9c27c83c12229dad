#include "x64.h"

#include <cpuid.h>
#include <ucontext.h>

#include "porphyry/targets/x64.h"

namespace porphyry::targets {
namespace {

// In the order of the book's features.
uint8_t features_here() {
  unsigned a = 0, b = 0, c = 0, d = 0;
  if (!__get_cpuid(1, &a, &b, &c, &d)) return 0;
  return static_cast<uint8_t>((c & bit_SSE4_1 ? 1 : 0) | (c & bit_POPCNT ? 2 : 0) | (c & bit_SSE3 ? 4 : 0) |
                              (c & bit_SSSE3 ? 8 : 0));
}

uint64_t program_counter(const void* signal_context) {
#ifdef __x86_64__
  return static_cast<uint64_t>(static_cast<const ucontext_t*>(signal_context)->uc_mcontext.gregs[REG_RIP]);
#else
  return 0;
#endif
}

bool runs_here() {
#ifdef __x86_64__
  return true;
#else
  return false;
#endif
}

// System V ABI, AMD64 supplement 1.0: tables 4.9 (relocations) and 3.36 (DWARF register numbers).
constexpr uint8_t unwind_numbers[] = {0,  2,  1,  3,  7,  6,  4,  5,  8,  9,  10, 11, 12, 13, 14, 15,
                                      17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31, 32};
constexpr machine::ObjectFacts object_facts{.machine = 62,
                                            .absolute_64 = 1,
                                            .absolute_32 = 10,
                                            .relative_32 = 2,
                                            .call_32 = 4,
                                            .unwind_numbers = unwind_numbers,
                                            .return_number = 16,
                                            .filler = static_cast<char>(0x90)};

machine::Target whole() {
  machine::Target t = x64_tables();
  t.object = object_facts;
  t.encode = x64_encode;
  t.decode = x64_decode;
  t.length = x64_length;
  t.spell_address = x64_spell_address;
  t.is_taken_name = x64_is_taken_name;
  t.program_counter = program_counter;
  t.features_here = features_here;
  t.runs_here = runs_here;
  return t;
}

}  // namespace

const machine::Target& x64() {
  static const machine::Target target = whole();
  return target;
}

}  // namespace porphyry::targets
