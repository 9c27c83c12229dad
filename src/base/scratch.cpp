#include "porphyry/base/scratch.h"

#include <algorithm>
#include <cstdint>

namespace porphyry {

void Scratch::enter(size_t block) {
  block_ = block;
  at_ = blocks_[block].get();
  end_ = at_ + blocks_[block].size();
}

void Scratch::reset() {
  if (total_ > kept_bytes) blocks_.clear(), total_ = 0;
  block_ = 0, at_ = end_ = nullptr;
  if (!blocks_.empty()) enter(0);
}

void* Scratch::do_allocate(size_t bytes, size_t align) {
  size_t skipped = -reinterpret_cast<uintptr_t>(at_) & (align - 1);  // align is a power of two
  while (!at_ || skipped + bytes > static_cast<size_t>(end_ - at_)) {
    next_block(bytes + align);
    skipped = -reinterpret_cast<uintptr_t>(at_) & (align - 1);
  }
  std::byte* out = at_ + skipped;
  at_ = out + bytes;
  return out;
}

void Scratch::next_block(size_t bytes) {
  if (block_ + 1 < blocks_.size()) return enter(block_ + 1);
  size_t size = std::max({first_bytes, std::min(total_, kept_bytes), bytes});
  blocks_.emplace_back(size);
  total_ += size;
  enter(blocks_.size() - 1);
}

}  // namespace porphyry
