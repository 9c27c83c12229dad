// What a book says, as tables. The bookbinder (bind/) writes these tables at build time; encoder, decoder,
// printer, selector, allocator and simulator read them. Everything is constant data: no set-up, no locks.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "porphyry/ir/module.h"
#include "porphyry/ir/operations.h"
#include "porphyry/machine/register_set.h"
#include "porphyry/machine/rule_keys.h"

namespace porphyry::machine {

using FormIndex = uint16_t;
using Features = uint64_t;  // a bit each, in the order of the book
inline constexpr size_t most_features = 64, most_flags = 32;
using FlagSet = uint32_t;  // a bit each, in the order of Target::flags

// Whether a number fits so many bits, of which the highest is its sign.
constexpr bool fits_signed(int64_t n, unsigned bits) {
  return bits >= 64 || (n >= -(int64_t(1) << (bits - 1)) && n < int64_t(1) << (bits - 1));
}

// ---- registers --------------------------------------------------------------------------------------------

enum class Rest : uint8_t { Keeps, Clears };  // what a narrower write does to the rest of the register

struct RegisterView {  // a width under which a class's registers have names
  uint8_t bits;
  Rest rest;
  std::span<const std::string_view> names;  // by place in the class
};

// Class 0 holds whole numbers and addresses, class 1 floats and lanes: every book lists them in this order.
struct RegisterClass {
  std::string_view name;
  uint8_t first, count;  // physical numbers
  uint8_t bits;
  std::span<const RegisterView> views;  // widest first
};

// ---- forms of instructions --------------------------------------------------------------------------------

enum class OperandKind : uint8_t { Register, Memory, Literal, Address, Label, Symbol };

struct FormOperand {
  OperandKind kind;
  uint8_t register_class = 0;
  Type type;  // of the value read or written
  bool read = false, written = false;
  bool clears = false;       // a write clears the rest of the register
  int8_t only = -1;          // the one physical register, or the one literal, it may be
  uint8_t literal_bits = 0;  // Literal, Label, Symbol: bits in the encoding
  uint8_t unit = 1;          // Label, Symbol: of so many bytes; see reaches()
  bool literal_unsigned = false;
  bool aligned = false;  // Memory: an address that is no multiple of the operand's size traps
};

// One step of an encoding. Which kinds there are, and what they mean, is the target's affair: its book lists
// them by name, in the order in which the target's encoder knows them.
struct EncodingStep {
  uint8_t kind;
  uint8_t value = 0;      // the number behind it
  int8_t a = -1, b = -1;  // operands
};

// Meanings: a straight line of the IR's operations over operands, registers, flags and temporaries. Lanes lie
// side by side, lane 0 lowest, in at most 128 bits; a literal stands for all of them.
enum class TermKind : uint8_t { None, Operand, Temporary, Register, Flag, Literal, Next };
struct Term {
  TermKind kind = TermKind::None;
  Type type;
  uint8_t index = 0;  // operand, temporary, physical register or flag
  uint64_t literal = 0;
};
enum class MeaningKind : uint8_t { Compute, Copy, Load, Store, Open, Trap, Go };
struct MeaningStep {
  MeaningKind kind;
  Op op;  // Compute
  Term to;
  Term arguments[3];  // Load: address. Store: value, address. Trap, Go: [target,] condition
};

// What follows from a form's meaning, and where it stands among others.
struct FormFacts {
  RegisterSet reads, writes;  // registers that are not operands
  bool reads_flags = false, writes_flags = false;
  bool tests = false;  // given a register twice, it only compares what that holds with zero
  FlagSet flags_read = 0;
  FlagSet flags_as_tested = 0;   // those that say of the first operand, once written, what such a test says
  FormIndex first_in_group = 0;  // forms that differ only in the size of literals and the like: tried
  FormIndex next_in_group = 0;   // from the first; 0: no further one
  // Of a conditional jump the one for the opposite condition; of another instruction the one that does the
  // same with its two registers exchanged. 0: none.
  FormIndex opposite = 0;
  bool is_jump = false;

