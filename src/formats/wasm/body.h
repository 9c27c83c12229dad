// Reads the code of functions: one walk over the bytes, which validates each instruction and then writes what
// it becomes.
#pragma once

#include "writer.h"

namespace porphyry::wasm {

// One for each thread: functions are read one after the other, in the same memory.
class BodyReader {
 public:
  BodyReader(const Context& context, Sections& sections)
      : s_(sections), p_(sections.program), w_(context, writes_), stacks_(in_) {}
  // Validates the code of one function and writes its IR into the module; what is wrong with it, if anything.
  // O(bytes).
  std::optional<Mistake> read(uint32_t function, Wanted& wanted);

 private:
  void read_code();
  void step(const Opcode& is);
  void lanes(uint32_t at);
  void no_such_instruction();
  void other_step(const Opcode& is);

  // body.cpp: numbers, locals, globals
  void plain(const Opcode& is);
  void compare(const Opcode& is);
  void test(const Opcode& is);
  void convert(const Opcode& is);
  void truncate(const Opcode& is);
  void constant(const Opcode& is);
  void extend(const Opcode& is);
  void select(std::optional<ValueType> type);
  void typed_select();
  uint32_t local();
  void local_get();
  void local_set(bool keep);
  void global_get();
  void global_set();
  void reference_null();
  void reference_is_null();
  void reference_to_function();

  // body_control.cpp
  void begin_block(Frame::Form form);
  void otherwise();
  void end();
  void end_function(std::span<const Operand> results);
  bool join(Frame& frame, std::span<const Operand> results);
  void branch(uint32_t depth);
  void branch_if();
  void branch_by_table();
  void return_results();
  void unreachable();
  void call();
  void call_indirect();
  void call_written(uint32_t type, Value code, Symbol callee, std::span<const Operand> arguments,
                    Value context);
  bool block_type(Types& parameters, Types& results);
  uint32_t depth();
  Block label(Frame& frame);
  void come_from_before(const Frame& frame);
  void jump(Frame& frame, std::span<const Operand> arguments);

  // body_memory.cpp
  bool has_memory();
  void load(const Opcode& is);
  void store(const Opcode& is);
  void memory_size();
  void memory_grow();
  void memory_fill();
  void memory_copy();
  void memory_init();
  uint32_t data_segment();
  void data_drop();
  uint32_t table();
  Value table_element(const TableRow& t, Value index);
  void table_get();
  void table_set();
  void table_size();
  void table_grow();
  void table_fill();
  void table_copy();
  void table_init();
  uint32_t element_segment();
  void element_drop();

  bool live() const { return in_.good() && w_.live(); }
  Pen& pen() { return w_.pen(); }
  // A number read that must be below a limit.
  uint32_t below(size_t limit, const char* what) {
    uint32_t n = in_.u32();
    return n < limit ? n : not_below(n, limit, what);
  }
  uint32_t not_below(uint32_t n, size_t limit, const char* what);

  Sections& s_;
  const Program& p_;
  In in_{{}};
  Writes writes_;
  Writer w_;
  std::vector<ValueType> locals_;
  size_t block_count_ = 0;  // that were begun
  Stacks stacks_;
  std::vector<Value> operands_;  // of the current call
  std::vector<Operand> kept_;    // parameters of blocks with `if`, for what stands behind `else`
};

}  // namespace porphyry::wasm
