#include "scan.h"

#include <algorithm>

#include "lanes.h"
#include "opcodes.h"

namespace porphyry::wasm {
namespace {

// What follows an instruction's code, of those that are no blocks, branches by table or writes.
void pass_over(In& in, Way way, ValueType type) {
  switch (way) {
    case Way::Branch:
    case Way::BranchIf:
    case Way::Call:
    case Way::LocalGet:
    case Way::GlobalGet:
    case Way::GlobalSet:
    case Way::TableGet:
    case Way::TableSet:
    case Way::RefFunc:
    case Way::DataDrop:
    case Way::ElemDrop:
    case Way::TableGrow:
    case Way::TableSize:
    case Way::TableFill: in.u32(); return;
    case Way::CallIndirect:
    case Way::Load:
    case Way::Store:
    case Way::TableInit:
    case Way::TableCopy: in.u32(), in.u32(); return;
    case Way::SelectTyped:
    case Way::MemoryInit: in.u32(), in.byte(); return;
    case Way::MemoryCopy: in.byte(), in.byte(); return;
    case Way::MemorySize:
    case Way::MemoryGrow:
    case Way::MemoryFill:
    case Way::RefNull: in.byte(); return;
    case Way::Const:
      if (type == ValueType::I32)
        in.s32();
      else if (type == ValueType::I64)
        in.s64();
      else
        in.bytes(type == ValueType::F32 ? 4 : 8);
      return;
    default: return;
  }
}

}  // namespace

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
        in.s33();
        open_.push_back(static_cast<uint32_t>(blocks_.size()));
        blocks_.push_back({here()});
        break;
      case Way::End:
        if (!open_.empty()) blocks_[open_.back()].last = here(), open_.pop_back();
        break;
      case Way::BranchByTable:
        for (uint32_t n = in.count("ways") + 1; n > 0 && in.good(); --n) in.u32();
        break;
      case Way::LocalSet:
      case Way::LocalTee: written_.push_back(std::min(in.u32(), locals)); break;
      case Way::Call:
      case Way::CallIndirect:
      case Way::MemoryGrow: written_.push_back(locals); [[fallthrough]];
      default: pass_over(in, is.way, is.to);
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
  auto from = places_.begin() + starts_[variable], to = places_.begin() + starts_[variable + 1];
  auto at = std::lower_bound(from, to, first);
  return at != to && *at < last;
}

}  // namespace porphyry::wasm