  // Whether it reads or writes registers or flags besides its operands.
  bool touches_more() const { return !reads.empty() || !writes.empty() || reads_flags || writes_flags; }
};

// Part of a processor that instructions share: so many of them hold one at a time.
struct Unit {
  std::string_view name;
  uint8_t count = 1;
};
inline constexpr uint8_t no_unit = 0xff;
inline constexpr size_t most_units = 15;

// `issue` instructions begin in a cycle: the oldest of the next `window` whose operands and units are there.
// A window of one: in order.
struct Pace {
  uint8_t issue = 1;
  uint16_t window = 1;
  std::span<const Unit> units;
  uint8_t load_unit = no_unit, store_unit = no_unit;  // of what accesses memory
};

struct Form : FormFacts {
  std::string_view name;      // the book's name, width included
  std::string_view spelling;  // bytes 1, 2, … stand for operands
  std::span<const FormOperand> operands;
  std::span<const EncodingStep> encoding;
  std::span<const MeaningStep> meaning;
  Features needs = 0;
  uint8_t latency = 1;
  uint16_t cost = 10;      // tenths of a plain instruction
  uint8_t unit = no_unit;  // row of Pace::units, besides those that memory takes
  uint8_t busy = 1;        // cycles that it holds the unit for
};

// Numbers below this are no forms but what the machine layer itself puts in; see machine/code.h.
inline constexpr FormIndex first_real_form = 4;

// ---- rules ------------------------------------------------------------------------------------------------

enum class NodeKind : uint8_t { Operation, Constant, Register, Literal, Memory };
// Which constants a node takes: any, those that fit a signed or unsigned literal of so many bits, a masked
// amount, all but one, floats that are neither a zero nor NaN.
enum class Fit : uint8_t { Any, Signed, Unsigned, Masked, Not, Nonzero };
struct PatternNode {
  NodeKind kind;
  Op op = Op::Add;
  Type operand, result;  // Operation: types; leaves: result only
  int8_t children[3] = {-1, -1, -1};
  int8_t variable = -1;  // leaves, and the root's result
  Fit fit = Fit::Any;
  // Literal: its bits; Signed, Unsigned: how many; Masked: the mask; Not: the number. On lanes: in each of
  // them.
  uint64_t literal = 0;
  std::span<const uint8_t> lanes = {};  // Shuffle: the lanes it takes; nothing when they are any
};

enum class SourceKind : uint8_t {
  None,
  Variable,
  Constant,
  Memory,
  Built,
  Pool,
  PoolLiteral,
  // Of the shuffle at the root. Order: its lanes in two bits each, counted in fours of bytes. Bytes: in
  // memory, the number of a byte for each byte, 128 where the lane is not from the first value, or not the
  // second.
  Order,
  FirstBytes,
  SecondBytes,
  Number,
  Physical,
  Yes,
  No,
  Table  // the jump table by which the root chooses
};
// Numbers and addresses that no instruction holds in whole come in two parts, of which the lower has
// Target::lower_bits.
enum class Part : uint8_t { Whole, Upper, Lower };
struct RuleSource {
  SourceKind kind = SourceKind::None;
  Part part = Part::Whole;           // Constant, Memory, Pool, PoolLiteral
  int8_t variable = -1, index = -1;  // Built: [variable + index*scale + constant]
  uint8_t scale = 1;
  int8_t constant = -1;
  uint8_t physical = 0;
  Type type;  // PoolLiteral
  int64_t number = 0;
};
struct RuleStep {
  FormIndex form = 0;  // the general form of its group, or the copy of machine/code.h
  RuleSource in[4];
  RuleSource out[4];  // Variable or Physical, where the operand is written
};
struct VariableShape {
  uint8_t register_class = 0;
  uint8_t bits = 64;
};

// Names of a rule, and how many of them may stand in its pattern.
inline constexpr size_t most_rule_variables = 12, most_pattern_variables = 6;

// How a rule computes an operation from registers, for legalization to write it so. The ways of lanes:
//   Mask         neg (widen.u (OP a, b)): a comparison as integers, all bits set where it holds
//   ByConstant   OP a, k with a constant k, of equal lanes
//   BySplat      OP a, (splat n)
//   LowHalves    OP (and a, m), (and b, m), where m has the lower half of a lane's bits
//   SignedHalves OP (shr.s (shl a, n), n), (shr.s (shl b, n), n), where n is half a lane's width
//   OfLow        a conversion of the lowest lanes, as many as the result has
//   Joined       two narrowings beside one another: shuffle (OP a), (OP b), {0, 1, …}
//   Shuffle      lanes of two values, which may be one, in the order of the root
// Plain is an operation alone; ByConstant holds for whole numbers as well.
enum class Way : uint8_t { None, Plain, ByConstant, Mask, BySplat, LowHalves, SignedHalves, OfLow, Joined, Shuffle };
struct Covered {
  Way way = Way::None;
  Op op = Op::Add;
  Type operand, result;  // as registers carry them; see carrier()
  bool operator==(const Covered&) const = default;
};

// What an index of rules reads: what a rule asks for, and what follows from its pattern and from the forms on
// its right side. Variables and operands are a bit each.
struct RuleFacts {
  // In `constants`: one of them is a literal, which takes a single number, with `literal` as its lowest byte.
  static constexpr uint8_t whole_literal = 8;
  Features needs = 0;
  uint16_t cost = 0;
  uint16_t root = 0, inner = no_node_key;  // keys of the root and of the first inner operation below it
  uint16_t place = 0;                      // in the book, which has the preferred one of equal cost first
  uint8_t constants = 0;                   // operands of the root that only constants fit
  uint8_t literal = 0;
  // What the right side writes at most: instructions with copies before them, operands, registers of its own.
  uint8_t lines = 0, operands = 0, temporaries = 0;
  uint16_t in_register = 0;  // variables that are wanted in a register
  uint16_t overwritten = 0;  // those that are read where the same operand is written
  bool aligned = false;      // memory is accessed at multiples of its size only
  Covered covered;
};

struct Rule : RuleFacts {
  std::string_view name;
  std::span<const PatternNode> nodes;  // the first is the root
  std::span<const RuleStep> steps;
  std::span<const VariableShape> variables;
  bool matches_constant = false;  // the root is a constant
};

// ---- the whole --------------------------------------------------------------------------------------------

struct PassingRules;  // see passing.h

struct Convention {
  std::string_view name;
  std::span<const uint8_t> whole, floats, whole_results, float_results;  // physical registers in order
  RegisterSet kept;
  RegisterSet reserved;  // never given to values: the stack pointer, and what the target keeps for itself
  uint8_t stack = 0;
  uint8_t stack_align = 16;
  uint8_t scratch = 0;         // carries no argument and may be lost: stubs and jumps go through it
  int8_t float_count = -1;     // where calls of variadic functions say how many float registers they use
  int8_t return_address = -1;  // the register that a call leaves it in; -1: it is pushed
  uint8_t word_bits = 64;      // of a whole number's register, and of its place on the stack
  int8_t far = -1;             // a reserved register for addresses in the frame that no access reaches
  const PassingRules* values = nullptr;  // filled in by the target
};

// Forms that the machine layer itself uses.
struct MoveForm {
  uint8_t register_class, bits;  // of the register that are moved
  FormIndex form;
};
struct SpillForm {
  uint8_t register_class, bits;  // and so many in memory
  FormIndex spill, reload;
};
// Forms that do the same as others in fewer bytes, or on more of the processor's units, where flags may
// change: `clear` of a register twice makes it zero as `literal` 0 does; `sum` into its first operand is
// `address` of a sum that begins with it, and `more` and `less` are sums with 1 and -1. `ones` with the literal
// -1 sets all bits whatever the register held, for which a processor may wait. All may be missing.
struct ShorterForms {
  FormIndex literal = 0, clear = 0, address = 0, sum = 0, sum_literal = 0, more = 0, less = 0, ones = 0;
};
struct Upkeep {
  ShorterForms half, whole;           // of registers in class 0
  std::span<const MoveForm> moves;    // of a class from narrow to wide
  std::span<const SpillForm> spills;  // likewise
  RegisterSet longer;  // instructions on less than a word are longer where they name one of these
  FormIndex jump = 0, jump_through = 0, call = 0, call_through = 0, return_values = 0;
  FormIndex nothing = 0;       // does nothing: for debuggers to stop at; not every book has it
  FormIndex move_literal = 0;  // for Convention::float_count
  FormIndex add = 0;           // for Convention::far: of two registers into a third
};

// What addresses an access takes: [base + index * scale + offset], or that of a symbol or constant.
struct AddressShape {
  std::span<const uint8_t> scales;  // none: there is no index
  uint8_t offset_bits = 32;
  bool symbols = true;  // distances to symbols and constants stand in it
  bool offset_fits(int64_t offset) const { return fits_signed(offset, offset_bits); }
};

// What a linker or loader puts into an instruction. Numbers of these kinds stand in Encoded and Fixup.
struct FixupKind {
  bool relative;            // the distance from the place itself; else the address, or a part of it
  uint32_t relocation = 0;  // type in object files, where no stub or table stands between
};

// What a type of relocation puts into its place: something of a symbol, or the distance to that.
struct RelocationFact {
  uint32_t type;
  uint8_t bytes;          // 0: it only marks an instruction
  bool relative;          // counted from the place itself
  std::string_view what;  // of the symbol, to stand before its name; empty: its address
  std::string_view name;  // the supplement's own, for those that our objects use
};
// What object files for this target say in numbers: the processor's supplements to ELF and DWARF. A target
// without a machine number has no object files.
struct ObjectFacts {
  uint16_t machine = 0;
  // Types of relocations: a word's address; four bytes of one; the distance from the place itself; the same
  // to a function that may be reached through a stub.
  uint32_t absolute_64 = 0, absolute_32 = 0, relative_32 = 0, call_32 = 0;
  // The type for four bytes that hold the distance to a symbol's entry in the linker's table of addresses;
  // `code` ends where they begin.
  uint32_t (*table_32)(std::span<const uint8_t> code) = nullptr;
  std::span<const RelocationFact> relocations;  // as objects of any compiler use them
  std::span<const uint8_t> unwind_numbers;      // by physical register
  uint8_t return_number = 0;                    // the column of the return address
};

struct Target;

// An operand whose registers are settled, ready to encode or decoded from bytes.
struct PlainAddress {
  int8_t base = -1, index = -1;  // physical registers
  uint8_t scale = 1;
  int32_t displacement = 0;
  bool relative = false;  // to the end of the instruction; a fixup fills it in
};
struct PlainOperand {
  OperandKind kind = OperandKind::Register;
  uint8_t physical = 0;
  int64_t literal = 0;  // literals; distances of labels and symbols from the instruction's end
  PlainAddress address;

