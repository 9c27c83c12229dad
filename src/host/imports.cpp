#include "porphyry/host/imports.h"

#include <new>

#include "porphyry/host/instance.h"
#include "storage.h"

namespace porphyry::wasm {

std::vector<uint64_t> words_of(std::span<const Datum> values, const std::vector<ValueType>& types) {
  std::vector<uint64_t> out;
  for (size_t k = 0; k < types.size(); ++k) {
    const Datum d = k < values.size() ? values[k] : Datum();
    if (types[k] == ValueType::V128)
      for (uint64_t w : lane_words(d)) out.push_back(w);
    else
      out.push_back(d.bits);
  }
  return out;
}

std::vector<Datum> values_of(std::span<const uint64_t> words, const std::vector<ValueType>& types) {
  std::vector<Datum> out;
  for (ValueType t : types) {
    size_t count = t == ValueType::V128 ? 4 : 1;
    out.push_back(count == 4 ? datum_of_lanes(words.first<4>()) : Datum{words[0]});
    words = words.subspan(count);
  }
  return out;
}

HostMemory::HostMemory(Limits pages) : limits_(pages) {
  uint64_t bytes = limits_.least * page_bytes;
  void* at = porphyry_wasm_claim(bytes, guarded_bytes);
  if (!at) throw std::bad_alloc();
  record_.words[0] = reinterpret_cast<uintptr_t>(at);
  record_.words[1] = bytes;
  record_.words[2] = most_pages(limits_);
}
HostMemory::~HostMemory() { porphyry_wasm_release(reinterpret_cast<void*>(record_.words[0])); }

bool HostMemory::grow(uint32_t pages) { return wasm::grow(record_, pages); }

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
