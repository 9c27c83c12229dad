// Machine code of one function between selection and encoding: flat tables again, with virtual registers
// before allocation and physical ones after. No target is named here.
#pragma once

#include <memory_resource>
#include <string>
#include <vector>

#include "porphyry/ir/module.h"
#include "porphyry/machine/target.h"

namespace porphyry::machine {

// In tables that name rows of one another: no row.
inline constexpr uint32_t none = 0xffffffff;

// Physical registers are small numbers. Tables by register have one more row, for all flags together; virtual
// registers start behind it.
using Register = uint32_t;
inline constexpr Register flags_row = RegisterSet::capacity;
inline constexpr Register first_virtual = flags_row + 1;
inline constexpr Register no_register = 0xffffffff;
constexpr bool is_virtual(Register r) { return r >= first_virtual && r != no_register; }
constexpr bool is_physical(Register r) { return r < flags_row; }

// What the machine layer itself puts in, turned into the book's forms at the end.
inline constexpr FormIndex copy_form = 0;    // out (its value: the bits that matter), in
inline constexpr FormIndex spill_form = 1;   // in; the operand's value is the frame slot
inline constexpr FormIndex reload_form = 2;  // out, slot

// What an address depends on besides registers.
enum class Anchor : uint8_t { None, Slot, Symbol, Pool, Table, Incoming, Outgoing };

struct CodeAddress {
  Register base = no_register, index = no_register;
  uint8_t scale = 1;
  Anchor anchor = Anchor::None;
  uint32_t anchored = 0;  // slot, symbol, pool entry, jump table
  int64_t displacement = 0;
  bool operator==(const CodeAddress&) const = default;
};

struct CodeOperand {
  OperandKind kind = OperandKind::Register;
  bool read = false, written = false;
  Part part = Part::Whole;     // Literal: of the address in a row of addresses
  Register reg = no_register;  // Register
  int64_t value = 0;  // Literal: itself. Memory, Address: row of addresses. Label: block. Symbol: symbol
};

// Why an instruction is there.
enum class Role : uint8_t { Program, Move, Spill, Reload, Frame, Padding };

inline constexpr uint32_t no_loop = 0xffffffff;

struct CodeLine {
  FormIndex form = copy_form;
  uint8_t operand_count = 0;
  Role role = Role::Program;
  uint32_t first_operand = 0;
  uint32_t call = none;  // row of calls
  Instruction origin;    // of the IR
};

struct CallInfo {
  RegisterSet reads, writes;
  bool loses_flags = false;
  bool leaves = false;  // this function's frame goes first: the one called returns in its place
};

// The blocks that control goes to from one that ends without a jump table; there are at most two.
class Successors {
 public:
  void push_back(uint32_t block) { blocks_[count_++] = block; }
  const uint32_t* begin() const { return blocks_; }
  const uint32_t* end() const { return blocks_ + count_; }
  size_t size() const { return count_; }
  uint32_t operator[](size_t k) const { return blocks_[k]; }

 private:
  uint32_t blocks_[2] = {};
  uint8_t count_ = 0;
};

struct CodeBlock {
  Block origin;                   // of the IR
  uint32_t first = 0, count = 0;  // instructions
  Successors successors;          // see Code::successors
  uint32_t table = none;          // the jump table by which it ends
  uint8_t depth = 0;              // of loops
  uint32_t loop = no_loop;        // the innermost one around it
  float frequency = 1;            // runs of it for one of the function
  uint32_t copy = 0;              // repeats a block of the same origin; from 1 on in the order of the code
};

struct CodeLoop {
  uint32_t header;           // block
  uint32_t outer = no_loop;  // the loop around it, which stands before it
  uint32_t depth = 1;        // of nesting
};

struct VirtualRegister {
  uint8_t register_class = 0;
  uint8_t bits = 64;
  bool brief = false;  // made by splitting: lives for one instruction and is not split again
  Value origin;        // of the IR; nothing for helpers
};

struct FrameSlot {
  uint64_t bytes = 8;
  uint32_t align = 8;
  Instruction origin = {};  // of the IR: what reserves it; nothing for spilled values
  int64_t offset = 0;       // from the stack pointer, once the frame is laid out
};

struct PoolEntry {
  uint64_t bits;
  uint8_t bytes;  // 4, 8 or 16; it lies at a multiple of that
  uint64_t high = 0;
  Type type = {};  // for who shows it
  bool operator==(const PoolEntry&) const = default;
};

// What an entry holds, as it lies in memory.
void put_entry(const PoolEntry& entry, ByteOrder order, uint8_t* to);

template <class T>
using CodeRows = std::pmr::vector<T>;

// Where blocks that choose by a number go for 0, 1 and so on.
class JumpTables {
 public:
  explicit JumpTables(std::pmr::memory_resource* memory) : ends_(memory), blocks_(memory) {}
  size_t size() const { return ends_.size(); }
  std::span<const uint32_t> operator[](size_t table) const {
    const uint32_t first = table ? ends_[table - 1] : 0;
    return {blocks_.data() + first, ends_[table] - first};
  }
  // `places`: by block.
  void renumber(std::span<const uint32_t> places) {
    for (uint32_t& b : blocks_) b = places[b];
  }
  // To the table that `close` ends, which gives its number.
  void add(uint32_t block) { blocks_.push_back(block); }
  uint32_t close() {
    ends_.push_back(static_cast<uint32_t>(blocks_.size()));
    return static_cast<uint32_t>(ends_.size() - 1);
  }

