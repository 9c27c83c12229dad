// Relocatable object files: sections, symbols and relocations as data, and their bytes as ELF.
//
//   auto lowered = machine::lower(module, *native_target(), {.exported = true});
//   std::string file = elf_bytes(make_object(*lowered, *native_target()));
//
// Code goes to .text, or to the section that the program names; constants to .rodata, or, where they hold
// addresses, to .data.rel.ro; other data to .data, or to .bss when it is all zeros. Call frames are described
// in .eh_frame, source lines in DWARF 5 sections. Code is position-independent: what is local is reached
// relative to itself; all other names through the linker's table of addresses and its stubs, since in a
// program of several parts another definition may take their place. A module that was lowered without
// `exported` reaches all that it defines directly: that is for programs of one part.
//
// Sources: System V ABI, chapters 4 and 5 (ELF); Linux Standard Base 5.0, section 10.6 (.eh_frame);
// DWARF Debugging Information Format, version 5, sections 6.2, 6.4 and 7.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "porphyry/machine/lower.h"

namespace porphyry {

struct ObjectFile {
  struct Relocation {
    uint64_t offset;
    uint32_t type;    // of the target's processor supplement
    uint32_t symbol;  // row of symbols
    int64_t addend;
  };
  struct Section {
    std::string name;
    bool is_code = false, writable = false, allocated = true, zeros = false;
    uint64_t align = 1, address = 0;  // an address only for code that lies in memory already
    std::string bytes;                // empty when zeros
    uint64_t size = 0;                // zeros: how many
    std::vector<Relocation> relocations;
  };
  static constexpr uint32_t undefined = 0xffffffff;
  struct Symbol {
    std::string name;
    uint32_t section = undefined;
    uint64_t value = 0, size = 0;
    bool is_local = false, is_weak = false, is_function = false, is_section = false;
  };
  uint16_t machine = 0;
  std::vector<Section> sections;
  std::vector<Symbol> symbols;
};

// How code reaches the names of a module in an object file.
class NameWays {
 public:
  explicit NameWays(const machine::LoweredModule& lowered);  // O(symbols); the module must outlive it
  // The symbol whose entry in the linker's table stands for this one; nothing for one that is itself meant.
  Symbol behind(Symbol s) const { return behind_[s.index]; }
  bool is_data(Symbol s) const { return (*module_)[s].kind == SymbolKind::Data && !behind(s).exists(); }
  // Defined here, and no other definition can take its place.
  bool is_direct(Symbol s) const;
  // The relocation's type for four bytes in a function's code that hold the distance to the symbol.
  uint32_t relocation(Symbol s, const machine::Target& target, std::span<const uint8_t> code_before) const;

 private:
  const Module* module_;
  bool exported_;
  std::vector<Symbol> behind_;
};

// Which section a data item goes to.
struct DataSection {
  std::string name;
  bool writable = false, zeros = false;  // zeros: it only says how many
};
DataSection section_of(const SymbolRow& data);

// What an object file cannot say of a module: a target may have none, and a section that the program names
// for code and for data that is written would be both to the system. Ask before an object, or assembly text,
// is made. O(symbols + data).
Diagnostics object_problems(const Module& module, const machine::Target& target);

struct ObjectOptions {
  bool lines = true;  // DWARF lines and functions, when the module has positions
};

// Of a module without object_problems. O(size of the code and data). Nothing of the outcome depends on where
// or when it is made.
ObjectFile make_object(const machine::LoweredModule& lowered, const machine::Target& target,
                       const ObjectOptions& options = {});

// The same for code that a just-in-time compiler has placed, for a debugger in the same process: nothing is
// left for a linker. `code` is the memory that holds all of it.
struct PlacedCode {
  const machine::CompiledFunction* function;
  uint64_t address;
};
ObjectFile make_memory_object(const machine::LoweredModule& lowered, std::span<const PlacedCode> functions,
                              std::span<const uint8_t> code, const machine::Target& target);

// The file, 64 bits, little-endian.
std::string elf_bytes(const ObjectFile& object);

}  // namespace porphyry
