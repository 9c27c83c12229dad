#include "wanted.h"

#include <algorithm>
#include <array>

namespace porphyry::machine {
namespace {

constexpr size_t most_uses = 16, most_instructions = 64, most_blocks = 32;

bool is_used_by(const Function& f, Value v, Instruction i) {
  for (Value x : f.operands(i))
    if (x == v) return true;
  if (!info(f.op(i)).ends_block()) return false;
  for (Edge e : f.edges(i))
    for (size_t k = 0; k < f.argument_count(e); ++k)
      if (f.argument(e, k) == v) return true;
  return false;
}

// A few blocks, each once.
class BlockList {
 public:
  bool is_full() const { return count_ == blocks_.size(); }
  bool has(Block b) const { return std::find(begin(), end(), b) != end(); }
  void add(Block b) {
    if (!has(b)) blocks_[count_++] = b;
  }
  size_t size() const { return count_; }
  Block operator[](size_t k) const { return blocks_[k]; }

 private:
  const Block* begin() const { return blocks_.data(); }
  const Block* end() const { return blocks_.data() + count_; }
  std::array<Block, most_blocks> blocks_;
  size_t count_ = 0;
};

}  // namespace

bool wanted_behind(const Function& f, Value v, Instruction i) {
  if (f.is_constant(v)) return true;
  const Block maker = f.defining_block(v);
  if (f.has_one_use(v) && maker == f.block(i)) return false;
  BlockList users;
  size_t uses = 0, here = 0;
  for (Slot s : f.uses(v)) {
    if (++uses > most_uses) return true;
    const Instruction user = f.use(s).user;
    users.add(f.block(user));
    here += user == i && !f.use(s).edge.exists();
  }
  if (here > 1) return true;
  size_t steps = 0;
  Instruction last = i;
  for (Instruction j = f.next(i); j.exists(); last = j, j = f.next(j))
    if (++steps > most_instructions || is_used_by(f, v, j)) return true;
  if (last == i && is_used_by(f, v, i) && info(f.op(i)).ends_block()) return true;
  // Where the value's own block begins, it is another one.
  BlockList seen;
  auto go_on = [&](Block from) {
    for (Edge e : f.edges(f.terminator(from)))
      if (Block to = f.to(e); to != maker && !seen.has(to)) {
        if (seen.is_full() || users.has(to)) return false;
        seen.add(to);
      }
    return true;
  };
  if (!go_on(f.block(i))) return true;
  for (size_t k = 0; k < seen.size(); ++k)
    if (!go_on(seen[k])) return true;
  return false;
}

// Whether a result goes back into the block parameter: they best share a register.
static bool comes_back(const Function& f, Value result, Value parameter) {
  if (f.is_constant(parameter) || f.kind(parameter) != ValueKind::BlockParameter) return false;
  const Block to = f.defining_block(parameter);
  size_t looked = 0;
  for (Slot s : f.uses(result)) {
    if (++looked > most_uses) return false;
    const Edge e = f.use(s).edge;
    if (!e.exists() || f.to(e) != to) continue;
    for (size_t k = 0; k < f.argument_count(e); ++k)
      if (f.argument(e, k) == result && f.parameters(to)[k] == parameter) return true;
  }
  return false;
}

Loss loss_of(const Function& f, Value overwritten, Instruction by) {
  if (wanted_behind(f, overwritten, by)) return Loss::CopyInFront;
  if (f.kind(overwritten) != ValueKind::BlockParameter) return Loss::Passing;
  return f.result_count(by) && comes_back(f, f.result(by), overwritten) ? Loss::None : Loss::CopyBehind;
}

}  // namespace porphyry::machine
