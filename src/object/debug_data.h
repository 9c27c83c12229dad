// The debug data of objects in DWARF 5: the standard's numbers, and sections that are written piece by piece.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "debug_parts.h"
#include "sink.h"

namespace porphyry::object {

// DWARF 5, section 7.5.
namespace tag {
enum : uint8_t {
  array_type = 0x01,
  formal_parameter = 0x05,
  lexical_block = 0x0b,
  pointer_type = 0x0f,
  compile_unit = 0x11,
  inlined_subroutine = 0x1d,
  subrange_type = 0x21,
  base_type = 0x24,
  subprogram = 0x2e,
  variable = 0x34
};
}
namespace at {
enum : uint16_t {
  location = 0x02,
  name = 0x03,
  byte_size = 0x0b,
  bit_size = 0x0d,
  stmt_list = 0x10,
  low_pc = 0x11,
  high_pc = 0x12,
  language = 0x13,
  comp_dir = 0x1b,
  inlining = 0x20,
  producer = 0x25,
  abstract_origin = 0x31,
  count = 0x37,
  decl_file = 0x3a,
  decl_line = 0x3b,
  encoding = 0x3e,
  external = 0x3f,
  frame_base = 0x40,
  type = 0x49,
  ranges = 0x55,
  call_column = 0x57,
  call_file = 0x58,
  call_line = 0x59,
  lanes = 0x2107  // by an extension that all debuggers read: the array is one value in lanes
};
}
namespace form {
enum : uint8_t {
  addr = 0x01,
  data2 = 0x05,
  data8 = 0x07,
  string = 0x08,
  udata = 0x0f,
  ref4 = 0x13,
  sec_offset = 0x17,
  exprloc = 0x18,
  flag_present = 0x19
};
}
namespace encoding {
enum : uint8_t { boolean = 0x02, real = 0x04, whole = 0x05 };
}
namespace expression {
enum : uint8_t { reg0 = 0x50, regx = 0x90, fbreg = 0x91, call_frame_cfa = 0x9c, implicit_value = 0x9e };
}
namespace location_list {
enum : uint8_t { end = 0x00, offset_pair = 0x04, base_address = 0x06 };
}

// The sections of an object that debug data goes to.
class DebugSections {
 public:
  DebugSections(ObjectFile& out, const machine::Target& target)
      : out_(out), absolute_(target.object.absolute_64), absolute_32_(target.object.absolute_32) {}

  uint32_t add(const char* name) {
    out_.sections.push_back({.name = name, .allocated = false});
    return static_cast<uint32_t>(out_.sections.size() - 1);
  }
  uint32_t symbol_of(uint32_t section) { return add_section_symbol(out_, section); }
  Sink sink(uint32_t section) { return Sink(out_.sections[section].bytes); }
  void address(uint32_t section, uint32_t symbol, uint64_t addend) {
    out_.sections[section].relocations.push_back(
        {sink(section).size(), absolute_, symbol, static_cast<int64_t>(addend)});
    sink(section).u64(0);
  }
  // An offset into another section, which the linker moves.
  void offset(uint32_t section, uint32_t symbol, uint64_t addend) {
    out_.sections[section].relocations.push_back(
        {sink(section).size(), absolute_32_, symbol, static_cast<int64_t>(addend)});
    sink(section).u32(0);
  }

 private:
  ObjectFile& out_;
  uint32_t absolute_, absolute_32_;
};

// The sources of a module, as debug data numbers them; number 0 stands for the unit itself.
class SourceNumbers {
 public:
  explicit SourceNumbers(const Module& module);
  const std::vector<std::string>& names() const { return names_; }
  // By the program's own number.
  uint64_t of(uint32_t source) const {
    auto at = numbers_.find(source);
    return at == numbers_.end() ? 0 : at->second;
  }

 private:
  std::vector<std::string> names_;
  std::map<uint32_t, uint64_t> numbers_;
};

// .debug_info and what it refers to but .debug_line: one unit, its functions, their ranges, their variables
// with types and places.
void add_functions(DebugSections& sections, const Module& module, const machine::Target& target,
                   const std::vector<PlacedFunction>& functions, const SourceNumbers& sources,
                   uint32_t lines);

}  // namespace porphyry::object
