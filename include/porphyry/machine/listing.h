// A listing: emitted code with everything known about each line, as plain data. render/ draws it.
#pragma once

#include "porphyry/machine/lower.h"

namespace porphyry::machine {

struct ListingLine {
  uint32_t offset;
  std::vector<uint8_t> bytes;
  std::string text;
  std::string value;      // the IR value that the line's instruction makes, or the operation without result
  std::string operation;  // the IR instruction it came from
  std::string position;   // "night.fml:14:17"
  Role role = Role::Program;
};

struct ListingBlock {
  std::string label;
  uint32_t offset;
  unsigned depth;  // of loops
  std::vector<ListingLine> lines;
};

struct FunctionListing {
  std::string name, signature;
  struct Place {
    std::string name, type, where;  // a register, or the stack at entry
  };
  std::vector<Place> parameters, results;
  std::string section;  // of an object file that was read, and where in it the code begins
  uint64_t start = 0;
  uint64_t frame_bytes = 0;
  std::vector<std::string> saved;  // registers kept for the caller
  std::vector<ListingBlock> blocks;
  struct Totals {
    unsigned instructions = 0, bytes = 0, loads = 0, stores = 0, moves = 0, spills = 0, reloads = 0;
    unsigned spilled_in_loops = 0;                        // spills and reloads that a loop repeats
    unsigned calls = 0, branches = 0;                     // the second: jumps on a condition
    unsigned not_described = 0, bytes_not_described = 0;  // code of others that the book does not know
  } totals;
  // For each value with a name or a register, where it lay from instruction to instruction, and why it was
  // moved. Only for code that was lowered with LowerOptions::explain.
  struct Life {
    std::string value;
    struct Stay {
      std::string where;  // a register, or a slot of the frame
      uint32_t from, to;  // offsets of the first and the last instruction
    };
    std::vector<Stay> stays;
    std::vector<std::string> reasons;
  };
  std::vector<Life> lives;      // by first appearance
  std::vector<Life> variables;  // of the source, as debuggers are told; gone where no stay is
};

// Where the run may go behind an instruction, by its meaning.
struct Flow {
  bool jumps = false;   // to the label among its operands
  bool calls = false;   // and comes back
  bool goes_on = true;  // what stands behind it may run next
};
Flow flow_of(const Form& form);
// Counts one instruction, but for its bytes and role.
void count(FunctionListing::Totals& totals, const Form& form);

// Without origins, lines do not say which value and operation they came from, and where in the source.
enum class Origins : uint8_t { Told, Untold };
FunctionListing make_listing(const LoweredModule& lowered, const CompiledFunction& compiled,
                             const Target& target, Origins origins = Origins::Told);
// The figures of its listing, without its lines. O(instructions).
FunctionListing::Totals totals_of(const CompiledFunction& compiled, const Target& target);

}  // namespace porphyry::machine
