#include "lazy.h"

#include <sys/mman.h>

#include <algorithm>
#include <atomic>

#include "porphyry/ir/clone.h"
#include "porphyry/object/object.h"

namespace porphyry {

using namespace machine;

namespace {

constexpr size_t most_helpers = 64;  // routines of our own that legalization may still add
constexpr size_t least_reserve = size_t(64) << 20, most_reserve = size_t(1) << 30;

[[noreturn]] void cannot_be_compiled() { __builtin_trap(); }

size_t instructions_of(const Module& module) {
  size_t n = 0;
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module.is_function(Symbol(k))) n += module.function(Symbol(k)).instruction_limit();
  return n;
}

}  // namespace

LazyCode::LazyCode(const Module& module, const Target& target, const LowerOptions& options,
                   const JitOptions& how)
    : target_(target),
      how_(how),
      options_(options),
      lowered_(begin_lowering(module)),
      coverage_(target, options.features.value_or(target.usual_features)),
      rules_(target, options.features.value_or(target.usual_features)),
      entries_(module.symbol_count() + most_helpers),
      code_of_(entries_) {
  legalizer_ = std::make_unique<Legalizer>(*lowered_.legal, target, coverage_);
  reserve_ = std::min(most_reserve, least_reserve + instructions_of(module) * 4096);
  jit::StubWriter asking(target), entry(target);
  asking.ask_and_jump(first_call, this);
  asking_bytes_ = jit::rounded(asking.size(), 64);
  entry.jump_through(0), entry.jump_with(0, 0);
  entry_size_ = jit::rounded(entry.size(), 16);
}

LazyCode::~LazyCode() = default;

void LazyCode::begin(Memory memory, std::vector<uint8_t*> reached) {
  start_ = memory.entries, growth_ = memory.growth;
  words_ = reinterpret_cast<uint64_t*>(memory.words);
  reached_ = std::move(reached);
  jit::StubWriter asking(target_);
  asking.ask_and_jump(first_call, this);
  std::copy(asking.bytes().begin(), asking.bytes().end(), start_);
  for (size_t k = 0; k < entries_; ++k) {
    jit::StubWriter w(target_);
    uint8_t* at = entry(k);
    w.jump_through(reinterpret_cast<uint8_t*>(&words_[k]) - at);
    words_[k] = reinterpret_cast<uint64_t>(at + w.size());
    w.jump_with(k, start_ - at);
    std::copy(w.bytes().begin(), w.bytes().end(), at);
  }
}

void* LazyCode::first_call(void* self, uint64_t symbol) {
  return static_cast<LazyCode*>(self)->compile(symbol);
}

void* LazyCode::compile(size_t symbol) {
  std::lock_guard guard(lock_);
  if (code_of_[symbol]) return code_of_[symbol];  // another thread was faster
  legalizer_->function(Symbol(symbol));
  auto f = lower_function(*lowered_.legal, Symbol(symbol), rules_, options_, memory_);
  size_t page = jit::page_bytes();
  // Not all at the start of a page: they would meet in the same lines of the caches.
  size_t before = places_.size() * 64 % page, pool = f ? jit::rounded(f->bytes.size(), 16) : 0;
  std::vector<size_t> places = pool_places(f ? f->pool : std::vector<PoolEntry>());
  size_t bytes = f ? pool + places.back() : 0, all = jit::rounded(before + bytes, page);
  uint8_t* memory = growth_ + used_;
  bool placed = f && used_ + all <= reserve_ && mprotect(memory, all, PROT_READ | PROT_WRITE) == 0;
  if (!placed) return reinterpret_cast<void*>(cannot_be_compiled);
  uint8_t* code = memory + before;
  for (size_t k = 0; k < f->pool.size(); ++k) jit::write(code + pool + places[k], f->pool[k]);
  jit::settle(
      code, *f, [&](uint32_t row) { return code + pool + places[row]; },
      [&](uint32_t s) -> const uint8_t* {
        return lowered_.legal->is_function(Symbol(s)) ? entry(s) : reached_[s];
      });
  if (mprotect(memory, all, PROT_READ | PROT_EXEC) != 0) return reinterpret_cast<void*>(cannot_be_compiled);
  used_ += all;
  lowered_.functions.push_back(std::move(*f));
  places_.push_back(reinterpret_cast<uint64_t>(code));
  const CompiledFunction& made = lowered_.functions.back();
  if (how_.for_profiler) tell_profiler(places_.back(), made.bytes.size(), made.name);
  if (how_.for_debugger) {
    PlacedCode one{&made, places_.back()};
    shown_.push_back(std::make_unique<DebuggerEntry>(
        elf_bytes(make_memory_object(lowered_, {&one, 1}, {code, made.bytes.size()}, target_))));
  }
  code_of_[symbol] = code;
  std::atomic_ref(words_[symbol]).store(places_.back(), std::memory_order_release);
  return code;
}

std::optional<CodePlace> LazyCode::locate(uint64_t address) {
  std::lock_guard guard(lock_);
  for (size_t k = 0; k < places_.size(); ++k)
    if (auto place = jit::place_in(lowered_, lowered_.functions[k], places_[k], address)) return place;
  return std::nullopt;
}

}  // namespace porphyry
