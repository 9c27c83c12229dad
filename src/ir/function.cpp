#include "porphyry/ir/function.h"

#include "porphyry/ir/compute.h"

namespace porphyry {
namespace {
constexpr uint32_t edge_user = 0x80000000u;
constexpr uint32_t order_gap = 1024;
}  // namespace

std::string Signature::text() const {
  auto join = [](const std::vector<Type>& types) {
    std::string out;
    for (size_t i = 0; i < types.size(); ++i) out += (i ? ", " : "") + types[i].name();
    return out;
  };
  return "(" + join(parameters) + ")" + (results.empty() ? "" : " -> " + join(results));
}

Function::Function(Signature signature) : signature_(std::move(signature)) {
  for (size_t i = 0; i < signature_.parameters.size(); ++i)
    parameters_.push_back(add_value(signature_.parameters[i], ValueKind::Parameter, 0, i));
}

// ---- blocks -----------------------------------------------------------------------------------------------

Block Function::add_block(Name name) {
  Block b = blocks_.add({});
  blocks_[b].name = name;
  blocks_[b].previous = last_block_;
  (last_block_.exists() ? blocks_[last_block_].next : first_block_) = b;
  last_block_ = b;
  return b;
}

Block Function::add_block_after(Block before, Name name) {
  if (before == last_block_) return add_block(name);
  Block b = blocks_.add({});
  Block after = blocks_[before].next;
  blocks_[b].name = name;
  blocks_[b].previous = before;
  blocks_[b].next = after;
  blocks_[before].next = b;
  blocks_[after].previous = b;
  return b;
}

void Function::erase_block(Block block) {
  assert(!blocks_[block].first_in.exists() && block != first_block_);
  while (blocks_[block].last.exists()) erase(blocks_[block].last);
  BlockRow& row = blocks_[block];
  blocks_[row.previous].next = row.next;
  (row.next.exists() ? blocks_[row.next].previous : last_block_) = row.previous;
  row.alive = false;
  row.parameters.clear();
}

Instruction Function::terminator(Block b) const {
  Instruction last = blocks_[b].last;
  return last.exists() && info(op(last)).ends_block() ? last : Instruction();
}

Value Function::add_parameter(Block b, Type type, Name name) {
  Value v = add_value(type, ValueKind::BlockParameter, b.index, blocks_[b].parameters.size());
  blocks_[b].parameters.push_back(v);
  if (name.exists()) set_name(v, name);
  return v;
}

void Function::erase_parameter(Block b, size_t index) {
  auto& list = blocks_[b].parameters;
  assert(!has_uses(list[index]));
  list.erase(list.begin() + static_cast<ptrdiff_t>(index));
  for (size_t i = index; i < list.size(); ++i) values_[list[i]].index = static_cast<uint16_t>(i);
  for (Edge e = first_in(b); e.exists(); e = next_in(e)) {
    auto& arguments = edges_[e].arguments;
    unlink_use(arguments[index]);
    arguments.erase(arguments.begin() + static_cast<ptrdiff_t>(index));
  }
}

// ---- edges ------------------------------------------------------------------------------------------------

void Function::add_argument(Edge e, Value v) {
  edges_[e].arguments.push_back(add_slot(v, e.index | edge_user));
}

void Function::drop_arguments(Edge e) {
  for (Slot s : edges_[e].arguments) unlink_use(s);
  edges_[e].arguments.clear();
}

void Function::redirect(Edge e, Block to, std::initializer_list<Value> arguments) {
  drop_arguments(e);
  unlink_in(e);
  edges_[e].to = to;
  link_in(e);
  for (Value v : arguments) add_argument(e, v);
}

void Function::link_in(Edge e) {
  EdgeRow& row = edges_[e];
  Edge head = blocks_[row.to].first_in;
  row.next_in = head;
  row.previous_in = {};
  if (head.exists()) edges_[head].previous_in = e;
  blocks_[row.to].first_in = e;
}

void Function::unlink_in(Edge e) {
  EdgeRow& row = edges_[e];
  (row.previous_in.exists() ? edges_[row.previous_in].next_in : blocks_[row.to].first_in) = row.next_in;
  if (row.next_in.exists()) edges_[row.next_in].previous_in = row.previous_in;
}

std::vector<Edge> Function::edges(Instruction i) const {
  std::vector<Edge> out;
  for (size_t k = 0; k < edge_count(i); ++k) out.push_back(edge(i, k));
  return out;
}

// ---- instructions -----------------------------------------------------------------------------------------

bool Function::has_effect(Instruction i) const {
  const OperationInfo& row = info(op(i));
  if (row.writes_memory() || row.may_trap() || row.ends_block()) return true;
  return row.layout == Layout::Load && address(i).is_volatile;
}

uint32_t Function::add_address(const Address& a) {
  addresses_.push_back(a);
  return static_cast<uint32_t>(addresses_.size() - 1);
}

uint32_t Function::add_reserve(const ReserveShape& r) {
  reserves_.push_back(r);
  return static_cast<uint32_t>(reserves_.size() - 1);
}

Instruction Function::make(Block b, const Draft& draft) {
  InstructionRow row;
  row.op = draft.op;
  row.detail = draft.detail;
  row.position = draft.position;
  row.operand_count = static_cast<uint16_t>(draft.operands.size());
  row.result_count = static_cast<uint16_t>(draft.results.size());
  row.edge_count = static_cast<uint16_t>(draft.targets.size());
  row.first_slot = Slot(slots_.size());
  row.first_result = Value(values_.size());
  row.first_edge = Edge(edges_.size());
  Instruction i = instructions_.add(row);
  for (Value v : draft.operands) add_slot(v, i.index);
  for (size_t k = 0; k < draft.results.size(); ++k)
    add_value(draft.results[k], ValueKind::Result, i.index, k);
  for (const auto& target : draft.targets) {
    Edge e = edges_.add({b, target.to, {}, {}, {}});
    link_in(e);
    for (Value v : target.arguments) add_argument(e, v);
  }
  return i;
}

Instruction Function::append(Block b, const Draft& draft) {
  Instruction i = make(b, draft);
  place(i, b, Instruction());
  return i;
}

Instruction Function::insert_before(Instruction at, const Draft& draft) {
  Block b = block(at);
  Instruction i = make(b, draft);
  place(i, b, at);
  return i;
}

// Links `i` into the list before `before`, or at the end, and gives it a key between its neighbours'.
void Function::place(Instruction i, Block b, Instruction before) {
  BlockRow& home = blocks_[b];
  InstructionRow& row = instructions_[i];
  row.block = b;
  row.next = before;
  row.previous = before.exists() ? instructions_[before].previous : home.last;
  (row.previous.exists() ? instructions_[row.previous].next : home.first) = i;
  (before.exists() ? instructions_[before].previous : home.last) = i;
  uint32_t low = row.previous.exists() ? instructions_[row.previous].order : 0;
  if (!before.exists()) {
    if (low < 0xffffffffu - order_gap)
      row.order = low + order_gap;
    else
      number_again(b);
    return;
  }
  uint32_t high = instructions_[before].order;
  row.order = low + (high - low) / 2;
  if (row.order == low) number_again(b);
}

void Function::number_again(Block b) {
  size_t count = 0;
  for (Instruction i = first(b); i.exists(); i = next(i)) ++count;
  uint32_t gap = static_cast<uint32_t>(std::min<size_t>(order_gap, 0xfffffff0u / (count + 1)));
  uint32_t key = 0;
  for (Instruction i = first(b); i.exists(); i = next(i)) instructions_[i].order = key += gap;
}

void Function::erase(Instruction i) {
  InstructionRow& row = instructions_[i];
  for (size_t k = 0; k < row.operand_count; ++k) unlink_use(operand_slot(i, k));
  for (size_t k = 0; k < row.edge_count; ++k) {
    drop_arguments(edge(i, k));
    unlink_in(edge(i, k));
    edges_[edge(i, k)].from = {};
  }
  for (size_t k = 0; k < row.result_count; ++k) assert(!has_uses(result(i, k)));
  BlockRow& home = blocks_[row.block];
  (row.previous.exists() ? instructions_[row.previous].next : home.first) = row.next;
  (row.next.exists() ? instructions_[row.next].previous : home.last) = row.previous;
  row.block = {};
}

// ---- values and uses --------------------------------------------------------------------------------------

Value Function::add_value(Type type, ValueKind kind, uint32_t owner, size_t index) {
  return values_.add({type, kind, static_cast<uint16_t>(index), owner, {}});
}

Value Function::constant(Type type, uint64_t bits) {
  bits &= static_cast<uint64_t>(mask_of(type.bits()));
  auto& same_bits = constant_values_[bits];
  for (Value v : same_bits)
    if (values_[v].type == type) return v;
  constants_.push_back(bits);
  Value v = add_value(type, ValueKind::Constant, static_cast<uint32_t>(constants_.size() - 1), 0);
  same_bits.push_back(v);
  return v;
}

Instruction Function::definition(Value v) const {
  return values_[v].kind == ValueKind::Result ? Instruction(values_[v].owner) : Instruction();
}

Block Function::defining_block(Value v) const {
  switch (values_[v].kind) {
    case ValueKind::Parameter: return first_block_;
    case ValueKind::BlockParameter: return Block(values_[v].owner);
    case ValueKind::Result: return block(Instruction(values_[v].owner));
    case ValueKind::Constant: break;
  }
  return {};
}

Slot Function::add_slot(Value v, uint32_t user) {
  Slot s = slots_.add({v, {}, {}, user});
  link_use(s);
  return s;
}

void Function::link_use(Slot s) {
  SlotRow& row = slots_[s];
  if (!row.value.exists()) return;  // a draft from a wrong text may leave operands open
  Slot head = values_[row.value].first_use;
  row.next = head;
  row.previous = {};
  if (head.exists()) slots_[head].previous = s;
  values_[row.value].first_use = s;
}

void Function::unlink_use(Slot s) {
  SlotRow& row = slots_[s];
  if (!row.value.exists()) return;
  (row.previous.exists() ? slots_[row.previous].next : values_[row.value].first_use) = row.next;
  if (row.next.exists()) slots_[row.next].previous = row.previous;
  row.value = {};
}

Function::Use Function::use(Slot s) const {
  uint32_t user = slots_[s].user;
  if (!(user & edge_user)) return {s, Instruction(user), {}};
  Edge e(user & ~edge_user);
  return {s, blocks_[edges_[e].from].last, e};
}

void Function::set(Slot s, Value v) {
  unlink_use(s);
  slots_[s].value = v;
  link_use(s);
}

void Function::replace_uses(Value old_value, Value new_value) {
  if (old_value == new_value) return;
  while (first_use(old_value).exists()) set(first_use(old_value), new_value);
}

}  // namespace porphyry
