// Calls, parameters and results by the calling convention, and the arguments of edges.
#pragma once

#include "code_writer.h"

namespace porphyry::machine {

// Parameters from where the convention brings them; unused ones are only marked as present.
void take_parameters(CodeWriter& w, const FixedTable<Value, uint8_t>& needed,
                     std::pmr::memory_resource* work);

// Calls and returns. They give what is wrong, or null.
const char* write_call(CodeWriter& w, const Module& module, Instruction i, std::pmr::memory_resource* work);
const char* write_return_call(CodeWriter& w, Instruction i, std::pmr::memory_resource* work);
const char* write_return(CodeWriter& w, Instruction i, std::pmr::memory_resource* work);

// Copies the arguments of edges into the parameters of their blocks, all of an edge at once: what is still to
// be read is not overwritten, and a cycle goes through one more register. O(arguments).
class EdgeWriter {
 public:
  explicit EdgeWriter(std::pmr::memory_resource* work)
      : moves_(work), constants_(work), rows_(work), ready_(work), done_(work) {}
  void write(CodeWriter& w, const FixedTable<Value, uint8_t>& needed, Edge e);

 private:
  struct Move {
    Register to, from;
    Register as;           // `from`, or the parameter that other edges give it to
    uint32_t number;       // of the parameter
    bool is_home = false;  // which other edges give it to as well
  };
  void find_crossings(CodeWriter& w, Edge e);
  void copy_all(CodeWriter& w);

  // Memory that each edge uses again.
  std::pmr::vector<Move> moves_;
  std::pmr::vector<std::pair<Register, Value>> constants_;
  struct MoveRow {
    uint32_t readers = 0, writer = 0;  // moves still to read it; the one that writes it, plus one
  };
  std::pmr::vector<MoveRow> rows_;  // by virtual register; empty between edges
  std::pmr::vector<size_t> ready_;
  std::pmr::vector<uint8_t> done_;
};

}  // namespace porphyry::machine
