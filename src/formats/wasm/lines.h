// Line tables in custom sections, as compilers write them for debuggers: DWARF Debugging Information Format,
// versions 2 to 5, section 6.2. Addresses are offsets in the code section.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace porphyry::wasm {

struct LineTables {
  std::string_view line, line_str, str;  // .debug_line, .debug_line_str, .debug_str
};

struct LineRow {
  uint32_t address;  // from here up to the next row
  uint32_t file, line, column;
};
struct Lines {
  std::vector<std::string> files;
  std::vector<LineRow> rows;  // in order of address; of line 0: code that belongs to no line

  // The row that an address belongs to; null when there is none.
  const LineRow* find(uint32_t address) const;
};

// What is damaged is passed over: what could be read before it stays. O(n log n).
Lines read_lines(const LineTables& tables);

}  // namespace porphyry::wasm
