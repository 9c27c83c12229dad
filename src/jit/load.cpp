// Idea: code and stubs first, then, from a page of their own on, constants, data and the table of addresses.
// All of it is one piece of memory, so that distances fit their four bytes; functions outside are reached
// through stubs.
#include "porphyry/jit/load.h"

#include <fmt/format.h>
#include <sys/mman.h>

#include <algorithm>
#include <cstring>

#include "placing.h"
#include "porphyry/base/rounding.h"

namespace porphyry {

class ObjectLoader {
 public:
  ObjectLoader(const ObjectFile& object, const machine::Target& target, const Resolver& externals)
      : object_(object), target_(target), externals_(externals) {}

  Result<std::unique_ptr<LoadedObject>> run() {
    out_.reset(new LoadedObject);
    find_symbols();
    place_sections();
    if (problems_.empty()) get_memory();
    if (problems_.empty()) fill();
    if (!problems_.empty()) return std::move(problems_);
    return std::move(out_);
  }

 private:
  static constexpr size_t nowhere = ~size_t(0);
  using Relocation = ObjectFile::Relocation;

  const machine::RelocationFact* fact_of(uint32_t type) const {
    for (const auto& fact : target_.object.relocations)
      if (fact.type == type) return &fact;
    return nullptr;
  }
  static bool wants_table(const machine::RelocationFact& fact) { return fact.what == "table entry of "; }

  // Outside addresses of undefined names.
  void find_symbols() {
    outside_.resize(object_.symbols.size());
    for (size_t k = 0; k < object_.symbols.size(); ++k) {
      const ObjectFile::Symbol& s = object_.symbols[k];
      if (s.section != ObjectFile::undefined || s.name.empty()) continue;
      outside_[k] = static_cast<uint8_t*>(externals_(s.name));
      if (!outside_[k] && !s.is_weak && used(k))
        problems_.push_back(
            complaint("'" + s.name + "' is not defined", "an object that needs only the C library"));
    }
  }
  bool used(size_t symbol) const {
    for (const auto& section : object_.sections)
      if (section.allocated)
        for (const Relocation& r : section.relocations)
          if (r.symbol == symbol) return true;
    return false;
  }

  void place_sections() {
    places_.assign(object_.sections.size(), nowhere);
    stubs_.assign(object_.symbols.size(), nowhere);
    entries_.assign(object_.symbols.size(), nowhere);
    size_t at = place_those(true, 0);
    std::vector<uint8_t> far;
    if (target_.stubs.jump_far) target_.stubs.jump_far(target_, far, 0);
    each_relocation([&](const Relocation& r, const machine::RelocationFact& fact) {
      if (wants_table(fact)) entries_[r.symbol] = 0;
      if (!outside_[r.symbol] || stubs_[r.symbol] != nowhere || !fact.relative || wants_table(fact)) return;
      stubs_[r.symbol] = at = round_up<size_t>(at, 16);
      at += far.size();
    });
    code_end_ = at = round_up<size_t>(at, jit::page_bytes());
    at = round_up<size_t>(place_those(false, at), 16);
    for (size_t& entry : entries_)
      if (entry != nowhere) entry = at, at += 8;
    out_->bytes_ = std::max<size_t>(round_up<size_t>(at, jit::page_bytes()), 1);
  }
  size_t place_those(bool code, size_t at) {
    for (size_t k = 0; k < object_.sections.size(); ++k) {
      const ObjectFile::Section& s = object_.sections[k];
      if (!s.allocated || s.is_code != code) continue;
      places_[k] = at = round_up<size_t>(at, std::max<uint64_t>(s.align, 1));
      at += s.zeros ? s.size : s.bytes.size();
    }
    return at;
  }
  template <typename Visit>
  void each_relocation(Visit visit) {
    for (const auto& section : object_.sections) {
      if (!section.allocated) continue;
      for (const Relocation& r : section.relocations) {
        const machine::RelocationFact* fact = fact_of(r.type);
        const bool known =
            fact && (fact->what.empty() || wants_table(*fact)) && r.symbol < object_.symbols.size();
        if (known)
          visit(r, *fact);
        else if (problems_.size() < 10)
          problems_.push_back(complaint(
              fmt::format("a relocation of type {} in {} is not settled here", r.type, section.name),
              "addresses, distances and entries of the table of addresses"));
      }
    }
  }

