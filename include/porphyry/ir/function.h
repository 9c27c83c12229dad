// A function: values, instructions, blocks and edges in flat tables, tied together by handles.
//
// * A value is a parameter, a block parameter, a result of an instruction or a constant.
// * Every operand is a slot that also links the uses of its value, so uses are walked and redirected without
//   a search.
// * Instructions of a block are a linked list with sparse order keys: insertion and "comes before" are O(1)
//   (amortized: a block whose keys run out is numbered again).
// * An edge is an entity: (from, slot, to, arguments). Two edges between the same blocks are two edges.
// * Erased entries leave holes; handles of the others stay valid.
// * No table holds a pointer, so a copy of a function is a copy of its tables.
#pragma once

#include <initializer_list>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "porphyry/base/boxed.h"
#include "porphyry/base/table.h"
#include "porphyry/ir/address.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/operations.h"
#include "porphyry/ir/ranges.h"
#include "porphyry/ir/realm.h"

namespace porphyry {

using Value = Id<struct ValueTag>;
using Block = Id<struct BlockTag>;
using Instruction = Id<struct InstructionTag>;
using Edge = Id<struct EdgeTag>;
using Symbol = Id<struct SymbolTag>;      // a function, data or external of the module
using Position = Id<struct PositionTag>;  // a row of the module's positions
using Slot = Id<struct SlotTag>;          // an operand's place

enum class ValueKind : uint8_t { Parameter, BlockParameter, Result, Constant };

struct Signature {
  std::vector<Type> parameters;
  std::vector<Type> results;
  bool variadic = false;  // external functions: more arguments may follow
  bool operator==(const Signature&) const = default;
  std::string text() const;  // "(i32, ptr) -> f32"
};

class Function {
 public:
  explicit Function(Signature signature = {});
  Function(const Function& other);  // one block of memory for all tables
  // The same with room for half as many rows again: for who goes on writing.
  static Function roomy_copy(const Function& other);
  // Only signature and parameters, which are new values without names.
  static Function without_body(const Function& other);
  // Becomes that, in the memory that this one has: for who writes many functions, and keeps copies of them.
  void start_as(const Function& other);
  Function(Function&&) = default;
  Function& operator=(Function&&) = default;

  const Signature& signature() const { return *signature_; }
  std::span<const Value> parameters() const {
    return {parameter_pool_.data() + first_parameter_, signature_->parameters.size()};
  }
  // Gives the function another signature and with it new parameters. The values of the old ones must have no
  // uses when it is next written or run.
  void change_signature(Signature signature) {
    change_signature(std::make_shared<const Signature>(std::move(signature)));
  }

  // ---- blocks -------------------------------------------------------------------------------------------
  Block add_block(Name name = {});  // appended to the layout; the first one is the entry
  Block add_block_after(Block before, Name name = {});
  // Erases a block with its instructions; nothing may go to it any more.
  void erase_block(Block block);
  Block entry() const { return first_block_; }
  Block next(Block b) const { return blocks_[b].next; }
  Block previous(Block b) const { return blocks_[b].previous; }
  size_t block_limit() const { return blocks_.size(); }  // one past the greatest handle
  bool alive(Block b) const { return blocks_[b].previous != b; }
  Instruction first(Block b) const { return blocks_[b].first; }
  Instruction last(Block b) const { return blocks_[b].last; }
  // The instruction that ends the block, when there is one.
  Instruction terminator(Block b) const {
    Instruction last = blocks_[b].last;
    return last.exists() && info(op(last)).ends_block() ? last : Instruction();
  }
  std::span<const Value> parameters(Block b) const {
    return {parameter_pool_.data() + blocks_[b].first_parameter, blocks_[b].parameter_count};
  }
  Value add_parameter(Block b, Type type, Name name = {});
  // Drops parameter `index` and the arguments that go to it. The parameter must have no uses.
  void erase_parameter(Block b, size_t index);
  // Cuts a block in two: `first` and what follows move to a new block behind it, to which the old one goes.
  // O(moved instructions).
  Block split(Block b, Instruction first, Name name = {});
  // Puts the block that `b` goes to at its end, when that is its only way out and the other's only way in:
  // its parameters become the arguments. False when it is not so. O(moved instructions + uses).
  bool merge_with_next(Block b);