  static PlainOperand reg(unsigned physical) { return {.physical = static_cast<uint8_t>(physical)}; }
  static PlainOperand number(int64_t n) { return {.kind = OperandKind::Literal, .literal = n}; }
  static PlainOperand memory(unsigned base, int64_t offset) {
    return {.kind = OperandKind::Memory,
            .address = {.base = static_cast<int8_t>(base), .displacement = static_cast<int32_t>(offset)}};
  }
};
struct PlainInstruction {
  FormIndex form = 0;
  PlainOperand operands[4];
};

// Bytes of one instruction. What stands for an address that is not known yet is at `fixup_at`.
struct Encoded {
  static constexpr uint8_t no_fixup = 0xff;
  uint8_t bytes[16];
  uint8_t size = 0;
  uint8_t fixup_at = 0;
  uint8_t fixup = no_fixup;  // kind; see Target::fixups
};

// ---- frames -----------------------------------------------------------------------------------------------

// A function's frame: what its prologue has to make room for and keep.
struct Frame {
  uint64_t bytes = 0;  // below the saved registers
  RegisterSet saved;   // kept ones that it writes; the return address's, where calls leave it in one
};

// How one instruction of a prologue or epilogue changes the frame.
struct FrameEffect {
  int64_t grows = 0;                  // bytes that the stack pointer goes down by
  int16_t saves = -1, restores = -1;  // a physical register; saved where the stack pointer then points
};

struct FrameInterface {
  uint8_t return_bytes = 0;  // that a call pushes
  // Bytes that saved registers take between the frame and what the caller passed.
  uint64_t (*saved_bytes)(const Target&, const RegisterSet& saved) = nullptr;
  // The instructions of a prologue, of an epilogue. Literals may be of any form of their group.
  void (*enter)(const Target&, const Frame&, std::vector<PlainInstruction>& out) = nullptr;
  void (*leave)(const Target&, const Frame&, std::vector<PlainInstruction>& out) = nullptr;
  FrameEffect (*effect)(const Target&, const PlainInstruction&) = nullptr;
};

// Code that is not compiled from the IR; appended to `out`. Only targets that run here have it.
struct Stubs {
  // To an address, at any distance, by way of the scratch register.
  void (*jump_far)(const Target&, std::vector<uint8_t>& out, uint64_t address) = nullptr;
  // To where a word at a distance from the front of `out` leads.
  void (*jump_through)(const Target&, std::vector<uint8_t>& out, int64_t word) = nullptr;
  // A number into the scratch register, then to a place at a distance from the front of `out`.
  void (*jump_with)(const Target&, std::vector<uint8_t>& out, uint64_t number, int64_t to) = nullptr;
  // Calls `host(context, number in the scratch register)` with all argument registers kept, and jumps to what
  // it gives.
  void (*ask_and_jump)(const Target&, std::vector<uint8_t>& out, void* (*host)(void*, uint64_t),
                       void* context) = nullptr;
};

// Where loops begin, for the processor's sake; see emit.h. No lines: anywhere.
struct CodeAlignment {
  uint32_t function = 16, line = 32;
};

// What the bookbinder writes.
struct Book {
  std::string_view name;
  std::span<const std::string_view> features;
  Features usual_features = 0;
  std::span<const RegisterClass> classes;
  std::span<const std::string_view> flags;
  std::span<const Form> forms;
  Pace pace;
  // By the keys of root and inner node, then from cheap to expensive; last those for constants.
  std::span<const Rule> rules;
  uint16_t constant_rules = 0;  // where these start
  MemoryLayout layout;
  uint8_t word_bits = 64;  // of the widest integers that a register of class 0 holds
  uint8_t lower_bits = 0;  // see Part
  AddressShape address;
  Convention convention;
  Upkeep upkeep;
};

// The same with what a book cannot say: see targets/.
struct Target : Book {
  CodeAlignment alignment;
  std::span<const FixupKind> fixups;
  ObjectFacts object;
  FrameInterface frame;
  Stubs stubs;
  Encoded (*encode)(const Target&, const PlainInstruction&);
  // Puts an address or distance, or the part of it that the kind says, where a fixup of the kind is; false
  // when it does not fit.
  bool (*settle)(uint8_t kind, uint8_t* at, int64_t value);
  // The instruction at the front of `bytes` and its size; size 0 when the book does not describe it.
  uint8_t (*decode)(const Target&, std::span<const uint8_t> bytes, PlainInstruction& out);
  // The size of the instruction at the front of `bytes`, described or not; 0 when it does not end in them or
  // the opcode is none.
  uint8_t (*length)(const Target&, std::span<const uint8_t> bytes);
  // Fills the bytes with instructions that do nothing, as few as there can be. Gives the size of the first.
  uint8_t (*pad)(std::span<uint8_t> bytes);
  // An address as assembly text: of `bits` in memory, or (0) only computed. `name` stands for what a relative
  // one leads to, and for the offset of another one, if it is not empty.
  std::string (*spell_address)(const Target&, const PlainAddress&, unsigned bits, const std::string& name);
  // Whether the system assembler takes this name for something else than a symbol.
  bool (*is_taken_name)(std::string_view name);
  // Where a run on this processor stood when a signal stopped it, from the context its handler was given.
  uint64_t (*program_counter)(const void* signal_context);
  // The features of the processor this runs on.
  Features (*features_here)();
  bool (*runs_here)();

