// promote: stack slots that are only loaded and stored become values.
//
// One slot at a time: block parameters at the iterated dominance frontier of its writes, only where the slot
// is still read (R. Cytron et al., "Efficiently Computing Static Single Assignment Form", 1991; pruned), then
// each load takes the value that reaches it. Near-linear in a slot's accesses and the blocks between them.
#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

class Promoter {
 public:
  explicit Promoter(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Instruction> slots;
    for (Block b : c_.facts.get<Dominators>().order())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Reserve) slots.push_back(i);
    if (slots.empty()) return;
    frontiers_ = c_.facts.get<Dominators>().frontiers(f_);
    for (Instruction slot : slots) one(slot);
  }

 private:
  struct Access {
    Instruction at;
    bool is_store;
  };

  // Why a slot cannot become a value; empty when it can. Fills accesses_ and type_.
  struct Refusal {
    std::string why, unlock;
  };
  std::optional<Refusal> look(Instruction slot) {
    accesses_.clear();
    type_ = {};
    Value p = f_.result(slot);
    for (Slot s : f_.uses(p)) {
      auto use = f_.use(s);
      Op op = f_.op(use.user);
      if (use.edge.exists())
        return Refusal{"its address goes to another block as an argument", "using the slot's own name there"};
      bool loads = op == Op::Load, stores = op == Op::Store && f_.operand(use.user, 0) != p;
      if (!loads && !stores)
        return Refusal{fmt::format("its address is used by '{}'", info(op).name),
                       "only loads and stores of the slot itself"};
      const Address& a = f_.address(use.user);
      if (a.indexed || a.offset != 0) return Refusal{"a part of it is accessed", "one slot for each part"};
      if (a.masked) return Refusal{"an access to it is masked", "accesses to all lanes"};
      if (a.is_volatile) return Refusal{"an access to it is volatile", "plain accesses"};
      Type t = loads ? f_.type(f_.result(use.user)) : f_.type(f_.operand(use.user, 0));
      if (type_.exists() && t != type_)
        return Refusal{fmt::format("it is accessed as {} and as {}", type_.name(), t.name()),
                       "one type for all accesses"};
      type_ = t;
      accesses_.push_back({use.user, stores});
    }
    if (type_.exists() && f_.reserve_shape(slot).bytes < type_.bytes())
      return Refusal{fmt::format("an access of {} bytes reaches past its {}", type_.bytes(),
                                 f_.reserve_shape(slot).bytes),
                     "a slot that holds the value"};
    return std::nullopt;
  }

  void one(Instruction slot) {
    Position position = f_.position(slot);
    std::string name = c_.wants_notes() ? c_.name(f_.result(slot)) : "";
    if (auto refusal = look(slot)) {
      c_.declined(position, name, "the slot stays in memory", refusal->why, refusal->unlock,
                  {{"bytes", std::to_string(f_.reserve_shape(slot).bytes)}});
      return;
    }
    size_t loads = 0, stores = 0;
    for (const Access& a : accesses_) ++(a.is_store ? stores : loads);
    if (type_.exists()) rename(slot), name_single_value();
    for (const Access& a : accesses_) f_.erase(a.at);
    f_.erase(slot);
    c_.done(position, name, "the slot became a value", "it is only loaded and stored, as one type",
            {{"type", type_.exists() ? type_.name() : "never accessed"},
             {"loads", std::to_string(loads)},
             {"stores", std::to_string(stores)},
             {"block parameters", std::to_string(placed_count_)}});
  }

  // ---- one slot's values ----------------------------------------------------------------------------------

  void rename(Instruction slot) {
    slot_ = slot;
    at_end_ = Table<Block, Value>(f_.block_limit());
    parameter_ = Table<Block, Value>(f_.block_limit());
    placed_count_ = 0;
    // The accesses of each block in order; the slot's own instruction counts as a store of what is in fresh
    // bytes: anything, so zero.
    fresh_ = f_.constant(type_, 0);
    std::vector<Block> writers{f_.block(slot)};
    Table<Block, std::vector<Access>> in_block(f_.block_limit());
    for (const Access& a : accesses_) {
      in_block[f_.block(a.at)].push_back(a);
      if (a.is_store) writers.push_back(f_.block(a.at));
    }
    for (auto& list : in_block)
      std::sort(list.begin(), list.end(),
                [&](const Access& a, const Access& b) { return f_.comes_before(a.at, b.at); });
    Table<Block, bool_> writes(f_.block_limit());
    for (Block b : writers) writes[b] = 1;
    place_parameters(writers, live_blocks(in_block, writes));

    // Values at the ends of writing blocks first, then every load takes what reaches it.
    for (Block b : writers) at_end_[b] = b == f_.block(slot) ? fresh_ : at_end_[b];
    for (const Access& a : accesses_)
      if (a.is_store) at_end_[f_.block(a.at)] = {};
    for (Block b : writers) at_end_[b] = last_value(b, in_block[b]);
    for (size_t k = 0; k < f_.block_limit(); ++k) loads_of(Block(k), in_block[Block(k)]);
    for (Block b : placed_)
      for (Edge e : f_.edges_into(b))
        f_.add_argument(e,
                        c_.facts.get<Dominators>().reachable(f_.from(e)) ? value_at_end(f_.from(e)) : fresh_);
  }

  using bool_ = uint8_t;

  Value last_value(Block b, const std::vector<Access>& list) const {
    for (size_t k = list.size(); k-- > 0;) {
      if (b == f_.block(slot_) && f_.comes_before(list[k].at, slot_)) break;
      if (list[k].is_store) return f_.operand(list[k].at, 0);
    }
    if (b == f_.block(slot_)) return fresh_;
    return {};
  }

  // Blocks at whose start the slot's value is still read.
  Table<Block, bool_> live_blocks(const Table<Block, std::vector<Access>>& in_block,
                                  const Table<Block, bool_>& writes) const {
    Table<Block, bool_> live(f_.block_limit());
    std::vector<Block> work;
    auto mark = [&](Block b) {
      if (!live[b]) live[b] = 1, work.push_back(b);
    };
    for (const Access& a : accesses_) {
      Block b = f_.block(a.at);
      bool first = !a.is_store && in_block[b].front().at == a.at;
      bool behind_slot = b == f_.block(slot_) && f_.comes_before(slot_, a.at);
      if (first && !behind_slot) mark(b);
    }
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      for (Edge e : f_.edges_into(b))
        if (!writes[f_.from(e)]) mark(f_.from(e));
    }
    return live;
  }

  void place_parameters(std::vector<Block> work, const Table<Block, bool_>& live) {
    placed_.clear();
    Name name = f_.name(f_.result(slot_));
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      for (Block join : frontiers_[b.index]) {
        if (parameter_[join].exists() || !live[join]) continue;
        parameter_[join] = f_.add_parameter(join, type_);
        if (placed_.empty() && name.exists()) f_.set_name(f_.result(slot_), {});
        if (name.exists()) f_.set_name(parameter_[join], placed_.empty() ? name : further_name(name));
        placed_.push_back(join);
        work.push_back(join);
      }
    }
    placed_count_ = placed_.size();
  }

  // What is stored by the only store, and has no name of its own, is the slot's value from there on.
  void name_single_value() {
    Name name = f_.name(f_.result(slot_));
    Value only;
    size_t stores = 0;
    for (const Access& a : accesses_)
      if (a.is_store) only = f_.operand(a.at, 0), ++stores;
    if (stores != 1 || !name.exists() || !placed_.empty()) return;
    if (f_.kind(only) != ValueKind::Result || f_.name(only).exists()) return;
    f_.set_name(f_.result(slot_), {});
    f_.set_name(only, name);
  }

  Name further_name(Name name) {
    if (!names_) names_.emplace(c_.module.realm(), f_);
    return names_->next(name);
  }

  // The value at the end of a block: its last write, else what its start has; remembered on the way.
  Value value_at_end(Block b) {
    std::vector<Block> way;
    Value v;
    for (Block at = b; !v.exists(); at = c_.facts.get<Dominators>().immediate(at)) {
      if (!at.exists())
        v = fresh_;  // a way on which the slot was never made: no run takes it
      else if (at_end_[at].exists())
        v = at_end_[at];
      else if (parameter_[at].exists())
        v = parameter_[at];
      if (at.exists()) way.push_back(at);
    }
    for (Block at : way) at_end_[at] = v;
    return resolved(v);
  }
  // A stored value may itself be a load that was replaced meanwhile.
  Value resolved(Value v) const {
    while (replaced_.get(v).exists()) v = replaced_.get(v);
    return v;
  }
  Value value_at_start(Block b) {
    if (parameter_[b].exists()) return parameter_[b];
    Block above = c_.facts.get<Dominators>().immediate(b);
    return above.exists() ? value_at_end(above) : fresh_;
  }

  void loads_of(Block b, const std::vector<Access>& list) {
    if (list.empty()) return;
    Value now;
    bool past_slot = b != f_.block(slot_);
    for (const Access& a : list) {
      if (!past_slot && f_.comes_before(slot_, a.at)) now = fresh_, past_slot = true;
      if (a.is_store) {
        now = f_.operand(a.at, 0);
        continue;
      }
      if (!now.exists()) now = c_.facts.get<Dominators>().reachable(b) ? value_at_start(b) : fresh_;
      Value old = f_.result(a.at);
      f_.replace_uses(old, now);
      replaced_.set(old, now);
    }
  }

  FunctionContext& c_;
  Function& f_;
  std::vector<std::vector<Block>> frontiers_;
  std::vector<Access> accesses_;
  std::optional<FurtherNames> names_;  // once one is asked for
  std::vector<Block> placed_;
  size_t placed_count_ = 0;
  Type type_;
  Instruction slot_;
  Value fresh_;
  Table<Block, Value> at_end_, parameter_;
  SideTable<Value, Value> replaced_;  // loads that are gone
};

}  // namespace

void promote(FunctionContext& c) { Promoter(c).run(); }

}  // namespace porphyry
