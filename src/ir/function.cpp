#include "porphyry/ir/function.h"

#include <algorithm>

#include "porphyry/base/hash.h"

namespace porphyry {
namespace {
constexpr uint32_t edge_user = 0x80000000u;
constexpr uint32_t order_gap = 1024;

// Room for one more in a run that is full.
uint16_t more_room(uint16_t room) {
  return static_cast<uint16_t>(std::min<size_t>(Function::list_limit, std::max<size_t>(2, room * size_t(2))));
}
}  // namespace

std::string Signature::text() const {
  auto join = [](const std::vector<Type>& types) {
    std::string out;
    for (size_t i = 0; i < types.size(); ++i) out += (i ? ", " : "") + types[i].name();
    return out;
  };
  std::string more = !variadic ? "" : parameters.empty() ? "..." : ", ...";
  return "(" + join(parameters) + more + ")" + (results.empty() ? "" : " -> " + join(results));
}

Function::Function(Signature signature) : Function(std::make_shared<const Signature>(std::move(signature))) {}

Function::Function(std::shared_ptr<const Signature> signature) { change_signature(std::move(signature)); }

Function Function::without_body(const Function& other) { return Function(other.signature_); }

void Function::start_as(const Function& other) {
  each_table(*this, *this, [](auto& rows, const auto&, auto) { rows.resize(0); });
  comments.clear();
  rare_.reset();
  constant_count_ = 0;
  first_block_ = last_block_ = {};
  change_signature(other.signature_);
}

void Function::change_signature(std::shared_ptr<const Signature> signature) {
  ++changes_;
  signature_ = std::move(signature);
  first_parameter_ = static_cast<uint32_t>(parameter_pool_.size());
  for (size_t i = 0; i < signature_->parameters.size(); ++i)
    parameter_pool_.push_back(add_value(signature_->parameters[i], ValueKind::Parameter, 0, i));
}

Function::Function(const Function& other) : Function(other, {}) {}

static constexpr size_t Function::Expected::*all_counts[] = {
    &Function::Expected::values,    &Function::Expected::slots,     &Function::Expected::instructions,
    &Function::Expected::blocks,    &Function::Expected::edges,     &Function::Expected::addresses,
    &Function::Expected::constants, &Function::Expected::parameters};

Function Function::roomy_copy(const Function& other) {
  Expected rooms = other.counts();
  for (size_t Expected::*count : all_counts) rooms.*count += rooms.*count / 2 + 8;
  return Function(other, rooms);
}

Function::Function(const Function& other, const Expected& rooms)
    : comments(other.comments),
      signature_(other.signature_),
      rare_(other.rare_),
      constant_count_(other.constant_count_),
      first_parameter_(other.first_parameter_),
      first_block_(other.first_block_),
      last_block_(other.last_block_) {
  move_tables(other, rooms);
}

// ---- blocks -----------------------------------------------------------------------------------------------

Block Function::add_block(Name name) {
  ++changes_;
  Block b = blocks_.add({});
  blocks_[b].name = name;
  blocks_[b].previous = last_block_;
  (last_block_.exists() ? blocks_[last_block_].next : first_block_) = b;
  last_block_ = b;
  return b;
}

Block Function::add_block_after(Block before, Name name) {
  ++changes_;
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
  ++changes_;
  assert(!blocks_[block].first_in.exists() && block != first_block_);
  while (blocks_[block].last.exists()) erase(blocks_[block].last);
  BlockRow& row = blocks_[block];
  blocks_[row.previous].next = row.next;
  (row.next.exists() ? blocks_[row.next].previous : last_block_) = row.previous;
  row.previous = block;
  row.parameter_count = 0;
}

Value Function::add_parameter(Block b, Type type, Name name) {
  ++changes_;
  BlockRow& row = blocks_[b];
  assert(row.parameter_count < list_limit);
  Value v = add_value(type, ValueKind::BlockParameter, b.index, row.parameter_count);
  if (row.parameter_count == row.parameter_room) {
    uint16_t room = more_room(row.parameter_room);
    size_t from = row.first_parameter;
    row.first_parameter = static_cast<uint32_t>(parameter_pool_.size());
    row.parameter_room = room;
    parameter_pool_.resize(parameter_pool_.size() + room);
    std::copy_n(parameter_pool_.begin() + static_cast<ptrdiff_t>(from), row.parameter_count,
                parameter_pool_.begin() + row.first_parameter);
  }
  parameter_pool_[row.first_parameter + row.parameter_count++] = v;
  if (name.exists()) set_name(v, name);
  return v;
}

void Function::erase_parameter(Block b, size_t index) {
  ++changes_;
  BlockRow& row = blocks_[b];
  Value* list = parameter_pool_.data() + row.first_parameter;
  assert(!has_uses(list[index]));
  std::copy(list + index + 1, list + row.parameter_count, list + index);
  --row.parameter_count;
  for (size_t i = index; i < row.parameter_count; ++i) values_[list[i]].index = static_cast<uint16_t>(i);
  for (Edge e = first_in(b); e.exists(); e = next_in(e)) {
    for (size_t k = index; k + 1 < argument_count(e); ++k) set(argument_slot(e, k), argument(e, k + 1));
    unlink_use(argument_slot(e, --edges_[e].argument_count));
  }
}

// `first` and what follows become part of `b`, whose list ends where they begin.
void Function::take_over(Block b, Instruction first) {
  ++changes_;
  InstructionRow& row = instructions_[first];
  BlockRow& old = blocks_[row.block];
  BlockRow& home = blocks_[b];
  Instruction last = old.last;
  old.last = row.previous;
  (row.previous.exists() ? instructions_[row.previous].next : old.first) = {};
  row.previous = home.last;
  (home.last.exists() ? instructions_[home.last].next : home.first) = first;
  home.last = last;
  for (Instruction i = first; i.exists(); i = next(i)) {
    instructions_[i].block = b;
    for (Edge e : edges(i)) edges_[e].from = b;
  }
  note_edges(old);
  note_edges(home);
}

void Function::note_edges(BlockRow& row) {
  EdgeRange ways = row.last.exists() ? edges(row.last) : EdgeRange(0, 0);
  row.first_edge = *ways.begin();
  row.edge_count = static_cast<uint16_t>(ways.size());
}

Block Function::split(Block b, Instruction first, Name name) {
  Position position = this->position(first);
  Block after = add_block_after(b, name);
  take_over(after, first);
  Draft::Destination target{after};
  append(b, {.op = Op::Go, .position = position, .targets = {&target, 1}});
  return after;
}

bool Function::merge_with_next(Block b) {
  Instruction end = terminator(b);
  if (!end.exists() || op(end) != Op::Go) return false;
  Edge way = edge(end, 0);
  Block gone = to(way);
  bool only_way = first_in(gone) == way && !next_in(way).exists();
  if (!only_way || gone == b || gone == first_block_ || parameters(gone).size() != argument_count(way))
    return false;
  for (size_t k = 0; k < argument_count(way); ++k) {
    Value parameter = parameters(gone)[k];
    // A parameter that is its own argument exists only where no run comes.
    if (argument(way, k) != parameter) replace_uses(parameter, argument(way, k));
  }
  erase(end);
  Instruction moved = first(gone);
  if (moved.exists()) {
    uint32_t key = last(b).exists() ? instructions_[last(b)].order : 0;
    take_over(b, moved);
    bool fits = true;
    for (Instruction i = moved; i.exists(); i = next(i)) {
      fits &= key < 0xffffffffu - order_gap;
      instructions_[i].order = key += order_gap;
    }
    if (!fits) number_again(b);
  }
  erase_block(gone);
  return true;
}

// ---- edges ------------------------------------------------------------------------------------------------

// Moves a full run of arguments to where there is room behind it. Slots are linked, so their neighbours learn
// of it.
void Function::make_room(EdgeRow& row) {
  uint16_t room = more_room(row.argument_room);
  Slot first(slots_.size());
  uint32_t user = static_cast<uint32_t>(&row - &*edges_.begin()) | edge_user;
  slots_.resize(slots_.size() + room, {{}, {}, {}, user});
  for (size_t k = 0; k < row.argument_count; ++k) {
    Slot from(row.first_argument.index + k), to(first.index + k);
    slots_[to] = slots_[from];
    SlotRow& moved = slots_[to];
    if (!moved.value.exists()) continue;
    (moved.previous.exists() ? slots_[moved.previous].next : values_[moved.value].first_use) = to;
    if (moved.next.exists()) slots_[moved.next].previous = to;
    slots_[from] = {{}, {}, {}, user};
  }
  row.first_argument = first;
  row.argument_room = room;
}

void Function::add_argument(Edge e, Value v) {
  EdgeRow& row = edges_[e];
  assert(row.argument_count < list_limit);
  if (row.argument_count == row.argument_room) make_room(row);
  Slot s(row.first_argument.index + row.argument_count++);
  slots_[s].value = v;
  link_use(s);
}

void Function::drop_arguments(Edge e) {
  for (size_t k = 0; k < argument_count(e); ++k) unlink_use(argument_slot(e, k));
  edges_[e].argument_count = 0;
}

void Function::redirect(Edge e, Block to, std::initializer_list<Value> arguments) {
  ++changes_;
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

// ---- instructions -----------------------------------------------------------------------------------------

bool Function::has_effect(Instruction i) const {
  const OperationInfo& row = info(op(i));
  if (row.writes_memory() || row.ends_block() || row.marks()) return true;
  if (row.may_trap()) return !divides_by_number(i);
  return row.layout == Layout::Load && (address(i).is_volatile || address(i).guarded);
}

// One by which no division traps.
bool Function::divides_by_number(Instruction i) const {
  Op o = op(i);
  if (o != Op::DivU && o != Op::DivS && o != Op::RemU && o != Op::RemS) return false;
  Value by = operand(i, 1);
  if (!is_constant(by) || !is_uniform(by)) return false;
  Bits b = constant_word(by);
  return b != 0 && (o != Op::DivS || b != mask_of(type(by).bits()));
}

bool Function::reads_unwritten() const {
  return std::any_of(addresses_.begin(), addresses_.end(), [](const Address& a) { return a.as_unwritten; });
}

uint32_t Function::add_address(const Address& a) {
  // Loops go over a few shapes again and again: the last ones are looked at before a new row is made.
  size_t back = std::min<size_t>(addresses_.size(), 8);
  for (size_t k = addresses_.size() - back; k < addresses_.size(); ++k)
    if (addresses_[k] == a) return static_cast<uint32_t>(k);
  addresses_.push_back(a);
  return static_cast<uint32_t>(addresses_.size() - 1);
}

uint32_t Function::add_copy(const CopyShape& c) {
  auto& copies = rare_.make().copies;
  copies.push_back(c);
  return static_cast<uint32_t>(copies.size() - 1);
}

uint32_t Function::add_reserve(const ReserveShape& r) {
  auto& reserves = rare_.make().reserves;
  reserves.push_back(r);
  return static_cast<uint32_t>(reserves.size() - 1);
}

uint32_t Function::add_cases(std::span<const Bits> values) {
  auto& cases = rare_.make().cases;
  cases.insert(cases.end(), values.begin(), values.end());
  return static_cast<uint32_t>(cases.size() - values.size());
}

uint32_t Function::add_shuffle(std::span<const uint16_t> lanes) {
  auto& shuffles = rare_.make().shuffles;
  shuffles.insert(shuffles.end(), lanes.begin(), lanes.end());
  return static_cast<uint32_t>(shuffles.size() - lanes.size());
}

bool Function::has_detail(Instruction i) const {
  uint32_t detail = instructions_[i].detail;
  auto in = [&](const auto& rows, size_t count = 1) {
    return detail < rows.size() && count <= rows.size() - detail;
  };
  switch (info(op(i)).detail()) {
    case Detail::Address: return in(addresses_);
    case Detail::Copy: return rare_.get() && in(rare_->copies);
    case Detail::Reserve: return rare_.get() && in(rare_->reserves);
    case Detail::Lanes: return result_count(i) && rare_.get() && in(rare_->shuffles, type(result(i)).lanes());
    case Detail::Cases: {
      if (!rare_.get() || !in(rare_->choices)) return false;
      const Choice& c = rare_->choices[detail];
      return c.edge_count > 0 && c.first_case + uint64_t(c.edge_count) - 1 <= rare_->cases.size();
    }
    case Detail::Symbol:
    case Detail::Name: return detail != no_detail;
    case Detail::None: break;
  }
  return true;
}

// As link_use, in one write of each row: most slots are made here.
[[gnu::always_inline]] inline void Function::add_slots(std::span<const Value> values, uint32_t user) {
  if (values.empty()) return;
  Slot s(slots_.size());
  SlotRow* row = slots_.rows().extend(values.size());
  for (Value v : values) {
    *row = {v, {}, {}, user};
    if (v.exists()) {  // a draft from a wrong text may leave operands open
      Slot& first = values_[v].first_use;
      row->next = first;
      if (first.exists()) slots_[first].previous = s;
      first = s;
    }
    ++row, ++s.index;
  }
}

// Where it stands in its block is its caller's to say. Inlined, with its slots, into those that know: calls
// were a tenth of what an instruction costs a reader.
[[gnu::always_inline]] inline Instruction Function::make(Block b, const Draft& draft) {
  ++changes_;
  assert(draft.operands.size() <= list_limit && draft.results.size() <= list_limit &&
         draft.targets.size() <= list_limit);
  Instruction i(instructions_.size());
  *instructions_.rows().extend(1) = {.op = draft.op,
                                     .promises = draft.promises,
                                     .permits = draft.permits,
                                     .hint = draft.hint,
                                     .operand_count = static_cast<uint16_t>(draft.operands.size()),
                                     .result_count = static_cast<uint16_t>(draft.results.size()),
                                     .first_slot = Slot(slots_.size()),
                                     .first_result = Value(values_.size()),
                                     .detail = draft.detail,
                                     .block = b};
  if (journal_.get()) journal_.make().push_back(i);
  if (draft.position.exists()) positions_.set(i, draft.position);
  add_slots(draft.operands, i.index);
  if (!draft.results.empty()) {
    ValueRow* row = values_.rows().extend(draft.results.size());
    for (uint16_t k = 0; k < draft.results.size(); ++k)
      *row++ = {draft.results[k], ValueKind::Result, k, i.index, {}};
  }
  if (!draft.targets.empty() || draft.op == Op::Choose) add_edges(b, i, draft);
  return i;
}

void Function::add_edges(Block b, Instruction i, const Draft& draft) {
  assert(draft.targets.size() == (draft.op == Op::Go     ? 1u
                                  : draft.op == Op::When ? 2u
                                                         : draft.targets.size()));
  auto first = static_cast<uint32_t>(edges_.size());
  if (draft.op == Op::Choose) {
    auto& choices = rare_.make().choices;
    choices.push_back({Edge(first), static_cast<uint32_t>(draft.targets.size()), draft.detail});
    first = static_cast<uint32_t>(choices.size() - 1);
  }
  instructions_[i].detail = first;
  for (const auto& target : draft.targets) {
    Edge e(edges_.size());
    auto count = static_cast<uint16_t>(target.arguments.size());
    *edges_.rows().extend(1) = {.from = b,
                                .to = target.to,
                                .first_argument = Slot(slots_.size()),
                                .argument_count = count,
                                .argument_room = count};
    if (target.weight != no_weight) set_weight(e, target.weight);
    link_in(e);
    add_slots(target.arguments, e.index | edge_user);
  }
}

Instruction Function::append(Block b, const Draft& draft) {
  Edge first_edge(edges_.size());
  Instruction i = make(b, draft);
  BlockRow& home = blocks_[b];
  InstructionRow& row = instructions_[i];
  home.first_edge = first_edge;
  home.edge_count = static_cast<uint16_t>(draft.targets.size());
  uint32_t before = 0;
  row.previous = home.last;
  if (home.last.exists()) {
    before = instructions_[home.last].order;
    instructions_[home.last].next = i;
  } else {
    home.first = i;
  }
  home.last = i;
  row.order = before + order_gap;
  if (before >= 0xffffffffu - order_gap) number_again(b);
  return i;
}

Instruction Function::insert_before(Instruction at, const Draft& draft) {
  Block b = block(at);
  Instruction i = make(b, draft);
  place(i, b, at);
  return i;
}

// Links `i` into the list before `before` and gives it a key between its neighbours'.
void Function::place(Instruction i, Block b, Instruction before) {
  BlockRow& home = blocks_[b];
  InstructionRow& row = instructions_[i];
  row.block = b;
  row.next = before;
  row.previous = instructions_[before].previous;
  (row.previous.exists() ? instructions_[row.previous].next : home.first) = i;
  instructions_[before].previous = i;
  uint32_t low = row.previous.exists() ? instructions_[row.previous].order : 0;
  uint32_t high = instructions_[before].order;
  row.order = low + (high - low) / 2;
  if (row.order == low) spread(b, i);
}

// Two neighbours have one key. The keys of a range around them that is thinly enough filled are spread
// evenly: M. Bender, R. Cole, E. Demaine, M. Farach-Colton, J. Zito, "Two Simplified Algorithms for
// Maintaining Order in a List" (2002). The larger the range, the thinner; so an insertion costs O(log n),
// amortized.
void Function::spread(Block b, Instruction i) {
  constexpr double growth =
      1.6;  // of what a range may hold with each doubling of its keys: all of them, millions
  Instruction from = i, to = i;  // the range's instructions
  size_t count = 1;
  double allowed = 1;
  for (unsigned bits = 1; bits < 32; ++bits) {
    allowed *= growth;
    uint32_t width = uint32_t(1) << bits, base = instructions_[i].order & ~(width - 1);
    for (Instruction p = previous(from); p.exists() && instructions_[p].order >= base; p = previous(from))
      from = p, ++count;
    for (Instruction n = next(to); n.exists() && instructions_[n].order - base < width; n = next(to))
      to = n, ++count;
    if (static_cast<double>(count) > allowed || count >= width / 2) continue;
    uint32_t gap = width / static_cast<uint32_t>(count + 1), key = base;
    for (Instruction k = from;; k = next(k)) {
      instructions_[k].order = key += gap;
      if (k == to) return;
    }
  }
  number_again(b);
}

// All keys, in the lower half: there is room to append as many as there are.
void Function::number_again(Block b) {
  size_t count = 0;
  for (Instruction i = first(b); i.exists(); i = next(i)) ++count;
  uint32_t gap = static_cast<uint32_t>(std::min<size_t>(order_gap, 0x7fffffffu / (count + 1)));
  uint32_t key = 0;
  for (Instruction i = first(b); i.exists(); i = next(i)) instructions_[i].order = key += gap;
}

void Function::erase(Instruction i) {
  ++changes_;
  InstructionRow& row = instructions_[i];
  for (size_t k = 0; k < row.operand_count; ++k) unlink_use(operand_slot(i, k));
  for (Edge e : edges(i)) {
    drop_arguments(e);
    unlink_in(e);
    edges_[e].from = {};
  }
  for (size_t k = 0; k < row.result_count; ++k) assert(!has_uses(result(i, k)));
  unlink(i);
}

// Out of its block.
void Function::unlink(Instruction i) {
  InstructionRow& row = instructions_[i];
  BlockRow& home = blocks_[row.block];
  (row.previous.exists() ? instructions_[row.previous].next : home.first) = row.next;
  (row.next.exists() ? instructions_[row.next].previous : home.last) = row.previous;
  if (!row.next.exists()) note_edges(home);
  row.block = {};
}

void Function::move_before(Instruction i, Instruction at) {
  assert(i != at && !info(op(i)).ends_block());
  touch(i);
  unlink(i);
  place(i, block(at), at);
}

// ---- values and uses --------------------------------------------------------------------------------------

Value Function::add_value(Type type, ValueKind kind, uint32_t owner, size_t index) {
  return values_.add({type, kind, static_cast<uint16_t>(index), owner, {}});
}

size_t Function::constant_place(Type type, std::span<const uint64_t> words) const {
  uint64_t h = (uint64_t(type.shape()) | type.bits() << 8 | type.lanes() << 16) * 0xd6e8feb86659fd93u;
  for (uint64_t w : words) h = mixed(h ^ w);
  size_t mask = constant_table_.size() - 1;
  for (size_t at = h & mask;; at = (at + 1) & mask) {
    Value v = constant_table_[at];
    if (!v.exists()) return at;
    const ValueRow& row = values_[v];
    if (row.type != type || constants_[row.owner] != words[0]) continue;
    if (words.size() == 1 || std::equal(words.begin(), words.end(), constant_words(v).begin())) return at;
  }
}

void Function::grow_constants(size_t room) {
  if (constant_count_ == 0) return constant_table_.resize(room);
  Rows<Value> old(room);
  old.swap(constant_table_);
  for (Value v : old)
    if (v.exists()) constant_table_[constant_place(type(v), constant_words(v))] = v;
}

Value Function::constant(Type type, Bits bits) {
  bits &= mask_of(type.bits());
  uint64_t one[2] = {static_cast<uint64_t>(bits), static_cast<uint64_t>(bits >> 64)};
  if (!type.has_lanes()) return constant_lanes(type, {one, type.words()});
  std::vector<uint64_t> all;
  for (unsigned k = 0; k < type.lanes(); ++k) all.insert(all.end(), one, one + type.words_per_lane());
  return constant_lanes(type, all);
}

Value Function::constant_lanes(Type type, std::span<const uint64_t> words) {
  assert(words.size() == type.words());
  if (constant_count_)  // most are there
    if (Value v = constant_table_[constant_place(type, words)]; v.exists()) return v;
  if (constant_count_ * 4 >= constant_table_.size() * 3)
    grow_constants(std::max<size_t>(8, constant_table_.size() * 2));
  size_t at = constant_place(type, words);
  uint32_t first = static_cast<uint32_t>(constants_.size());
  constants_.append(words.data(), words.size());
  ++constant_count_;
  return constant_table_[at] = add_value(type, ValueKind::Constant, first, 0);
}

Bits Function::constant_word(Value v, size_t lane) const {
  auto words = constant_words(v);
  if (type(v).words_per_lane() == 1) return words[lane];
  return Bits(words[2 * lane + 1]) << 64 | words[2 * lane];
}

bool Function::is_uniform(Value v) const {
  auto words = constant_words(v);
  size_t step = type(v).words_per_lane();
  return std::equal(words.begin() + static_cast<ptrdiff_t>(step), words.end(), words.begin());
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

void Function::link_use(Slot s) {
  ++changes_;
  if (uint32_t user = slots_[s].user; journal_.get() && !(user & edge_user)) touch(Instruction(user));
  SlotRow& row = slots_[s];
  if (!row.value.exists()) return;  // a draft from a wrong text may leave operands open
  Slot head = values_[row.value].first_use;
  row.next = head;
  row.previous = {};
  if (head.exists()) slots_[head].previous = s;
  values_[row.value].first_use = s;
}

void Function::unlink_use(Slot s) {
  ++changes_;
  SlotRow& row = slots_[s];
  if (!row.value.exists()) return;
  if (journal_.get())
    if (Instruction maker = definition(row.value); maker.exists()) touch(maker);
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

// ---- memory -----------------------------------------------------------------------------------------------

template <class Self, class Other, class Visit>
void Function::each_table(Self& self, Other& other, Visit visit) {
  visit(self.values_.rows(), other.values_.rows(), &Expected::values);
  visit(self.slots_.rows(), other.slots_.rows(), &Expected::slots);
  visit(self.instructions_.rows(), other.instructions_.rows(), &Expected::instructions);
  visit(self.blocks_.rows(), other.blocks_.rows(), &Expected::blocks);
  visit(self.edges_.rows(), other.edges_.rows(), &Expected::edges);
  visit(self.addresses_, other.addresses_, &Expected::addresses);
  visit(self.constants_, other.constants_, &Expected::constants);
  visit(self.constant_table_, other.constant_table_, nullptr);
  visit(self.parameter_pool_, other.parameter_pool_, &Expected::parameters);
  visit(self.value_names_.rows(), other.value_names_.rows(), &Expected::values);
  visit(self.positions_.rows(), other.positions_.rows(), nullptr);
}

// Moves in with the content of a function, and with room for as many rows as are expected.
void Function::move_tables(const Function& content, const Expected& rooms) {
  auto room = [&](const auto& rows, size_t Expected::*count) {
    return std::max(rows.size(), count ? rooms.*count : 0);
  };
  size_t bytes = 0, offset = 0;
  each_table(*this, content, [&]<class T>(Rows<T>&, const Rows<T>& from, size_t Expected::*count) {
    bytes += TableBlock::place_for<T>(room(from, count));
  });
  if (&content == this && bytes == block_of_tables_.bytes()) return;  // nothing to be gained
  TableBlock next(bytes);
  each_table(*this, content, [&]<class T>(Rows<T>& to, const Rows<T>& from, size_t Expected::*count) {
    next.take_in(to, from, room(from, count), offset);
  });
  block_of_tables_ = std::move(next);
}

void Function::compact() {
  move_tables(*this, {});
  comments.shrink_to_fit();
}

Function::Expected Function::counts() const {
  return {.values = values_.rows().size(),
          .slots = slots_.rows().size(),
          .instructions = instructions_.rows().size(),
          .blocks = blocks_.rows().size(),
          .edges = edges_.rows().size(),
          .addresses = addresses_.size(),
          .constants = constants_.size(),
          .parameters = parameter_pool_.size()};
}

void Function::expect(const Expected& counts) {
  move_tables(*this, counts);
  size_t room = 8;
  while (room * 3 < counts.constants * 4 + 4) room *= 2;
  if (counts.constants && room > constant_table_.size()) grow_constants(room);
}

void Function::expect_more(const Expected& more) {
  Expected rooms = counts();
  for (size_t Expected::*count : all_counts) rooms.*count += more.*count;
  expect(rooms);
}

void Function::expect_parameters(Block b, size_t count) {
  BlockRow& row = blocks_[b];
  row.first_parameter = static_cast<uint32_t>(parameter_pool_.size());
  row.parameter_room = static_cast<uint16_t>(count);
  parameter_pool_.resize(parameter_pool_.size() + count);
}

size_t Function::bytes() const {
  auto plain = [](const auto&... lists) { return ((lists.capacity() * sizeof(lists[0])) + ...); };
  size_t sum = sizeof(*this) + block_of_tables_.bytes() + sizeof(Signature) +
               plain(signature_->parameters, signature_->results, comments);
  each_table(*this, *this, [&](const auto& rows, const auto&, auto) { sum += rows.own_bytes(); });
  if (rare_.get())
    sum += sizeof(Rare) + rare_->weights.bytes() +
           plain(rare_->copies, rare_->reserves, rare_->choices, rare_->cases, rare_->shuffles);
  return sum;
}

}  // namespace porphyry
