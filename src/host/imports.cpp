#include "porphyry/host/imports.h"

#include <new>

#include "porphyry/host/instance.h"
#include "storage.h"

namespace porphyry::wasm {

HostMemory::HostMemory(Limits pages) : limits_(pages) {
  uint64_t bytes = limits_.least * page_bytes;
  void* at = porphyry_wasm_claim(bytes, guarded_bytes);
  if (!at) throw std::bad_alloc();
  record_.words[0] = reinterpret_cast<uintptr_t>(at);
  record_.words[1] = bytes;
  record_.words[2] = limits_.most.value_or(page_limit);
}
HostMemory::~HostMemory() { porphyry_wasm_release(reinterpret_cast<void*>(record_.words[0])); }

bool HostMemory::grow(uint32_t pages) {
  uint64_t wanted = record_.words[1] + pages * page_bytes;
  if (wanted > record_.words[2] * page_bytes) return false;
  if (!porphyry_wasm_extend(reinterpret_cast<void*>(record_.words[0]), wanted)) return false;
  record_.words[1] = wanted;
  return true;
}

HostTable::HostTable(ValueType element, Limits limits) : element_(element), limits_(limits) {
  uint64_t most = std::min<uint64_t>(limits.most.value_or(element_limit), element_limit);
  void* at = porphyry_wasm_claim(8 * uint64_t(limits.least), 8 * most);
  if (!at) throw std::bad_alloc();
  record_.words[0] = reinterpret_cast<uintptr_t>(at);
  record_.words[1] = limits.least;
  record_.words[2] = most;
}
HostTable::~HostTable() { porphyry_wasm_release(reinterpret_cast<void*>(record_.words[0])); }

const Imports::Item* Imports::find(std::string_view module, std::string_view name) const {
  auto at = items_.find({std::string(module), std::string(name)});
  return at == items_.end() ? nullptr : &at->second;
}

void Imports::add_exports(std::string_view module, Instance& instance) {
  for (const Export& e : instance.program().exports) put(module, e.name, OfInstance{&instance, e});
}

}  // namespace porphyry::wasm