 private:
  CodeRows<uint32_t> ends_, blocks_;
};
inline constexpr size_t table_entry_bytes = 4;  // how far from the table's start the block lies

struct Code {
  // A copy lies in the default memory wherever the original lies.
  explicit Code(std::pmr::memory_resource* memory = std::pmr::get_default_resource())
      : code(memory),
        operands(memory),
        addresses(memory),
        blocks(memory),
        loops(memory),
        virtuals(memory),
        slots(memory),
        calls(memory),
        pool(memory),
        tables(memory) {}
  std::pmr::memory_resource* memory() const { return code.get_allocator().resource(); }

  std::string name;
  CodeRows<CodeLine> code;
  CodeRows<CodeOperand> operands;
  CodeRows<CodeAddress> addresses;
  CodeRows<CodeBlock> blocks;
  CodeRows<CodeLoop> loops;
  CodeRows<VirtualRegister> virtuals;  // register number minus first_virtual
  CodeRows<FrameSlot> slots;
  CodeRows<CallInfo> calls;
  CodeRows<PoolEntry> pool;
  JumpTables tables;
  uint64_t outgoing_bytes = 0;  // stack space for arguments of calls
  bool has_calls = false;
  bool counts_bytes = false;  // kept small: what counts is how long it is
  Frame frame;                // filled by the frame stage

  std::span<CodeOperand> of(const CodeLine& i) {
    return {operands.data() + i.first_operand, i.operand_count};
  }
  std::span<const CodeOperand> of(const CodeLine& i) const {
    return {operands.data() + i.first_operand, i.operand_count};
  }
  // The blocks that control goes to from one; a jump table may name one more than once.
  std::span<const uint32_t> successors(const CodeBlock& b) const {
    if (b.table == none) return {b.successors.begin(), b.successors.size()};
    return tables[b.table];
  }
  Register new_register(uint8_t register_class, uint8_t bits, Value origin = {}) {
    virtuals.push_back({register_class, bits, false, origin});
    return static_cast<Register>(first_virtual + virtuals.size() - 1);
  }
  // What an instruction in a block costs: what is kept small pays for each once, however often it runs.
  float weight(const CodeBlock& b) const { return counts_bytes ? 1.0f : b.frequency; }
  VirtualRegister& shape(Register r) { return virtuals[r - first_virtual]; }
  const VirtualRegister& shape(Register r) const { return virtuals[r - first_virtual]; }
};

// Of a block called `name`, or of its copy.
inline std::string label_of(std::string name, uint32_t copy) {
  return copy ? std::move(name) + "." + std::to_string(copy + 1) : name;
}

// Registers outside of the operands that an instruction reads and writes.
inline RegisterSet implicit_reads(const Target& target, const Code& f, const CodeLine& i) {
  RegisterSet out = i.form >= first_real_form ? target.form(i.form).reads : RegisterSet();
  if (i.call != none) out |= f.calls[i.call].reads;
  return out;
}
inline RegisterSet implicit_writes(const Target& target, const Code& f, const CodeLine& i) {
  RegisterSet out = i.form >= first_real_form ? target.form(i.form).writes : RegisterSet();
  if (i.call != none) out |= f.calls[i.call].writes;
  return out;
}
inline bool reads_flags(const Target& target, const CodeLine& i) {
  return i.form >= first_real_form && target.form(i.form).reads_flags;
}
inline bool writes_flags(const Target& target, const Code& f, const CodeLine& i) {
  return (i.form >= first_real_form && target.form(i.form).writes_flags) ||
         (i.call != none && f.calls[i.call].loses_flags);
}

// Writes the code again without lines that are `gone` (by line; none where it is empty), and with others once
// more in front of lines of their block: `copies` stand in the order of `before`. O(lines).
struct LineCopy {
  uint32_t before, line;
};
void write_again(Code& f, std::span<const LineCopy> copies, std::span<const uint8_t> gone);

// Calls `see(register, read, written)` for each register an instruction names, addresses included.
template <class See>
void each_register(const Code& f, const CodeLine& i, See see) {
  for (const CodeOperand& o : f.of(i)) {
    if (o.kind == OperandKind::Register) {
      if (o.reg != no_register) see(o.reg, o.read, o.written);
    } else if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
      const CodeAddress& a = f.addresses[static_cast<size_t>(o.value)];
      if (a.base != no_register) see(a.base, true, false);
      if (a.index != no_register) see(a.index, true, false);
    }
  }
}

}  // namespace porphyry::machine