  // ---- edges --------------------------------------------------------------------------------------------
  size_t edge_limit() const { return edges_.size(); }
  Block from(Edge e) const { return edges_[e].from; }
  Block to(Edge e) const { return edges_[e].to; }
  Slot argument_slot(Edge e, size_t i) const { return Slot(edges_[e].first_argument.index + i); }
  Value argument(Edge e, size_t i) const { return slots_[argument_slot(e, i)].value; }
  size_t argument_count(Edge e) const { return edges_[e].argument_count; }
  void add_argument(Edge e, Value v);  // O(1) amortized
  // How often the edge was taken in a measured run, when that is known.
  static constexpr uint64_t no_weight = ~uint64_t(0);
  uint64_t weight(Edge e) const {
    auto* rare = rare_.get();
    return rare ? ~rare->weights.get(e) : no_weight;
  }
  void set_weight(Edge e, uint64_t times) {
    if (times != no_weight || rare_.get()) rare_.make().weights.set(e, ~times);
  }
  void redirect(Edge e, Block to, std::initializer_list<Value> arguments = {});
  Edge first_in(Block b) const { return blocks_[b].first_in; }
  Edge next_in(Edge e) const { return edges_[e].next_in; }
  // Edges that leave through this instruction, in the order they are written.
  class EdgeRange {
   public:
    struct iterator {
      uint32_t at;
      Edge operator*() const { return Edge(at); }
      iterator& operator++() { return ++at, *this; }
      bool operator==(const iterator&) const = default;
    };
    EdgeRange(uint32_t first, uint32_t count) : first_(first), count_(count) {}
    iterator begin() const { return {first_}; }
    iterator end() const { return {first_ + count_}; }
    size_t size() const { return count_; }
    Edge operator[](size_t k) const { return Edge(first_ + k); }

   private:
    uint32_t first_, count_;
  };
  EdgeRange edges(Instruction i) const;
  EdgeRange edges(Block b) const {  // those of its last instruction, known without reading it
    return {blocks_[b].first_edge.index, blocks_[b].edge_count};
  }
  size_t edge_count(Instruction i) const { return edges(i).size(); }
  Edge edge(Instruction i, size_t slot) const { return edges(i)[slot]; }

  // ---- instructions -------------------------------------------------------------------------------------
  enum class Hint : uint8_t { None, Likely, Rarely };  // of `when`: whether its first way is taken

  static constexpr uint32_t no_detail = 0xffffffff;
  struct Draft {  // what an instruction is made of
    Op op;
    std::span<const Value> operands = {};
    std::span<const Type> results = {};
    uint32_t detail = no_detail;  // a symbol, a name, or what an add_… function gave: see below
    Position position = {};
    struct Destination {
      Block to;
      std::span<const Value> arguments = {};
      uint64_t weight = no_weight;
    };
    std::span<const Destination> targets = {};  // go: one; when: two; choose: one or more
    uint8_t promises = 0, permits = 0;
    Hint hint = Hint::None;
  };
  static constexpr size_t list_limit = 65535;  // operands, results, edges of one instruction; parameters

