#include "lazy.h"

#include <sys/mman.h>

#include <algorithm>
#include <atomic>

#include "porphyry/base/rounding.h"
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
  for (Symbol s : module.functions()) n += module.function(s).instruction_limit();
  return n;
}

}  // namespace

FunctionCompiler::FunctionCompiler(const Module& module, const Target& target, const LowerOptions& options)
    : lowered(begin_lowering(module)),
      options_(options),
      coverage_(target, options.features.value_or(target.usual_features)),
      rules_(target, options.features.value_or(target.usual_features)),
      legalizer_(*lowered.legal, target, coverage_, {.variables = options.variables}) {}

Result<CompiledFunction> FunctionCompiler::compile(Symbol symbol) {
  legalizer_.function(symbol);
  const std::vector<Watched> watched = legalizer_.take_watched();
  return lower_function(*lowered.legal, symbol, rules_, options_, memory_, watched);
}

Entries::Entries(const Target& target, size_t count, void* (*compile)(void*, uint64_t), void* self)
    : target_(target), count_(count), compile_(compile), self_(self) {
  std::vector<uint8_t> asking, entry;
  target.stubs.ask_and_jump(target, asking, compile, self);
  asking_bytes_ = round_up<size_t>(asking.size(), 64);
  target.stubs.jump_through(target, entry, 0);
  target.stubs.jump_with(target, entry, 0, 0);
  entry_bytes_ = round_up<size_t>(entry.size(), 16);
}

void Entries::write(uint8_t* start, uint8_t* words) {
  start_ = start;
  words_ = reinterpret_cast<uint64_t*>(words);
  std::vector<uint8_t> code;
  target_.stubs.ask_and_jump(target_, code, compile_, self_);
  std::copy(code.begin(), code.end(), start_);
  for (size_t k = 0; k < count_; ++k) {
    code.clear();
    uint8_t* at = (*this)[k];
    target_.stubs.jump_through(target_, code, reinterpret_cast<uint8_t*>(&words_[k]) - at);
    words_[k] = reinterpret_cast<uint64_t>(at + code.size());
    target_.stubs.jump_with(target_, code, k, start_ - at);
    std::copy(code.begin(), code.end(), at);
  }
}

void Entries::lead_to(size_t symbol, const uint8_t* code) {
  std::atomic_ref(words_[symbol]).store(reinterpret_cast<uint64_t>(code), std::memory_order_release);
}

uint8_t* GrowingCode::open(size_t bytes) {
  uint8_t* memory = start + used;
  bool got = used + bytes <= reserved && mprotect(memory, bytes, PROT_READ | PROT_WRITE) == 0;
  return got ? memory : nullptr;
}

bool GrowingCode::close(size_t bytes) {
  if (mprotect(start + used, bytes, PROT_READ | PROT_EXEC) != 0) return false;
  used += bytes;
  return true;
}

LazyCode::LazyCode(const Module& module, const Target& target, const LowerOptions& options,
                   const JitOptions& how)
    : target_(target),
      how_(how),
      compiler_(module, target, options),
      entries_(target, module.symbol_count() + most_helpers, first_call, this),
      code_of_(entries_.count()) {
  growth_.reserved = std::min(most_reserve, least_reserve + instructions_of(module) * 4096);
}

LazyCode::~LazyCode() = default;

void LazyCode::begin(Memory memory, std::vector<uint8_t*> reached) {
  growth_.start = memory.growth;
  reached_ = std::move(reached);
  entries_.write(memory.entries, memory.words);
}

void* LazyCode::first_call(void* self, uint64_t symbol) {
  return static_cast<LazyCode*>(self)->compile(symbol);
}

void* LazyCode::compile(size_t symbol) {
  std::lock_guard guard(lock_);
  if (code_of_[symbol]) return code_of_[symbol];  // another thread was faster
  auto f = compiler_.compile(Symbol(symbol));
  uint8_t* code = f ? put(*f) : nullptr;
  if (!code) return reinterpret_cast<void*>(cannot_be_compiled);
  lowered().functions.push_back(std::move(*f));
  places_.push_back(reinterpret_cast<uint64_t>(code));
  announce(lowered().functions.back(), places_.back());
  code_of_[symbol] = code;
  entries_.lead_to(symbol, code);
  return code;
}

// The code with its constants in memory; null when there is none.
uint8_t* LazyCode::put(const CompiledFunction& f) {
  size_t page = jit::page_bytes();
  // Not all at the start of a page: they would meet in the same lines of the caches.
  size_t before = places_.size() * 64 % page, constants = round_up<size_t>(f.bytes.size(), 16);
  std::vector<size_t> places = constant_places(f);
  size_t all = round_up<size_t>(before + constants + places.back(), page);
  uint8_t* memory = growth_.open(all);
  if (!memory) return nullptr;
  uint8_t* code = memory + before;
  put_constants(f, places, target_.layout.order, code, code + constants);
  jit::settle(
      code, f, target_, [&](uint32_t row) { return code + constants + places[row]; },
      [&](uint32_t s) -> const uint8_t* {
        return lowered().legal->is_function(Symbol(s)) ? entry(s) : reached_[s];
      });
  return growth_.close(all) ? code : nullptr;
}

void LazyCode::announce(const CompiledFunction& f, uint64_t address) {
  if (how_.for_profiler) tell_profiler(address, f.bytes.size(), f.name);
  if (!how_.for_debugger) return;
  PlacedCode one{&f, address};
  std::span<const uint8_t> code(reinterpret_cast<const uint8_t*>(address), f.bytes.size());
  shown_.push_back(std::make_unique<DebuggerEntry>(
      elf_bytes(make_memory_object(lowered(), {&one, 1}, {code.data(), code.size()}, target_))));
}

std::optional<CodePlace> LazyCode::locate(uint64_t address) {
  std::lock_guard guard(lock_);
  for (size_t k = 0; k < places_.size(); ++k)
    if (auto place = jit::place_in(lowered(), lowered().functions[k], places_[k], address)) return place;
  return std::nullopt;
}

}  // namespace porphyry
