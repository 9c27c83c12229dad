#include "splitter.h"

#include "porphyry/ir/order.h"

namespace porphyry::machine {

void Splitter::run() {
  bool any = false;
  for (size_t k = 0; k < f_.value_limit() && !any; ++k) any = concerns(f_.type(Value(k)));
  if (!any) return;
  for (size_t k = 0; k < f_.value_limit(); ++k)
    if (Name n = f_.name(Value(k)); n.exists()) taken_.set(n, 1);
  Instruction start = f_.first(f_.entry());
  for (Value v : f_.parameters())
    if (goes(v)) {
      pen_.before(f_.first(f_.entry())).from({});
      function_parameter(v);
    }
  Blocks order = reverse_postorder(f_);
  std::vector<Block> changed;
  for (Block b : order) {
    bool any = false;
    for (Value v : f_.parameters(b)) any |= goes(v);
    if (any) changed.push_back(b), parameters(b);
  }
  std::vector<Instruction> gone;
  for (Block b : order)
    for (Instruction i = b == f_.entry() ? start : f_.first(b), next; i.exists(); i = next) {
      next = f_.next(i);
      if (!touched(i)) continue;
      pen_.before(i).from(f_.position(i));
      instruction(i);
      gone.push_back(i);
    }
  for (Block b : changed) pass(b);
  for (size_t k = gone.size(); k-- > 0;) f_.erase(gone[k]);
  for (Block b : changed)
    for (size_t k = f_.parameters(b).size(); k-- > 0;)
      if (goes(f_.parameters(b)[k])) f_.erase_parameter(b, k);
}

bool Splitter::touched(Instruction i) const {
  for (Value v : f_.operands(i))
    if (goes(v)) return true;
  for (Value v : f_.results(i))
    if (goes(v)) return true;
  return false;
}

void Splitter::parameters(Block b) {
  std::vector<Value> old(f_.parameters(b).begin(), f_.parameters(b).end());
  for (Value v : old) {
    if (!goes(v)) continue;
    Parts made;
    for (Type t : parts_of(f_.type(v))) made.push_back(f_.add_parameter(b, t));
    became(v, made);
  }
}

// The edges into a block carry the parts behind the other arguments; what went is cut loose.
void Splitter::pass(Block b) {
  std::vector<Value> old(f_.parameters(b).begin(), f_.parameters(b).end());
  for (Edge e : f_.edges_into(b)) {
    size_t count = f_.argument_count(e);
    for (size_t k = 0; k < count; ++k) {
      if (!goes(old[k])) continue;
      for (Value v : parts(f_.argument(e, k))) f_.add_argument(e, v);
      f_.set(f_.argument_slot(e, k), f_.constant(f_.type(old[k]), 0));
    }
  }
}

Parts Splitter::parts(Value v) {
  if (!goes(v)) return {v};
  if (f_.is_constant(v)) return parts_of_constant(v);
  Run run = runs_.get(v);
  if (run.count == 0) {  // defined where no run comes
    Parts zeros;
    for (Type t : parts_of(f_.type(v))) zeros.push_back(f_.constant(t, 0));
    return zeros;
  }
  return {pool_.begin() + run.first, pool_.begin() + run.first + run.count};
}

// x_0, x_1, … unless they are taken.
Name Splitter::fresh(Name base, size_t k) {
  std::string text = std::string(pen_.module().text(base)) + "_";
  for (;; text += "_") {
    Name n = pen_.module().realm().name(text + std::to_string(k));
    if (taken_.get(n)) continue;
    taken_.set(n, 1);
    return n;
  }
}

void Splitter::became(Value v, const Parts& made) {
  runs_.set(v, {static_cast<uint32_t>(pool_.size()), static_cast<uint32_t>(made.size())});
  pool_.insert(pool_.end(), made.begin(), made.end());
  name_parts(v, made);
}

void Splitter::name_parts(Value v, const Parts& made) {
  Name name = f_.name(v);
  if (!name.exists()) return;
  f_.set_name(v, {});
  for (size_t k = 0; k < made.size(); ++k)
    if (!f_.is_constant(made[k]) && !f_.name(made[k]).exists())
      f_.set_name(made[k], made.size() == 1 ? name : fresh(name, k));
}

}  // namespace porphyry::machine