  Instruction append(Block b, const Draft& draft);
  Instruction insert_before(Instruction at, const Draft& draft);
  // Puts an instruction that ends no block before another one, which may stand in another block. O(1),
  // amortized.
  void move_before(Instruction i, Instruction at);
  // Erases an instruction; its results must have no uses. Its edges leave with it.
  void erase(Instruction i);
  size_t instruction_limit() const { return instructions_.size(); }
  bool alive(Instruction i) const { return instructions_[i].block.exists(); }
  Op op(Instruction i) const { return instructions_[i].op; }
  Block block(Instruction i) const { return instructions_[i].block; }
  Instruction next(Instruction i) const { return instructions_[i].next; }
  Instruction previous(Instruction i) const { return instructions_[i].previous; }
  Position position(Instruction i) const { return positions_.get(i); }
  void set_position(Instruction i, Position p) {
    if (p.exists() || positions_.get(i).exists()) positions_.set(i, p);
  }
  uint8_t promises(Instruction i) const { return instructions_[i].promises; }
  void set_promises(Instruction i, uint8_t bits) { touch(i), instructions_[i].promises = bits; }
  uint8_t permits(Instruction i) const { return instructions_[i].permits; }
  void set_permits(Instruction i, uint8_t bits) { touch(i), instructions_[i].permits = bits; }
  Hint hint(Instruction i) const { return instructions_[i].hint; }
  void set_hint(Instruction i, Hint h) { ++changes_, instructions_[i].hint = h; }
  // Gives instructions that have a position the one that `map` makes of it.
  template <class Map>
  void map_positions(Map map) {
    for (Position& p : positions_.rows())
      if (p.exists()) p = map(p);
  }
  // Whether running it shows beyond its results: it writes memory, may trap or ends its block, the access is
  // volatile, or it says something that must stay. What has no effect and no use may go. A division by a
  // number that is not zero, nor -1 where that may trap, has none.
  bool has_effect(Instruction i) const;
  // Whether an access promises that its bytes are never written (`as const`).
  bool reads_unwritten() const;
  // Both in one block.
  bool comes_before(Instruction a, Instruction b) const {
    return instructions_[a].order < instructions_[b].order;
  }
  size_t operand_count(Instruction i) const { return instructions_[i].operand_count; }
  Value operand(Instruction i, size_t k) const { return slots_[operand_slot(i, k)].value; }
  Slot operand_slot(Instruction i, size_t k) const { return Slot(instructions_[i].first_slot.index + k); }
  size_t result_count(Instruction i) const { return instructions_[i].result_count; }
  Value result(Instruction i, size_t k = 0) const { return Value(instructions_[i].first_result.index + k); }
  // What `detail` leads to, by layout: load, store, at, fill · copy · reserve · address, call · choose (a
  // constant for each edge but the last) · shuffle (a lane number for each lane of the result) · watch.
  const Address& address(Instruction i) const { return addresses_[instructions_[i].detail]; }
  const CopyShape& copy_shape(Instruction i) const { return rare_->copies[instructions_[i].detail]; }
  const ReserveShape& reserve_shape(Instruction i) const { return rare_->reserves[instructions_[i].detail]; }
  Symbol symbol(Instruction i) const { return Symbol(instructions_[i].detail); }
  Bits case_value(Instruction i, size_t edge) const {
    return rare_->cases[rare_->choices[instructions_[i].detail].first_case + edge];
  }
  uint16_t shuffle_lane(Instruction i, size_t lane) const {
    return rare_->shuffles[instructions_[i].detail + lane];
  }
  Name watched(Instruction i) const { return Name(instructions_[i].detail); }
  uint32_t detail(Instruction i) const { return instructions_[i].detail; }
  // Whether it leads to a row that is there. Of a symbol: to any; only the module knows how many it has.
  bool has_detail(Instruction i) const;
  uint32_t add_address(const Address& a);
  uint32_t add_copy(const CopyShape& c);
  uint32_t add_reserve(const ReserveShape& r);
  uint32_t add_cases(std::span<const Bits> values);
  uint32_t add_shuffle(std::span<const uint16_t> lanes);
  // Another symbol for address and call, another name for watch.
  void set_detail(Instruction i, uint32_t detail) { touch(i), instructions_[i].detail = detail; }
  // The same address with another kind, alignment, …
  void set_address(Instruction i, const Address& a) { touch(i), instructions_[i].detail = add_address(a); }

  // ---- values and uses ----------------------------------------------------------------------------------
  size_t value_limit() const { return values_.size(); }
  Type type(Value v) const { return values_[v].type; }
  ValueKind kind(Value v) const { return values_[v].kind; }
  bool is_constant(Value v) const { return values_[v].kind == ValueKind::Constant; }
  // Bits of a constant, masked to its width: the low 64; all of one lane. A constant pointer is null.
  uint64_t constant_bits(Value v) const { return constants_[values_[v].owner]; }
  Bits constant_word(Value v, size_t lane = 0) const;
  std::span<const uint64_t> constant_words(Value v) const {  // see Type::words
    return {constants_.data() + values_[v].owner, values_[v].type.words()};
  }
  // The same handle for the same bits. A single number fills all lanes. Average O(lanes).
  Value constant(Type type, Bits bits);
  Value constant_lanes(Type type, std::span<const uint64_t> words);  // as constant_words gives them
  // Whether all lanes of a constant are the same.
  bool is_uniform(Value v) const;
  Instruction definition(Value v) const {  // nothing for parameters and constants
    return values_[v].kind == ValueKind::Result ? Instruction(values_[v].owner) : Instruction();
  }
  Block defining_block(Value v) const;  // the entry for parameters; nothing for constants
  size_t result_index(Value v) const { return values_[v].index; }

