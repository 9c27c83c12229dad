// Writes the IR of one function: what instructions of the byte code have in common.
//
// Locals, and where the memory lies, are variables (ir/variables.h). A writer is *dead* behind an instruction
// after which control goes elsewhere, until a block begins that something leads to; then nothing may be
// written.
#pragma once

#include "porphyry/ir/pen.h"
#include "scan.h"
#include "sections.h"
#include "stacks.h"

namespace porphyry::wasm {

// What all functions of a module share.
struct Context {
  const Sections& sections;
  Module& module;  // functions may be written on several threads: nothing else of it changes meanwhile
  const ReadOptions& options;
  std::vector<Signature> signatures;  // by type, with the instance in front
  Name instance_name;
  const Lines& lines;  // its files are the module's sources from 2 on
  KindPath size_kind;  // of a memory's size, which never becomes smaller
};

// What a function wants of the module besides its own tables, to be put there when all are written.
struct Wanted {
  // In the file, of instructions: the positions in the function's tables are numbers of these.
  std::vector<uint32_t> offsets;
  struct Call {
    Instruction at;
    const char* routine;  // of runtime.por
  };
  std::vector<Call> calls;
  size_t spared_checks = 0;  // see Program
};

// Ends the pen's block: a trap where the condition is true, else on in a new block, where the pen is put.
void trap_where(Pen& pen, Value condition);

class Writer {
 public:
  // `writes`: of the code that is written.
  Writer(const Context& context, const Writes& writes);
  // Begins a function. `locals`: types of the parameters, then of all others; must outlive its writing.
  void start(uint32_t function, std::span<const ValueType> locals, const Body& body);
  // Puts what was written into the module.
  void finish(Wanted& wanted);

  Function& function() { return f_; }
  Variables& variables() { return variables_; }
  Value instance() const { return f_.parameters()[0]; }

  // ---- where it writes ----------------------------------------------------------------------------------
  bool live() const { return block_.exists(); }
  Block block() const { return block_; }
  void die() { block_ = {}; }
  void begin(Block b) {
    block_ = b, pen_.at_end(b);
    known_ = {};
  }
  // Instructions from here on come from this offset in the file.
  void at(uint32_t offset) { offset_ = offset, positioned_ = false; }
  Pen& pen() {
    if (!positioned_) place_pen();
    return pen_;
  }

  // ---- operands -----------------------------------------------------------------------------------------
  Value value(const Operand& o) {
    if (o.is_truth) return pen().widen_u(i32_, o.value);
    if (o.type == ValueType::V128 && f_.type(o.value) != v128_) return pen().bits(v128_, o.value);
    return o.value;
  }
  std::span<const Value> values(std::span<const Operand> all);  // valid until the next call
  Value condition(const Operand& o) { return o.is_truth ? o.value : pen().ne(o.value, constant(0)); }
  Value constant(uint64_t n) { return f_.constant(i32_, n); }
  Value wide(uint64_t n) { return f_.constant(i64_, n); }

  // ---- locals -------------------------------------------------------------------------------------------
  std::span<const ValueType> locals() const { return types_; }
  Value read(uint32_t local) { return variables_.read(local, block_); }
  void write(uint32_t local, Value v) { variables_.write(local, block_, v); }

  // ---- control ------------------------------------------------------------------------------------------
  Block new_block(Types parameters = {});
  void go(Block to, std::span<const Operand> arguments) { pen().go(to, values(arguments)); }
  // Goes on in a new block where the condition is false.
  void trap_if(Value condition);
  void trap() { pen().trap(), die(); }

  // ---- the instance and its memory ----------------------------------------------------------------------
  Value field(Type t, uint32_t place) { return pen().load(t, instance(), {}, 1, place); }
  void set_field(Value v, uint32_t place) { put(v, instance(), {.offset = place}); }
  // All stores are `guarded`, since a host sees after a trap what was stored before it.
  void put(Value v, Value p, Where where = {}) {
    where.guarded = true;
    pen().store(v, p, where);
  }
  // The address of the record of a table or memory.
  Value record(uint32_t place, bool imported) {
    return imported ? field(Type::pointer(), place) : pen().at(instance(), {}, 1, place);
  }
  Value record_field(Type t, uint32_t place, bool imported, int64_t offset) {
    return imported ? pen().load(t, field(Type::pointer(), place), {}, 1, offset)
                    : field(t, place + static_cast<uint32_t>(offset));
  }
  Value memory_base() {
    return memory_.fixed_base.exists() ? memory_.fixed_base : variables_.read(memory_.base, block_);
  }
  Value memory_size() {  // in bytes
    const MemoryRow& m = context_.sections.program.memories[0];
    return has_size_ ? variables_.read(memory_.size, block_) : record_field(i64_, m.place, m.imported, 8);
  }
  // Behind what may have made the memory larger, or moved it.
  void memory_changed();
  // So many bytes of memory from `address` (an i32) plus `offset` on, checked unless the host does that.
  struct Place {
    Value base;
    Where where;
  };
  Place place(Value address, uint32_t offset, unsigned bytes);
  // The same for any number of bytes, given as i64: the address of the first.
  Value checked_range(Value base, Value from, Value count, Value size);

  const Context& context() const { return context_; }
  // Calls a routine of the runtime, which the module may not have yet.
  Value call(const char* routine, ValueList arguments, Type result = {});

 private:
  bool memory_moves() const;
  void load_memory();
  // At the offset in the file.
  void place_pen() {
    positioned_ = true;
    pen_.from(Position(wanted_.offsets.size()));
    wanted_.offsets.push_back(offset_);
  }

  static constexpr Type i32_ = Type::integer(32), i64_ = Type::integer(64), v128_ = i32_.with_lanes(4);
  const Context& context_;
  Wanted wanted_;
  Function f_;  // in memory that all functions use again
  Pen pen_;
  Variables variables_;
  struct Memory {  // where it lies and how large it is
    Variables::Variable base, size;
    Value fixed_base;  // of one that never moves
  } memory_ = {};
  // Addresses met since the block began: as i64, and up to where beyond them the memory is known to reach.
  struct Known {
    Value address, index;
    uint64_t reach = 0;
  };
  std::array<Known, 8> known_;  // by the low bits of the address's handle
  bool has_size_ = false, positioned_ = false;
  Block block_;
  Symbol symbol_;
  uint32_t offset_ = 0;
  std::span<const ValueType> types_;  // of locals, which are the first variables
  std::vector<Value> values_;
};

}  // namespace porphyry::wasm
