#include "duplicates.h"

#include <algorithm>

#include "../reaching.h"
#include "front.h"

namespace porphyry {

void Duplicates::copy(std::span<const Block> blocks, Block place) {
  copier_.forget();
  uint32_t group = group_.get(blocks[0]);
  if (!group) group = ++groups_;
  for (Block b : blocks) {
    group_.set(b, group);
    copier_.stand_in(b, place = f_.add_block_after(place));
    copier_.copy_parameters(b, place);
  }
  for (Block b : blocks)
    for (Instruction i : f_.instructions(b)) copier_.copy(i, block(b));
  for (Block b : blocks) {
    auto twice = [&](Value v) { known_.push_back({v, value(v), b, block(b)}); };
    for (Value v : f_.parameters(b)) twice(v);
    for (Instruction i : f_.instructions(b))
      for (Value v : f_.results(i)) twice(v);
  }
}

Edge Duplicates::edge(Edge original) const {
  Block from = f_.from(original);
  size_t k = original.index - f_.edges(from)[0].index;
  return f_.edges(block(from))[k];
}

Duplicates::Row Duplicates::copy_rounds(const LoopShape& loop, Edge decides, uint64_t count) {
  Row out;
  Block place = f_.previous(loop.head);
  for (uint64_t k = 0; k < count; ++k) {
    copy(loop.blocks, place);
    place = block(loop.blocks.back());
    if (k == 0)
      out.head = block(loop.head);
    else
      lead_to(f_, out.back, block(loop.head));
    out.back = edge(loop.back);
    out.stays.push_back(edge(decides));
  }
  return out;
}

void Duplicates::rejoin() {
  if (known_.empty()) return;
  std::stable_sort(known_.begin(), known_.end(),
                   [](const Duplicated& a, const Duplicated& b) { return a.value.index < b.value.index; });
  Dominators dominators(f_);
  Reaching reaching(f_, dominators);
  for (size_t first = 0; first < known_.size();) {
    size_t end = first;
    while (end < known_.size() && known_[end].value == known_[first].value) ++end;
    rejoin({known_.data() + first, end - first}, reaching);
    first = end;
  }
}

void Duplicates::rejoin(std::span<const Duplicated> copies, Reaching& reaching) {
  Value v = copies[0].value;
  std::vector<Slot> uses;
  for (Slot s : f_.uses(v))
    if (group_.get(f_.block(f_.use(s).user)) != group_.get(copies[0].block)) uses.push_back(s);
  if (uses.empty()) return;
  reaching.start(f_.type(v), f_.constant(f_.type(v), 0));
  reaching.give(copies[0].block, v);
  for (const Duplicated& d : copies) reaching.give(d.copied, d.copy);
  for (Slot s : uses) reaching.read(f_.block(f_.use(s).user));
  // A head's parameter has most to say where the ways meet; the name goes there.
  Name name = f_.kind(v) == ValueKind::BlockParameter ? f_.name(v) : Name();
  const auto& placed = reaching.place();
  if (name.exists() && !placed.empty()) f_.set_name(v, {}), f_.set_name(reaching.parameter(placed[0]), name);
  for (Slot s : uses) f_.set(s, reaching.at_start(f_.block(f_.use(s).user)));
  reaching.finish();
}

bool LoopCopies::take(FunctionContext& c, const LoopShape& loop, Instruction branch, const char* what_stays) {
  constexpr size_t most_of_loop = 64, most_of_function = 256;
  const auto [size, reserves, calls] = body_of(c.function, loop);
  if (!reserves && size <= most_of_loop && instructions_ + size <= most_of_function)
    return instructions_ += size, true;
  if (c.wants_notes())
    c.declined(c.function.position(branch), c.name(c.function.operand(branch, 0)), what_stays,
               reserves ? "the loop reserves memory" : "the loop would be copied, and is too large",
               reserves ? "memory reserved in front of it" : "a smaller loop",
               {{"instructions", std::to_string(size)}, {"most", std::to_string(most_of_loop)}});
  return false;
}

}  // namespace porphyry