  const Form& form(FormIndex f) const { return forms[f]; }
  // Physical registers of all classes.
  unsigned register_count() const { return classes.back().first + unsigned(classes.back().count); }
  unsigned class_of(unsigned physical) const;
  std::string_view register_name(unsigned physical, unsigned bits) const;
  // A form by its book name, for tests and tools, or by name and operands: the most general one. 0 when there
  // is none.
  FormIndex find(std::string_view name) const;
  FormIndex find(std::string_view name, std::initializer_list<OperandKind> operands) const;

  // What the book does not say although the machine layer needs it, each as the book would name it: moves and
  // spills of each class, jumps, calls. O(classes).
  std::vector<std::string> missing_upkeep() const;

  // The forms that move, spill and reload so many bits of a register.
  FormIndex move_form(unsigned register_class, unsigned bits) const;
  const SpillForm& spill_form(unsigned register_class, unsigned bits) const;
};

// Whether a label's or symbol's distance from the instruction's end fits its operand.
constexpr bool reaches(const FormOperand& o, int64_t distance) {
  if (o.literal_bits >= 63) return true;
  int64_t half = int64_t(o.unit) << (o.literal_bits - 1);
  return distance >= -half && distance < half;
}

// A part of an address or of a number of `bits` bits.
constexpr uint64_t part_of(uint64_t value, Part part, unsigned lower_bits) {
  return part == Part::Upper   ? value >> lower_bits
         : part == Part::Lower ? value & ((uint64_t(1) << lower_bits) - 1)
                               : value;
}

}  // namespace porphyry::machine
