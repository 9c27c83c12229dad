#include "reaching.h"

namespace porphyry {

Reaching::Reaching(Function& f, const Dominators& dominators)
    : f_(f), dominators_(dominators), frontiers_(dominators.frontiers(f)), rows_(f.block_limit()) {}

Reaching::Row& Reaching::row(Block b) {
  Row& r = rows_[b];
  if (!std::exchange(r.known, true)) touched_.push_back(b);
  return r;
}

void Reaching::start(Type type, Value otherwise) {
  type_ = type, otherwise_ = otherwise;
  for (Block b : touched_) rows_[b] = {};
  touched_.clear(), givers_.clear(), live_.clear(), placed_.clear();
}

void Reaching::give(Block b, Value v) {
  Row& r = row(b);
  if (!std::exchange(r.gives, true)) givers_.push_back(b);
  r.at_end = v;
}

void Reaching::read(Block b) {
  if (!std::exchange(row(b).live, true)) live_.push_back(b);
}

const std::vector<Block>& Reaching::place() {
  for (size_t k = 0; k < live_.size(); ++k)
    for (Edge e : f_.edges_into(live_[k]))
      if (!rows_[f_.from(e)].gives) read(f_.from(e));
  std::vector<Block> work = givers_;
  while (!work.empty()) {
    Block b = work.back();
    work.pop_back();
    for (Block join : frontiers_[b.index]) {
      Row& r = row(join);
      if (r.parameter.exists() || !r.live) continue;
      r.parameter = f_.add_parameter(join, type_);
      placed_.push_back(join);
      work.push_back(join);
    }
  }
  return placed_;
}

Value Reaching::at_end(Block b) {
  std::vector<Block> way;
  Value v;
  for (Block at = b; !v.exists(); at = dominators_.immediate(at)) {
    if (!at.exists())
      v = otherwise_;
    else if (rows_[at].at_end.exists())
      v = rows_[at].at_end;
    else if (rows_[at].parameter.exists())
      v = rows_[at].parameter;
    if (at.exists()) way.push_back(at);
  }
  for (Block at : way) row(at).at_end = v;
  return v;
}

Value Reaching::at_start(Block b) {
  if (rows_[b].parameter.exists()) return rows_[b].parameter;
  Block above = dominators_.immediate(b);
  return above.exists() ? at_end(above) : otherwise_;
}

}  // namespace porphyry
