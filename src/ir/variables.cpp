// No recursion: a read walks up blocks with one edge into them; where several come together, and are not
// known to bring the same, it makes a parameter and puts it on a list. The arguments on those edges are read
// when the walk is over, which may put further parameters there. So the depth of the program's control does
// not matter.
//
// Invariant: outside of these functions each parameter of a sealed block has an argument on each edge.
#include "porphyry/ir/variables.h"

#include <algorithm>
#include <bit>
#include <numeric>

#include "porphyry/ir/order.h"
#include "rings.h"

namespace porphyry {
namespace {

uint64_t key_of(Variables::Variable variable, Block block) {
  return (uint64_t(block.index) << 32 | variable) + 1;
}

}  // namespace

Variables::Variable Variables::add(Type type, std::string_view name) {
  rows_.push_back({type, name.empty() ? Name() : module_.realm().name(name), {}, {}});
  return static_cast<Variable>(rows_.size() - 1);
}

void Variables::start_again(size_t places) {
  rows_.clear(), blocks_.resize(0), skips_.clear(), made_.clear(), to_fill_.clear(), open_.clear();
  all_sealed_ = false;
  make_table(std::bit_ceil(std::max<size_t>(32, places * 2)));
}

void Variables::make_table(size_t size) {
  table_.assign(size, {});
  shift_ = static_cast<unsigned>(64 - std::countr_zero(size));
  entries_ = 0;
}

// Where an entry of the table stands, or may stand. Hashed by multiplication with the golden ratio's
// fraction: D. Knuth, "The Art of Computer Programming", volume 3, section 6.4.
size_t Variables::place_of(uint64_t key) const {
  size_t at = key * 0x9e3779b97f4a7c15u >> shift_;
  while (table_[at].key != key && table_[at].key != 0) at = (at + 1) & (table_.size() - 1);
  return at;
}

Value Variables::known(Variable variable, Block block) const {
  const Row& row = rows_[variable];
  if (row.block == block) return row.value;
  return table_.empty() ? Value() : table_[place_of(key_of(variable, block))].value;
}

void Variables::put_into_table(Variable variable, Block block, Value value) {
  if (entries_ * 2 >= table_.size()) {
    std::vector<Entry> old = std::move(table_);
    make_table(std::max<size_t>(64, old.size() * 2));
    for (const Entry& e : old)
      if (e.key) table_[place_of(e.key)] = e, ++entries_;
  }
  uint64_t key = key_of(variable, block);
  Entry& entry = table_[place_of(key)];
  entries_ += entry.key == 0;
  entry = {key, value};
}

// Most reads and writes follow others of the same block, and need no table.
void Variables::remember(Variable variable, Block block, Value value) {
  Row& row = rows_[variable];
  if (row.block.exists() && row.block != block) put_into_table(variable, row.block, row.value);
  row.block = block, row.value = value;
}

void Variables::write(Variable variable, Block block, Value value) { remember(variable, root(block), value); }

Value Variables::make_parameter(Variable variable, Block block) {
  auto number = static_cast<uint32_t>(made_.size());
  made_.push_back({f_.add_parameter(block, rows_[variable].type), block, variable});
  BlockRow& home = row(block);
  if (home.sealed || (all_sealed_ && home.open == 0)) {
    to_fill_.push_back(number);
  } else {
    if (home.open == 0) open_.push_back(block);
    made_.back().before = home.open - 1;  // none, when there is none
    home.open = number + 1;
  }
  remember(variable, block, made_.back().parameter);
  return made_.back().parameter;
}

Block Variables::only_way_in(Block block) {
  Edge in = f_.first_in(block);
  return in.exists() && !f_.next_in(in).exists() ? root(f_.from(in)) : Block();
}

// The only block from whose end a variable comes to the beginning of this one; nothing when there may be
// several, or none.
Block Variables::above(Variable variable, Block block) {
  const BlockRow& home = row(block);
  if (home.skip) {
    const Skip& s = skips_[home.skip - 1];
    if (!writes_->any(variable, s.first, s.last)) return s.before;
  }
  return home.sealed || !all_sealed_ ? home.above : only_way_in(block);
}

// At the beginning of a sealed block that several edges lead to: what all of them bring alike, if that is
// known so far, a few blocks up each; else a parameter. Half of all parameters would be superfluous without.
Value Variables::where_it_joins(Variable variable, Block join) {
  auto at_end = [&](Block b) {
    Value v;
    for (unsigned steps = 0; steps < 16 && b.exists() && !v.exists(); ++steps) {
      v = known(variable, b);
      if (!v.exists()) b = above(variable, b);
    }
    return v;
  };
  Value same;
  for (Edge e : f_.edges_into(join)) {
    Value v = at_end(root(f_.from(e)));
    if (!v.exists() || (same.exists() && v != same)) return make_parameter(variable, join);
    same = v;
  }
  return same;
}

// Without the arguments of parameters that it makes.
Value Variables::find(Variable variable, Block block) {
  block = root(block);
  Value found = known(variable, block);
  if (found.exists()) return found;
  Block at = block;
  for (size_t steps = 0; !found.exists(); ++steps) {
    // Rings that nothing leads into have no beginning: they end by the number of steps.
    if (Block up = above(variable, at); up.exists() && steps < f_.block_limit())
      found = known(variable, at = up);
    else if (bool sealed = row(at).sealed || all_sealed_;
             !up.exists() && (!sealed || f_.first_in(at).exists()))
      found = sealed ? where_it_joins(variable, at) : make_parameter(variable, at);
    else
      found = f_.constant(rows_[variable].type, 0);  // not written on the way
  }
  remember(variable, block, found);
  return found;
}

Value Variables::read(Variable variable, Block block) {
  Value out = find(variable, block);
  fill_all();
  return out;
}

// In the order in which they were made: that of the parameters of each block.
void Variables::fill_all() {
  if (to_fill_.empty()) return;
  for (size_t k = 0; k < to_fill_.size(); ++k) {
    Made m = made_[to_fill_[k]];
    for (Edge e : f_.edges_into(m.block)) f_.add_argument(e, find(m.variable, f_.from(e)));
  }
  to_fill_.clear();
}

void Variables::seal(Block block) {
  BlockRow& home = row(block);
  if (home.sealed) return;
  home.sealed = true;
  Block above = only_way_in(block);
  row(block).above = above;
  auto first = static_cast<ptrdiff_t>(to_fill_.size());
  for (uint32_t k = row(block).open - 1; k != none; k = made_[k].before) to_fill_.push_back(k);
  std::reverse(to_fill_.begin() + first, to_fill_.end());
  fill_all();
}

// Finds the parameters that stand for one value alone, and erases them.
//
// A ring of parameters into which one value alone comes from outside holds that value throughout. Where
// several come, those that take none of them may still form such rings among themselves, and so on inwards:
// section 3.2 of the paper. Near-linear where rings do not nest.
class Variables::Eraser {
 public:
  using Numbers = Rings::Numbers;  // rows of made_

