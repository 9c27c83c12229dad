// A module's sections, read and validated but for the code of functions.
#pragma once

#include <atomic>
#include <unordered_map>

#include "in.h"
#include "lines.h"
#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

// A constant expression: one instruction and `end`.
struct Constant {
  enum class Kind : uint8_t { Number, Global, Null, Function } kind = Kind::Number;
  ValueType type = ValueType::I32;
  uint64_t bits = 0, high = 0;  // Number
  uint32_t index = 0;           // Global, Function
};

struct DataSegment {
  bool active = false;
  Constant offset;  // active
  std::string_view bytes;
  uint32_t at = 0;            // its offset in the file
  uint32_t place = no_place;  // in the instance: how many bytes it still has
  Symbol data = {};
};

struct ElementSegment {
  enum class Mode : uint8_t { Active, Passive, Declared } mode = Mode::Active;
  uint32_t table = 0;
  Constant offset;  // active
  ValueType type = ValueType::FuncRef;
  std::vector<Constant> items;
  uint32_t at = 0;            // its offset in the file
  uint32_t place = no_place;  // in the instance: how many elements it still has
  Symbol data = {};
};

struct Body {
  std::string_view code;
  uint32_t offset = 0;  // in the file
};

struct Sections {
  Program program;  // without its module
  uint32_t imported_functions = 0;
  std::vector<Body> bodies;             // of the functions behind the imported ones
  std::vector<Constant> global_values;  // of the globals behind the imported ones
  std::vector<ElementSegment> elements;
  std::vector<DataSegment> data;
  std::optional<uint32_t> start, data_count;
  std::vector<uint8_t> declared;                               // by function: `ref.func` may name it
  std::string_view name;                                       // of the module
  std::unordered_map<uint64_t, std::string_view> local_names;  // by function << 32 | local
  LineTables line_tables;
  uint32_t code_start = 0;           // of the code section's content, in the file
  std::atomic<uint64_t> budget = 0;  // how many values may still be made: see spend

  // What takes few bytes may stand for many values: a call of a function with a thousand results. False when
  // the module stands for too many.
  bool spend(size_t values) {
    uint64_t left = budget.load();
    while (left >= values)
      if (budget.compare_exchange_weak(left, left - values)) return true;
    return false;
  }
  std::string function_text(uint32_t function) const;  // "function 7 'wet_bulb'"
};

// Reads a whole module. Mistakes go to `problems`; after one nothing further is read.
void read_sections(std::string_view bytes, Sections& out, std::vector<Mistake>& problems);

// The name section, of which what is wrong is passed over: specification, appendix A.4.
void read_names(In in, Sections& into);

}  // namespace porphyry::wasm
