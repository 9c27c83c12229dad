// A walk over a function's code before it is read: where locals are written, and between which of those
// places each block lies. With it the reader knows at a loop's head what the loop will write.
#pragma once

#include <vector>

#include "in.h"
#include "porphyry/ir/variables.h"

namespace porphyry::wasm {

// Places are numbered in the order of the code: one for each write of a local, and for each call, which may
// move the memory.
class Writes final : public Variables::Writes {
 public:
  // Variables are the locals, by number, and `memory` and those behind it. Of code that is wrong, what can be
  // walked; the reader comes no further. O(bytes).
  void scan(In in, uint32_t locals);

  bool any(Variables::Variable variable, uint32_t first, uint32_t last) const override;
  // Places of a block (block, loop or if), by its number in the order of the code.
  struct Span {
    uint32_t first = 0, last = 0xffffffff;
  };
  Span block(size_t number) const { return number < blocks_.size() ? blocks_[number] : Span(); }

 private:
  std::vector<uint32_t> written_;          // by place: the local, or the number of locals for a call
  std::vector<uint32_t> starts_, places_;  // by variable: its places, in order
  std::vector<Span> blocks_;
  std::vector<uint32_t> open_;
  uint32_t locals_ = 0;
};

}  // namespace porphyry::wasm