  Eraser(Variables& v, bool all_reached)
      : v_(v),
        f_(v.f_),
        local_(v.made_.size()),
        gone_(v.made_.size()),
        reached_(f_.block_limit(), std::pmr::get_default_resource(), all_reached) {
    for (uint32_t k = 0; k < v_.made_.size(); ++k) row_.set(v_.made_[k].parameter, k + 1);
    if (all_reached) return;
    for (Block b : reverse_postorder(f_)) reached_[b] = 1;  // what never comes brings nothing
  }

  void run() {
    struct Level {
      std::vector<Numbers> rings;
      size_t next = 0;
    };
    const Numbers doubtful = not_plainly_needed();
    if (doubtful.empty()) return;
    std::vector<Level> levels{{rings_of(doubtful)}};
    while (!levels.empty()) {
      Level& level = levels.back();
      if (level.next == level.rings.size()) {
        levels.pop_back();
        continue;
      }
      Numbers inner = one(level.rings[level.next++]);
      if (!inner.empty()) levels.push_back({rings_of(inner)});
    }
    size_t k = 0;
    std::erase_if(v_.made_, [&](const Made&) { return gone_[k++]; });
  }

 private:
  // A parameter is needed where two different values come in that are no parameters of ours, or are needed
  // themselves. Nearly all others are superfluous. O(arguments).
  Numbers not_plainly_needed() const {
    std::vector<uint8_t> needed(v_.made_.size());
    auto is_needed = [&](uint32_t k) {
      const Made& m = v_.made_[k];
      size_t index = f_.result_index(m.parameter);
      Value first;
      for (Edge e : f_.edges_into(m.block)) {
        if (!reached_[f_.from(e)]) continue;
        Value v = f_.argument(e, index);
        uint32_t row = row_.get(v);
        if (v == first || (row && !needed[row - 1])) continue;
        if (first.exists()) return true;
        first = v;
      }
      return false;
    };
    Numbers to_try(needed.size());
    std::iota(to_try.begin(), to_try.end(), 0u);
    while (!to_try.empty()) {
      uint32_t k = to_try.back();
      to_try.pop_back();
      if (needed[k] || !is_needed(k)) continue;
      needed[k] = 1;
      for (Slot slot : f_.uses(v_.made_[k].parameter)) {  // those that take it may now be needed, too
        Edge e = f_.use(slot).edge;
        if (!e.exists()) continue;
        Value user = f_.parameters(f_.to(e))[slot.index - f_.argument_slot(e, 0).index];
        if (uint32_t row = row_.get(user); row && !needed[row - 1]) to_try.push_back(row - 1);
      }
    }
    Numbers out;
    for (uint32_t k = 0; k < needed.size(); ++k)
      if (!needed[k]) out.push_back(k);
    return out;
  }

