#include "scan.h"

#include <algorithm>

#include "lanes.h"
#include "opcodes.h"

namespace porphyry::wasm {
void Writes::scan(In in, uint32_t locals) {
  locals_ = locals;
  written_.clear(), blocks_.clear(), open_.clear();
  auto here = [&] { return static_cast<uint32_t>(written_.size()); };
  while (in.good() && !in.at_end()) {
    uint8_t code = in.byte();
    if (code == 0xfd) {
      pass_over_lanes(in, in.u32());
      continue;
    }
    const Opcode& is = code == 0xfc ? prefixed_opcode(in.u32()) : opcode(code);
    switch (is.way) {
      case Way::None: in.fail("not known"); break;
      case Way::Block:
      case Way::Loop:
      case Way::If:
        in.pass_number();
        open_.push_back(static_cast<uint32_t>(blocks_.size()));
        blocks_.push_back({here()});
        break;
      case Way::End:
        if (!open_.empty()) blocks_[open_.back()].last = here(), open_.pop_back();
        break;
      case Way::BranchByTable:
        for (uint32_t n = in.count("ways") + 1; n > 0 && in.good(); --n) in.pass_number();
        break;
      case Way::LocalSet:
      case Way::LocalTee: written_.push_back(std::min(in.u32(), locals)); break;
      case Way::Call:
      case Way::CallIndirect:
      case Way::MemoryGrow: written_.push_back(locals); [[fallthrough]];
      default:
        for (unsigned n = is.numbers; n > 0; --n) in.pass_number();
        if (is.bytes) in.bytes(is.bytes);
    }
  }
  // Sorted by variable, stably: a counting sort.
  starts_.assign(locals + 2, 0);
  for (uint32_t v : written_) ++starts_[v + 1];
  for (size_t v = 1; v < starts_.size(); ++v) starts_[v] += starts_[v - 1];
  places_.resize(written_.size());
  std::vector<uint32_t>& next = open_;
  next.assign(starts_.begin(), starts_.end() - 1);
  for (uint32_t place = 0; place < written_.size(); ++place) places_[next[written_[place]]++] = place;
}

bool Writes::any(Variables::Variable variable, uint32_t first, uint32_t last) const {
  variable = std::min(variable, locals_);
  const uint32_t *from = places_.data() + starts_[variable], *to = places_.data() + starts_[variable + 1];
  if (from == to || *from >= last || to[-1] < first) return false;
  if (*from >= first || to[-1] < last) return true;
  return *std::lower_bound(from, to, first) < last;
}

}  // namespace porphyry::wasm
