#include "x64.h"

#include <cpuid.h>
#include <ucontext.h>

#include <cstring>
#include <iterator>

namespace porphyry::targets {

const machine::Target& x64();

namespace {

// In the order of the book's features.
machine::Features features_here() {
  unsigned a = 0, b = 0, c = 0, d = 0;
  if (!__get_cpuid(1, &a, &b, &c, &d)) return 0;
  constexpr unsigned bits[] = {bit_SSE4_1, bit_POPCNT, bit_SSE3, bit_SSSE3, bit_SSE4_2};
  machine::Features out = 0;
  for (unsigned k = 0; k < std::size(bits); ++k)
    if (c & bits[k]) out |= machine::Features(1) << k;
  return out;
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

// System V ABI, AMD64 supplement 1.0: tables 4.9 (relocations) and 3.36 (DWARF register numbers). The table
// is the one of addresses that the linker fills; thread-local data have an offset in their module's block or,
// within a program, from the thread's own address.
constexpr machine::RelocationFact relocations[] = {
    {1, 8, false, ""},
    {2, 4, true, "", "R_X86_64_PC32"},
    {3, 4, false, "offset of the table entry of "},
    {4, 4, true, "", "R_X86_64_PLT32"},
    {9, 4, true, "table entry of ", "R_X86_64_GOTPCREL"},
    {10, 4, false, ""},
    {11, 4, false, ""},
    {12, 2, false, ""},
    {13, 2, true, ""},
    {14, 1, false, ""},
    {15, 1, true, ""},
    {17, 8, false, "offset in its thread block of "},
    {18, 8, false, "thread offset of "},
    {19, 4, true, "table entries of the thread variable "},
    {20, 4, true, "table entries of the thread block of "},
    {21, 4, false, "offset in its thread block of "},
    {22, 4, true, "table entry of the thread offset of "},
    {23, 4, false, "thread offset of "},
    {24, 8, true, ""},
    {25, 8, false, "offset from the table of "},
    {26, 4, true, ""},
    {27, 8, false, "offset of the table entry of "},
    {28, 8, true, "table entry of "},
    {29, 8, true, ""},
    {31, 8, false, "offset from the table of the stub of "},
    {32, 4, false, "size of "},
    {33, 8, false, "size of "},
    {34, 4, true, "table entries of the thread descriptor of "},
    {35, 0, false, "call of the thread descriptor of "},
    {41, 4, true, "table entry of "},
    {42, 4, true, "table entry of ", "R_X86_64_REX_GOTPCRELX"},
};
constexpr uint8_t unwind_numbers[] = {0,  2,  1,  3,  7,  6,  4,  5,  8,  9,  10, 11, 12, 13, 14, 15,
                                      17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31, 32};
// An instruction of 64 bits that the linker may turn into one without the table says so: 42, else 9. Those
// are the plain load, test, and arithmetic that reads memory; section B.2 there.
uint32_t table_relocation(std::span<const uint8_t> code) {
  if (code.size() < 3 || (code[code.size() - 3] & 0xf0) != 0x40) return 9;
  uint8_t opcode = code[code.size() - 2];
  bool plain = opcode == 0x8b || opcode == 0x85 || (opcode & ~0x38) == 0x03;
  return plain ? 42 : 9;
}

constexpr machine::ObjectFacts object_facts{.machine = 62,
                                            .absolute_64 = 1,
                                            .absolute_32 = 10,
                                            .relative_32 = 2,
                                            .call_32 = 4,
                                            .table_32 = table_relocation,
                                            .relocations = relocations,
                                            .unwind_numbers = unwind_numbers,
                                            .return_number = 16};

// One kind of fixup: four bytes that hold a distance.
constexpr machine::FixupKind fixups[] = {{.relative = true, .relocation = 2}};
bool settle(uint8_t, uint8_t* at, int64_t value) {
  auto distance = static_cast<int32_t>(value);
  std::memcpy(at, &distance, 4);
  return distance == value;
}

machine::Target whole() {
  machine::Target t{x64_tables()};
  t.object = object_facts;
  t.fixups = fixups;
  t.settle = settle;
  t.frame = x64_frame;
  t.convention.values = &x64_passing;
  t.stubs = x64_stubs;
  t.encode = x64_encode;
  t.decode = x64_decode;
  t.length = x64_length;
  t.pad = x64_pad;
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