  template <class See>
  void each_argument(uint32_t k, See see) const {
    const Made& m = v_.made_[k];
    const size_t index = f_.result_index(m.parameter);
    for (Edge e : f_.edges_into(m.block))
      if (reached_[f_.from(e)]) see(f_.argument(e, index));
  }
  // The place among those that are looked at now, plus one; 0 for others.
  uint32_t local(Value v) const {
    uint32_t row = row_.get(v);
    return row ? local_[row - 1] : 0;
  }
  void look_at(const Numbers& rows) {
    for (uint32_t k : looked_at_) local_[k] = 0;
    looked_at_ = rows;
    for (uint32_t k = 0; k < rows.size(); ++k) local_[rows[k]] = k + 1;
  }

  std::vector<Numbers> rings_of(const Numbers& rows) {
    look_at(rows);
    Rings found(rows.size(), [&](uint32_t k, Numbers& out) {
      each_argument(rows[k], [&](Value v) {
        if (uint32_t l = local(v)) out.push_back(l - 1);
      });
    });
    for (Numbers& ring : found.rings)
      for (uint32_t& k : ring) k = rows[k];
    return std::move(found.rings);
  }

  // Erases a ring into which one value comes; of another, gives those into which none comes.
  Numbers one(const Numbers& ring) {
    look_at(ring);
    Value outside;
    bool several = false;
    Numbers inner;
    for (uint32_t k : ring) {
      bool takes_outside = false;
      each_argument(k, [&](Value v) {
        if (local(v)) return;
        takes_outside = true;
        several |= outside.exists() && outside != v;
        outside = v;
      });
      if (!takes_outside) inner.push_back(k);
    }
    if (several) return inner;
    for (uint32_t k : ring) erase(k, outside);
    return {};
  }

  void erase(uint32_t k, Value same) {
    const Made& m = v_.made_[k];
    // Nothing comes in at all where control never comes.
    f_.replace_uses(m.parameter, same.exists() ? same : f_.constant(v_.rows_[m.variable].type, 0));
    f_.erase_parameter(m.block, f_.result_index(m.parameter));
    gone_[k] = 1;
  }

  Variables& v_;
  Function& f_;
  SideTable<Value, uint32_t> row_;  // of made_, plus one
  Numbers local_, looked_at_;
  std::vector<uint8_t> gone_;
  FixedTable<Block, uint8_t> reached_;
};

// night, night_2, night_3, …
void Variables::name_parameters() {
  if (std::ranges::none_of(rows_, [](const Row& row) { return row.name.exists(); })) return;
  SideTable<Name, uint32_t> times;
  for (size_t k = 0; k < f_.value_limit(); ++k)
    if (Name n = f_.name(Value(k)); n.exists()) times.set(n, 1);
  for (const Made& m : made_) {
    Name base = rows_[m.variable].name, name = base;
    if (!base.exists()) continue;
    for (uint32_t n = times.get(base); times.get(name); ++n) {
      name = module_.realm().name(std::string(module_.text(base)) + "_" + std::to_string(n + 1));
      times.set(base, n + 1);
    }
    times.set(name, 1);
    f_.set_name(m.parameter, name);
  }
}

void Variables::finish(bool all_reached) {
  all_sealed_ = true;
  for (Block b : open_) seal(b);
  if (!made_.empty()) Eraser(*this, all_reached).run();
  name_parameters();
}

}  // namespace porphyry
