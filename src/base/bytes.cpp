#include "porphyry/base/bytes.h"

#include <sys/mman.h>

#include <new>

namespace porphyry {

Bytes::Bytes(size_t size) : size_(size) {
  if (size == 0) return;
  if (size < large) {
    at_ = static_cast<std::byte*>(::operator new(size));
    return;
  }
  void* at = mmap(nullptr, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (at == MAP_FAILED) throw std::bad_alloc();
  at_ = static_cast<std::byte*>(at);
}

void Bytes::release() {
  if (size_ < large)
    ::operator delete(at_);
  else
    munmap(at_, size_);
}

}  // namespace porphyry
