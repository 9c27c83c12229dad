// beside: comparisons that decide a branch or a pick stand right before it, one copy for each, and addresses
// in the block of the access that uses them, so that one rule can cover both. O(instructions).
#include "state.h"

namespace porphyry::machine {

namespace {

bool is_compare(Op op) { return info(op).result == ResultRule::Truth; }

// Brings comparisons and addresses beside their users.
class Gatherer {
 public:
  Gatherer(Module& module, Function& f) : module_(module), f_(f) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b)) user(i);
  }

 private:
  void user(Instruction i) {
    Op op = f_.op(i);
    bool decides = op == Op::When || op == Op::Pick, accesses = op == Op::Load || op == Op::Store;
    if (!decides && !accesses) return;
    size_t which = op == Op::Store ? 1 : 0;
    Instruction d = f_.definition(f_.operand(i, which));
    if (!d.exists() || !(decides ? is_compare(f_.op(d)) : f_.op(d) == Op::At)) return;
    bool beside =
        f_.block(d) == f_.block(i) && (accesses || (f_.next(d) == i && f_.has_one_use(f_.result(d))));
    if (!beside) copy_before(i, f_.operand_slot(i, which), d);
  }

  void copy_before(Instruction user, Slot slot, Instruction original) {
    std::vector<Value> operands;
    for (Value v : f_.operands(original)) operands.push_back(v);
    Value old = f_.result(original);
    Type type = f_.type(old);
    uint32_t detail = f_.op(original) == Op::At ? f_.add_address(f_.address(original)) : 0;
    Instruction made = f_.insert_before(user, {.op = f_.op(original),
                                               .operands = operands,
                                               .results = {&type, 1},
                                               .detail = detail,
                                               .position = f_.position(original)});
    f_.set(slot, f_.result(made));
    Name name = f_.name(old);
    if (f_.has_uses(old)) {
      if (name.exists()) f_.set_name(f_.result(made), another(name));
      return;
    }
    if (name.exists()) f_.set_name(f_.result(made), name), f_.set_name(old, {});
    f_.erase(original);
  }

  // colder_2, colder_3, …
  Name another(Name name) {
    if (!gathered_)
      for (size_t k = 0; k < f_.value_limit(); ++k)
        if (Name n = f_.name(Value(k)); n.exists()) taken_.set(n, true);
    gathered_ = true;
    std::string base(module_.text(name));
    for (int k = 2;; ++k) {
      Name n = module_.realm().name(base + "_" + std::to_string(k));
      if (taken_.get(n)) continue;
      taken_.set(n, true);
      return n;
    }
  }

  Module& module_;
  Function& f_;
  SideTable<Name, char> taken_;
  bool gathered_ = false;
};

}  // namespace

namespace legal {
void beside(FunctionContext& c) { Gatherer(c.module, c.function).run(); }
}  // namespace legal

}  // namespace porphyry::machine
