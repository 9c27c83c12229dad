// Scratch: the memory for what one function needs on its way through a stage. Taking some is the bump of a
// pointer, giving it back is nothing, and `reset` frees all of it at once but keeps the blocks: fresh memory
// is expensive, and the next function wants as much.
#pragma once

#include <cstddef>
#include <memory_resource>
#include <vector>

#include "porphyry/base/bytes.h"

namespace porphyry {

class Scratch final : public std::pmr::memory_resource {
 public:
  // Everything taken so far is gone. Blocks beyond `kept_bytes` go back to the system.
  void reset();
  size_t bytes() const { return total_; }  // of all blocks

 private:
  static constexpr size_t first_bytes = 64 << 10, kept_bytes = 1 << 20;
  void* do_allocate(size_t bytes, size_t align) override;
  void do_deallocate(void* p, size_t bytes, size_t) override {
    if (static_cast<std::byte*>(p) + bytes == at_) at_ = static_cast<std::byte*>(p);  // the last one taken
  }
  bool do_is_equal(const memory_resource& other) const noexcept override { return this == &other; }
  void next_block(size_t bytes);  // one that was kept, or a new one of at least so many
  void enter(size_t block);

  std::vector<Bytes> blocks_;
  size_t block_ = 0;  // the current one
  size_t total_ = 0;
  std::byte *at_ = nullptr, *end_ = nullptr;
};

}  // namespace porphyry