  void get_memory() {
    int flags = MAP_PRIVATE | MAP_ANONYMOUS;
    void* got = mmap(nullptr, out_->bytes_, PROT_READ | PROT_WRITE, flags, -1, 0);
    if (got == MAP_FAILED)
      return problems_.push_back(complaint("there is no memory for the object", "a smaller object"));
    out_->memory_ = static_cast<uint8_t*>(got);
  }

  uint8_t* meant(uint32_t symbol) const {
    const ObjectFile::Symbol& s = object_.symbols[symbol];
    if (s.section == ObjectFile::undefined) return outside_[symbol];
    size_t place = s.section < places_.size() ? places_[s.section] : nowhere;
    return place == nowhere ? nullptr : out_->memory_ + place + s.value;
  }

  void fill() {
    uint8_t* memory = out_->memory_;
    for (size_t k = 0; k < places_.size(); ++k)
      if (places_[k] != nowhere && !object_.sections[k].zeros)
        std::memcpy(memory + places_[k], object_.sections[k].bytes.data(), object_.sections[k].bytes.size());
    for (size_t k = 0; k < object_.symbols.size(); ++k) {
      uint8_t* address = meant(static_cast<uint32_t>(k));
      if (entries_[k] != nowhere) std::memcpy(memory + entries_[k], &address, 8);
      if (stubs_[k] != nowhere) {
        std::vector<uint8_t> far;
        target_.stubs.jump_far(target_, far, reinterpret_cast<uintptr_t>(address));
        std::memcpy(memory + stubs_[k], far.data(), far.size());
      }
      const ObjectFile::Symbol& s = object_.symbols[k];
      if (s.section != ObjectFile::undefined && !s.name.empty() && address)
        out_->names_.push_back({s.name, address});
    }
    std::sort(out_->names_.begin(), out_->names_.end());
    for (size_t k = 0; k < places_.size(); ++k)
      if (places_[k] != nowhere)
        for (const Relocation& r : object_.sections[k].relocations) settle(memory + places_[k] + r.offset, r);
    if (code_end_ && mprotect(memory, code_end_, PROT_READ | PROT_EXEC) != 0)
      problems_.push_back(complaint("the system does not let the object's code run", "leave to run code"));
  }

  void settle(uint8_t* at, const Relocation& r) {
    const machine::RelocationFact& fact = *fact_of(r.type);
    const uint8_t* what = wants_table(fact)                              ? out_->memory_ + entries_[r.symbol]
                          : stubs_[r.symbol] != nowhere && fact.relative ? out_->memory_ + stubs_[r.symbol]
                                                                         : meant(r.symbol);
    int64_t value = static_cast<int64_t>(reinterpret_cast<uintptr_t>(what)) + r.addend;
    if (fact.relative) value -= static_cast<int64_t>(reinterpret_cast<uintptr_t>(at));
    const int64_t half = fact.bytes < 8 ? int64_t(1) << (8 * fact.bytes - 1) : 0;
    if (half && (value < -half || value >= half))
      return problems_.push_back(complaint(
          fmt::format("'{}' lies too far away for its {} bytes", object_.symbols[r.symbol].name, fact.bytes),
          "an object that was compiled to lie anywhere"));
    std::memcpy(at, &value, fact.bytes);
  }

  const ObjectFile& object_;
  const machine::Target& target_;
  const Resolver& externals_;
  std::unique_ptr<LoadedObject> out_;
  std::vector<uint8_t*> outside_;        // by symbol
  std::vector<size_t> places_;           // by section
  std::vector<size_t> stubs_, entries_;  // by symbol
  size_t code_end_ = 0;
  Diagnostics problems_;
};

Result<std::unique_ptr<LoadedObject>> LoadedObject::load(const ObjectFile& object,
                                                         const machine::Target& target,
                                                         const Resolver& externals) {
  if (!target.runs_here || !target.runs_here())
    return complaint(fmt::format("code for {} does not run here", target.name),
                     "an object for this processor");
  return ObjectLoader(object, target, externals).run();
}

LoadedObject::~LoadedObject() {
  if (memory_) munmap(memory_, bytes_);
}

void* LoadedObject::address(std::string_view name) const {
  auto at = std::lower_bound(names_.begin(), names_.end(), name,
                             [](const auto& row, std::string_view n) { return row.first < n; });
  return at != names_.end() && at->first == name ? at->second : nullptr;
}

}  // namespace porphyry
