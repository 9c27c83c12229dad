// promote: stack slots that are only loaded and stored become values.
//
// One slot at a time: block parameters where its writes meet (see Reaching), then each load takes the value
// that reaches it. Near-linear in a slot's accesses and the blocks between them.
#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <unordered_map>

#include "../reaching.h"
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
    reaching_.emplace(f_, c_.facts.get<Dominators>());
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
    placed_count_ = 0;
    Position position = f_.position(slot);
    std::string name = c_.wants_notes() ? c_.name(f_.result(slot)) : "";
    if (auto refusal = look(slot)) {
      c_.declined(position, name, "the slot stays in memory", refusal->why, refusal->unlock,
                  {{"bytes", std::to_string(f_.reserve_shape(slot).bytes)}});
      return;
    }
    size_t loads = 0, stores = 0;
    for (const Access& a : accesses_) ++(a.is_store ? stores : loads);
    if (type_.exists()) rename(slot), name_single_value(slot);
    for (const Access& a : accesses_) f_.erase(a.at);
    f_.erase(slot);
    c_.done(position, name, "the slot became a value", "it is only loaded and stored, as one type",
            {{"type", type_.exists() ? type_.name() : "never accessed"},
             {"loads", std::to_string(loads)},
             {"stores", std::to_string(stores)},
             {"block parameters", std::to_string(placed_count_)}});
  }

  // ---- one slot's values ----------------------------------------------------------------------------------

  using List = std::vector<Access>;  // of a block, in order

  void rename(Instruction slot) {
    // The slot's own instruction counts as a store of what is in fresh bytes: anything, so zero.
    fresh_ = f_.constant(type_, 0);
    std::unordered_map<uint32_t, List> in_block;
    for (const Access& a : accesses_) in_block[f_.block(a.at).index].push_back(a);
    std::vector<Block> blocks;
    for (const Access& a : accesses_)
      if (in_block[f_.block(a.at).index].front().at == a.at) blocks.push_back(f_.block(a.at));
    reaching_->start(type_, fresh_);
    reaching_->give(f_.block(slot), fresh_);
    for (Block b : blocks) {
      List& list = in_block[b.index];
      std::sort(list.begin(), list.end(),
                [&](const Access& x, const Access& y) { return f_.comes_before(x.at, y.at); });
      for (const Access& a : list)
        if (a.is_store) reaching_->give(b, f_.operand(a.at, 0));
      if (!list.front().is_store && b != f_.block(slot)) reaching_->read(b);
    }
    name_parameters(reaching_->place(), slot);
    for (Block b : blocks) loads_of(b, in_block[b.index], b == f_.block(slot));
    reaching_->finish([&](Value v) { return resolved(v); });
  }

  void name_parameters(const std::vector<Block>& placed, Instruction slot) {
    Name name = f_.name(f_.result(slot));
    placed_count_ = placed.size();
    if (!name.exists() || placed.empty()) return;
    f_.set_name(f_.result(slot), {});
    for (Block b : placed)
      f_.set_name(reaching_->parameter(b), b == placed.front() ? name : further_name(name));
  }

  // What is stored by the only store, and has no name of its own, is the slot's value from there on.
  void name_single_value(Instruction slot) {
    Name name = f_.name(f_.result(slot));
    Value only;
    size_t stores = 0;
    for (const Access& a : accesses_)
      if (a.is_store) only = f_.operand(a.at, 0), ++stores;
    if (stores != 1 || !name.exists() || placed_count_) return;
    if (f_.kind(only) != ValueKind::Result || f_.name(only).exists()) return;
    f_.set_name(f_.result(slot), {});
    f_.set_name(only, name);
  }

  Name further_name(Name name) {
    if (!names_) names_.emplace(c_.module.realm(), f_);
    return names_->next(name);
  }

  // A stored value may itself be a load that was replaced meanwhile.
  Value resolved(Value v) const {
    while (replaced_.get(v).exists()) v = replaced_.get(v);
    return v;
  }

  void loads_of(Block b, const List& list, bool behind_slot) {
    Value now = behind_slot ? fresh_ : Value();
    for (const Access& a : list) {
      if (a.is_store) {
        now = f_.operand(a.at, 0);
        continue;
      }
      if (!now.exists())
        now = c_.facts.get<Dominators>().reachable(b) ? resolved(reaching_->at_start(b)) : fresh_;
      Value old = f_.result(a.at);
      f_.replace_uses(old, now);
      replaced_.set(old, now);
    }
  }

  FunctionContext& c_;
  Function& f_;
  std::optional<Reaching> reaching_;
  std::vector<Access> accesses_;
  std::optional<FurtherNames> names_;  // once one is asked for
  size_t placed_count_ = 0;
  Type type_;
  Value fresh_;
  SideTable<Value, Value> replaced_;  // loads that are gone
};

}  // namespace

void promote(FunctionContext& c) { Promoter(c).run(); }

}  // namespace porphyry
