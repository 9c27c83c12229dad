// Reads functions' bodies, one after the other.
#pragma once

#include <array>
#include <utility>

#include "in.h"
#include "porphyry/ir/module.h"

namespace porphyry::packed {

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
  Type type();
  void constants(size_t count);
  void blocks(size_t count);
  uint32_t align();
  Address address();
  void addresses();
  Value value();
  void instruction(Block b);
  void operands(const OperationInfo& row);
  void results(const OperationInfo& row, bool named);
  void detail(const OperationInfo& row, Function::Draft& d);
  void cases(size_t count, Function::Draft& d);
  void edges(const OperationInfo& row, bool weighted, Function::Draft& d);
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
  std::vector<Value> operands_, arguments_;
  std::vector<Type> results_;
  std::vector<Name> result_names_;
  std::vector<size_t> argument_counts_;
  std::vector<Function::Draft::Destination> targets_;
  struct Waiting {
    Slot slot;
    int edge;  // -1: an operand
    size_t index;
    uint64_t number;
  };
  std::vector<Waiting> waiting_;                    // of the instruction being read
  std::vector<std::pair<Slot, uint64_t>> forward_;  // of the function
  uint64_t waiting_number_ = 0;
  bool later_ = false;
  int64_t last_position_ = 0;
  size_t slots_seen_ = 0;
  Type last_type_;
  std::array<char, 2> last_code_{};  // of last_type_ in the file, when it takes two bytes
};

}  // namespace porphyry::packed