  struct Use {
    Slot slot;
    Instruction user;  // for an edge's argument: the instruction that ends the block
    Edge edge;         // exists for an edge's argument
  };
  Slot first_use(Value v) const { return values_[v].first_use; }
  Slot next_use(Slot s) const { return slots_[s].next; }
  Use use(Slot s) const;
  Value value(Slot s) const { return slots_[s].value; }
  bool has_uses(Value v) const { return values_[v].first_use.exists(); }
  bool has_one_use(Value v) const { return has_uses(v) && !slots_[values_[v].first_use].next.exists(); }
  bool has_uses(Value v, size_t exactly) const {  // O(exactly)
    Slot s = first_use(v);
    for (; exactly > 0 && s.exists(); --exactly) s = next_use(s);
    return exactly == 0 && !s.exists();
  }
  void set(Slot s, Value v);
  void replace_uses(Value old_value, Value new_value);  // O(uses)

  // ---- ranges -------------------------------------------------------------------------------------------
  // For loops, see ranges.h.
  Chain<Function, Block, &Function::next> blocks() const { return {*this, first_block_}; }
  Chain<Function, Instruction, &Function::next> instructions(Block b) const { return {*this, first(b)}; }
  Numbered<Function, Edge, Value, &Function::argument> arguments(Edge e) const {
    return {*this, e, argument_count(e)};
  }
  Numbered<Function, Instruction, Value, &Function::operand> operands(Instruction i) const {
    return {*this, i, operand_count(i)};
  }
  Numbered<Function, Instruction, Value, &Function::result> results(Instruction i) const {
    return {*this, i, result_count(i)};
  }
  Chain<Function, Edge, &Function::next_in> edges_into(Block b) const { return {*this, first_in(b)}; }
  Chain<Function, Slot, &Function::next_use> uses(Value v) const { return {*this, first_use(v)}; }

  // ---- names --------------------------------------------------------------------------------------------
  Name name(Value v) const { return value_names_.get(v); }
  Name name(Block b) const { return blocks_[b].name; }
  void set_name(Value v, Name n) { value_names_.set(v, n); }
  void set_name(Block b, Name n) { blocks_[b].name = n; }

  // Comments that stand on lines of their own, above an instruction, above a block's label, or (no anchor)
  // before the closing brace.
  struct Comment {
    Instruction above;
    Block above_label;
    std::string text;  // with its dashes
  };
  std::vector<Comment> comments;

  // Grows with every change of blocks, edges, instructions and operands; names, positions, comments and new
  // constants do not count. Equal numbers at two times: nothing was changed between.
  uint64_t changes() const { return changes_; }
  // A list of instructions that were written, or whose operands, details or uses changed, since it was
  // started: for who goes on from there. Entries may be erased meanwhile, and stand there several times.
  // Copies have none.
  void start_journal() { journal_.make().clear(); }
  void end_journal() { journal_.reset(); }
  const std::vector<Instruction>* journal() const { return journal_.get(); }  // null while there is none

  // Puts all tables into one block of memory and gives back what they hold in reserve. O(size).
  void compact();
  // Room for so many, so that adding them moves no table.
  struct Expected {
    size_t values = 0, slots = 0, instructions = 0, blocks = 0, edges = 0, addresses = 0, constants = 0,
           parameters = 0;
  };
  void expect(const Expected& counts);
  void expect_more(const Expected& than_there_are);
  // Room for so many parameters of a block that has none yet.
  void expect_parameters(Block b, size_t count);
  // Memory held, in bytes.
  size_t bytes() const;

