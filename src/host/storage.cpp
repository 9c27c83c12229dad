#include "storage.h"

#include <sys/mman.h>

#include <algorithm>

#include "porphyry/base/rounding.h"

namespace porphyry::wasm {
namespace {

// In a page of its own in front of the piece.
struct Head {
  uint64_t reserved, accessible;  // behind the head
};
constexpr uint64_t system_page = 4096;

Head& head_of(const void* at) {
  return *reinterpret_cast<Head*>(reinterpret_cast<uintptr_t>(at) - system_page);
}

}  // namespace

void* porphyry_wasm_claim(uint64_t bytes, uint64_t capacity) {
  uint64_t most = uint64_t(1) << 40;
  if (bytes > most || capacity > most) return nullptr;
  uint64_t reserved = round_up<uint64_t>(std::max<uint64_t>({bytes, capacity, 1}), system_page);
  void* got =
      mmap(nullptr, reserved + system_page, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (got == MAP_FAILED) return nullptr;
  uint64_t accessible = round_up<uint64_t>(bytes, system_page);
  if (mprotect(got, system_page + accessible, PROT_READ | PROT_WRITE) != 0) {
    munmap(got, reserved + system_page);
    return nullptr;
  }
  *static_cast<Head*>(got) = {reserved, accessible};
  return static_cast<uint8_t*>(got) + system_page;
}

bool porphyry_wasm_extend(void* at, uint64_t bytes) {
  if (!at) return false;
  Head& head = head_of(at);
  uint64_t wanted = round_up<uint64_t>(bytes, system_page);
  if (bytes > head.reserved || wanted > head.reserved) return false;
  if (wanted <= head.accessible) return true;
  if (mprotect(static_cast<uint8_t*>(at) + head.accessible, wanted - head.accessible,
               PROT_READ | PROT_WRITE) != 0)
    return false;
  head.accessible = wanted;
  return true;
}

void porphyry_wasm_release(void* at) {
  if (at) munmap(&head_of(at), head_of(at).reserved + system_page);
}

bool grow(Record& memory, uint32_t pages) {
  uint64_t wanted = memory.words[1] + pages * page_bytes;
  if (wanted > memory.words[2] * page_bytes) return false;
  if (!porphyry_wasm_extend(reinterpret_cast<void*>(memory.words[0]), wanted)) return false;
  memory.words[1] = wanted;
  return true;
}

uint64_t reserved_bytes(const void* at) { return at ? head_of(at).reserved : 0; }

}  // namespace porphyry::wasm
