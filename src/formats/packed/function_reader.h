// Reads functions' bodies, one after the other.
#pragma once

#include <array>
#include <optional>
#include <utility>

#include "in.h"
#include "porphyry/ir/module.h"

namespace porphyry::packed {

// Types, of which neighbours often are the same: those are not taken apart again.
class TypeReader {
 public:
  explicit TypeReader(In& in) : in_(in) {}
  Type next();

 private:
  In& in_;
  Type last_;
  std::array<char, 2> last_code_{};  // of last_ in the file, when it takes two bytes
};

class FunctionReader {
 public:
  // `names` and `positions` are the file's. `budget`: how many words constants with lanes may take, in all
  // functions together: they are many times larger in memory than in the file.
  FunctionReader(In& in, Module& module, const std::vector<Name>& names,
                 const std::vector<Position>& positions, uint64_t budget)
      : in_(in), module_(module), names_(names), positions_(positions), budget_(budget) {}

  void run(Function& function);

 private:
  Name name();
  void constants(size_t count);
  void blocks(size_t count);
  uint32_t align();
  Address address();
  void addresses();
  struct ReadValue {
    Value value;
    std::optional<uint64_t> later;  // its number, when it is defined further on
  };
  ReadValue value();
  Position position();
  void instruction(Block b);
  void operands(const OperationInfo& row);
  void results(const OperationInfo& row, bool named);
  uint32_t detail(const OperationInfo& row);
  uint32_t cases(size_t count);
  // Their number of ways, with what `choose` carries in `detail`.
  void edges(const OperationInfo& row, bool weighted, uint32_t& detail);
  void comments();
  void resolve();

  In& in_;
  Module& module_;
  Function* f_ = nullptr;
  const std::vector<Name>& names_;
  const std::vector<Position>& positions_;
  uint64_t budget_;
  std::vector<Value> values_;  // by number
  std::vector<Block> blocks_;
  std::vector<Address> addresses_;
  std::vector<Instruction> instructions_;
  struct Waiting {  // for a value that is defined further on
    int edge;       // -1: an operand
    size_t index;
    uint64_t number;
  };
  // Of the instruction that is being read; emptied, not freed, between instructions.
  struct Parts {
    std::vector<Value> operands, arguments;
    std::vector<Type> results;
    std::vector<Name> result_names;
    std::vector<size_t> argument_counts;
    std::vector<Function::Draft::Destination> targets;
    std::vector<Waiting> waiting;
    void clear() {
      operands.clear(), arguments.clear(), results.clear(), result_names.clear(), argument_counts.clear(),
          targets.clear(), waiting.clear();
    }
  };
  Parts parts_;
  std::vector<std::pair<Slot, uint64_t>> forward_;  // of the function: slots, and the numbers they wait for
  TypeReader types_{in_};
  int64_t last_position_ = 0;
  size_t slots_seen_ = 0;
};

}  // namespace porphyry::packed