 private:
  Function(const Function& other, const Expected& rooms);
  struct ValueRow {
    Type type;
    ValueKind kind;
    uint16_t index;  // which parameter or result
    uint32_t owner;  // instruction, block or row of constants_
    Slot first_use;
  };
  struct SlotRow {
    Value value;
    Slot next, previous;  // uses of the same value
    uint32_t user;        // an instruction, or an edge when the top bit is set
  };
  struct InstructionRow {
    Op op;
    uint8_t promises = 0, permits = 0;
    Hint hint = Hint::None;
    uint16_t operand_count = 0, result_count = 0;
    Slot first_slot;
    Value first_result;
    uint32_t detail = 0;  // go, when: the first edge; choose: a row of choices
    Block block;
    Instruction previous, next;
    uint32_t order = 0;
  };
  static_assert(sizeof(InstructionRow) == 36);
  struct BlockRow {
    Instruction first, last;
    Block previous, next;  // one that was erased is its own previous one
    Edge first_in;
    Name name;
    uint32_t first_parameter = 0;  // in parameter_pool_
    uint16_t parameter_count = 0, parameter_room = 0;
    Edge first_edge;  // of the last instruction, so that walks along edges need not read it
    uint16_t edge_count = 0;
  };
  static_assert(sizeof(BlockRow) == 40);
  struct EdgeRow {
    Block from, to;
    Edge next_in, previous_in;
    Slot first_argument;
    uint16_t argument_count = 0, argument_room = 0;
  };
  struct Choice {
    Edge first_edge;
    uint32_t edge_count, first_case;
  };
  // What few functions have.
  struct Rare {
    std::vector<CopyShape> copies;
    std::vector<ReserveShape> reserves;
    std::vector<Choice> choices;
    std::vector<Bits> cases;
    std::vector<uint16_t> shuffles;
    SideTable<Edge, uint64_t> weights;  // complemented, so that zero is none
  };

  bool divides_by_number(Instruction i) const;
  void touch(Instruction i) {
    ++changes_;
    if (journal_.get()) journal_.make().push_back(i);
  }
  void unlink(Instruction i);
  Value add_value(Type type, ValueKind kind, uint32_t owner, size_t index);
  void add_slots(std::span<const Value> values, uint32_t user);
  void link_use(Slot s);
  void unlink_use(Slot s);
  void link_in(Edge e);
  void unlink_in(Edge e);
  void drop_arguments(Edge e);
  Instruction make(Block b, const Draft& draft);
  void add_edges(Block b, Instruction i, const Draft& draft);
  void place(Instruction i, Block b, Instruction before);
  void spread(Block b, Instruction i);
  void number_again(Block b);
  void make_room(EdgeRow& row);
  void take_over(Block b, Instruction first);
  void note_edges(BlockRow& row);
  size_t constant_place(Type type, std::span<const uint64_t> words) const;
  void grow_constants(size_t room);
  // All plain tables with what stands in the same place in `other`, which may be this function.
  template <class Self, class Other, class Visit>
  static void each_table(Self& self, Other& other, Visit visit);
  void move_tables(const Function& content, const Expected& rooms);
  Expected counts() const;
  explicit Function(std::shared_ptr<const Signature> signature);
  void change_signature(std::shared_ptr<const Signature> signature);

  std::shared_ptr<const Signature> signature_;  // copies share it
  Table<Value, ValueRow> values_;
  Table<Slot, SlotRow> slots_;
  Table<Instruction, InstructionRow> instructions_;
  Table<Block, BlockRow> blocks_;
  Table<Edge, EdgeRow> edges_;
  Rows<Address> addresses_;
  Boxed<Rare> rare_;
  Rows<uint64_t> constants_;
  Rows<Value> constant_table_;  // open addressing by type and bits; a power of two, a quarter is free
  uint32_t constant_count_ = 0;
  uint32_t first_parameter_ = 0;  // of the function's run
  Rows<Value> parameter_pool_;    // runs of the function's and of blocks' parameters
  SideTable<Value, Name> value_names_;
  SideTable<Instruction, Position> positions_;
  Block first_block_, last_block_;
  uint64_t changes_ = 0;
  Boxed<std::vector<Instruction>> journal_;
  TableBlock block_of_tables_;  // where tables lie that have not grown since they were moved there
};

inline Function::EdgeRange Function::edges(Instruction i) const {
  const InstructionRow& row = instructions_[i];
  switch (row.op) {
    case Op::Go: return {row.detail, 1};
    case Op::When: return {row.detail, 2};
    case Op::Choose: {
      const Choice& c = rare_->choices[row.detail];
      return {c.first_edge.index, c.edge_count};
    }
    default: return {0, 0};
  }
}

}  // namespace porphyry
