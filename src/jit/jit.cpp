#include "porphyry/jit/jit.h"
#include "porphyry/base/rounding.h"

#include <fmt/format.h>
#include <sys/mman.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "announce.h"
#include "lazy.h"
#include "placing.h"
#include "porphyry/object/object.h"

namespace porphyry {

using namespace machine;

// Of code, constants and data, whose distances from one another have 32 bits, and a sign.
static constexpr size_t most_placed_bytes = (size_t(1) << 31) - (size_t(1) << 16);

// Whether any code or data refers to a symbol. O(module); asked of externals that are not there.
static bool is_named(const Module& module, Symbol wanted) {
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    for (const DataItem::Reference& r : module[Symbol(k)].data.references(module.layout.pointer_bits))
      if (r.symbol == wanted) return true;
    if (!module.is_function(Symbol(k))) continue;
    const Function& f = module.function(Symbol(k));
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b))
        if (info(f.op(i)).detail() == Detail::Symbol && f.symbol(i) == wanted) return true;
  }
  return false;
}

Jit::Jit(const Target& target, const JitOptions& how) : target_(target), how_(how) {}

Jit::~Jit() {
  debugger_.reset();  // before what it speaks of
  lazy_.reset();
  if (memory_) munmap(memory_, memory_bytes_);
}

const LoweredModule& Jit::lowered() const { return lazy_ ? lazy_->lowered() : lowered_; }

Result<std::unique_ptr<Jit>> Jit::compile(const Module& module, const Target& target,
                                          const LowerOptions& options, const Resolver& externals,
                                          const JitOptions& how) {
  Features features = options.features.value_or(target.usual_features);
  if (!how.simulated && !target.runs_here())
    return complaint(fmt::format("code for {} does not run on this processor", target.name),
                     "this processor's target");
  if (!how.simulated && (features & ~target.features_here())) {
    std::vector<std::string> missing;
    for (size_t k = 0; k < target.features.size(); ++k)
      if ((features & ~target.features_here()) >> k & 1) missing.emplace_back(target.features[k]);
    return complaint("this processor lacks " + listed(missing, "and"), "features that it has");
  }
  if (how.lazy && (how.simulated || !target.stubs.ask_and_jump))
    return complaint(fmt::format("code for {} cannot be compiled when it is first called", target.name),
                     "a target that runs here and has stubs, or all functions at once");
  std::unique_ptr<Jit> jit(new Jit(target, how));
  if (how.lazy) {
    Diagnostics problems = target_problems(module, target);
    if (problems.empty()) problems = return_call_problems(module, target);
    if (!problems.empty()) return problems;
    jit->lazy_ = std::make_unique<LazyCode>(module, target, options, how);
  } else {
    auto lowered = lower(module, target, options);
    if (!lowered) return lowered.why();
    jit->lowered_ = std::move(*lowered);
  }
  Diagnostics problems = jit->place(externals);
  if (!problems.empty()) return problems;
  if (!how.lazy) jit->announce();
  return jit;
}

namespace {

Diagnostics refused(const char* what) {
  return {complaint(fmt::format("{}: {}", what, std::strerror(errno)), "memory for compiled code")};
}

}  // namespace

Diagnostics Jit::place(const Resolver& externals) {
  jit::Placing p = jit::place(lowered(), target_, lazy_ ? lazy_->entry_bytes() : 0);
  if (Diagnostics problems = get_memory(p); !problems.empty()) return problems;
  addresses_.resize(lowered().legal->symbol_count());
  std::vector<uint8_t*> reached(addresses_.size());  // what code calls or names: externs by their stubs
  if (Diagnostics problems = find_addresses(p, externals, reached); !problems.empty()) return problems;
  put_data();
  put_code(p, reached);
  if (p.constants_start &&
      mprotect(memory_, p.constants_start, PROT_READ | (how_.simulated ? 0 : PROT_EXEC)) != 0)
    return refused("code cannot be made executable");
  if (p.data_start > p.constants_start &&
      mprotect(memory_ + p.constants_start, p.data_start - p.constants_start, PROT_READ) != 0)
    return refused("constants cannot be protected");
  return {};
}

// One piece of memory, still writable. Lazily, most of it is only reserved.
Diagnostics Jit::get_memory(const jit::Placing& p) {
  if (p.end > most_placed_bytes)
    return {complaint(
        fmt::format("code and data take {} bytes", p.end),
        fmt::format("at most {} in one piece of memory, so that distances have 32 bits", most_placed_bytes))};
  constants_start_ = p.constants_start, data_start_ = p.data_start, data_end_ = p.end;
  size_t words = lazy_word_bytes();
  memory_bytes_ = p.end + words + (lazy_ ? lazy_->reserve() : 0);
  int flags = MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE;
  if (target_.layout.pointer_bits < 64) flags |= MAP_32BIT;
  void* got = mmap(nullptr, memory_bytes_, PROT_NONE, flags, -1, 0);
  if (got == MAP_FAILED) return refused("no memory for code");
  memory_ = static_cast<uint8_t*>(got);
  if (mprotect(memory_, p.end + words, PROT_READ | PROT_WRITE) != 0) return refused("no memory for code");
  if (p.end > p.data_start && mmap(memory_ + p.data_start, p.end - p.data_start, PROT_READ | PROT_WRITE,
                                   MAP_SHARED | MAP_ANONYMOUS | MAP_FIXED, -1, 0) == MAP_FAILED)
    return refused("no memory for data");
  return {};
}

size_t Jit::lazy_word_bytes() const {
  return lazy_ ? round_up<size_t>(lazy_->word_bytes(), jit::page_bytes()) : 0;
}

// Where each symbol is, and where code finds it: external functions through stubs, which are written here.
Diagnostics Jit::find_addresses(const jit::Placing& p, const Resolver& externals,
                                std::vector<uint8_t*>& reached) {
  Diagnostics problems;
  const Module& module = *lowered().legal;
  for (size_t k = 0; k < lowered().functions.size(); ++k)
    addresses_[lowered().functions[k].symbol.index] = memory_ + p.functions[k];
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind == SymbolKind::Data) addresses_[k] = memory_ + p.data[k];
    if (row.kind == SymbolKind::ExternFunction || row.kind == SymbolKind::ExternData) {
      addresses_[k] = static_cast<uint8_t*>(externals ? externals(module.text(row.name)) : nullptr);
      if (!addresses_[k] && is_named(module, Symbol(k)))
        problems.push_back(
            complaint(fmt::format("nothing is known of the external '{}'", module.text(row.name)),
                      "an address for it"));
    }
    reached[k] = addresses_[k];
    if (row.kind != SymbolKind::ExternFunction) continue;
    std::vector<uint8_t> stub;
    if (target_.stubs.jump_far)
      target_.stubs.jump_far(target_, stub, reinterpret_cast<uint64_t>(addresses_[k]));
    reached[k] = memory_ + p.stubs[k];
    std::copy(stub.begin(), stub.end(), reached[k]);
  }
  if (!problems.empty() || !lazy_) return problems;
  lazy_->begin({memory_, memory_ + p.end, memory_ + p.end + lazy_word_bytes()}, reached);
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module.is_function(Symbol(k))) addresses_[k] = lazy_->entry(k);
  return {};
}

void Jit::put_data() {
  const Module& module = *lowered().legal;
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind != SymbolKind::Data) continue;
    row.data.put_image(addresses_[k], module.layout);
    for (auto [offset, symbol] : row.data.references(module.layout.pointer_bits)) {
      const uint64_t address = reinterpret_cast<uintptr_t>(addresses_[symbol.index]);
      put_value(module.pointer_type(), {&address, 1}, module.layout.order, addresses_[k] + offset);
    }
  }
}

void Jit::put_code(const jit::Placing& p, const std::vector<uint8_t*>& reached) {
  for (size_t k = 0; k < lowered().functions.size(); ++k) {
    const CompiledFunction& c = lowered().functions[k];
    put_constants(c, p.constants[k], target_.layout.order, memory_ + p.functions[k], memory_);
    jit::settle(
        memory_ + p.functions[k], c, target_, [&](uint32_t row) { return memory_ + p.constants[k][row]; },
        [&](uint32_t s) { return reached[s]; });
  }
}

void Jit::announce() {
  std::vector<PlacedCode> placed;
  for (const CompiledFunction& f : lowered_.functions)
    placed.push_back({&f, reinterpret_cast<uint64_t>(addresses_[f.symbol.index])});
  if (how_.for_profiler)
    for (const PlacedCode& p : placed) tell_profiler(p.address, p.function->bytes.size(), p.function->name);
  if (how_.for_debugger && !placed.empty())
    debugger_ = std::make_unique<DebuggerEntry>(
        elf_bytes(make_memory_object(lowered_, placed, {memory_, constants_start_}, target_)));
}

std::optional<CodePlace> Jit::locate(uint64_t address) const {
  if (lazy_) return lazy_->locate(address);
  for (const CompiledFunction& f : lowered_.functions)
    if (auto place =
            jit::place_in(lowered_, f, reinterpret_cast<uint64_t>(addresses_[f.symbol.index]), address))
      return place;
  return std::nullopt;
}

std::vector<MemoryRegion> Jit::regions() const {
  std::vector<MemoryRegion> out = {{memory_, constants_start_, false, true},
                                   {memory_ + constants_start_, data_start_ - constants_start_, false, false},
                                   {memory_ + data_start_, data_end_ - data_start_, true, false}};
  if (lazy_) out.push_back(lazy_->grown());
  return out;
}

void* Jit::address(std::string_view name) const {
  Symbol s = lowered().legal->find(name);
  return s.exists() && s.index < addresses_.size() ? addresses_[s.index] : nullptr;
}

std::span<uint8_t> Jit::data(Symbol item) const {
  const Module& module = *lowered().legal;
  return {addresses_[item.index], module[item].data.size(module.layout.pointer_bits)};
}

Diagnostics Jit::check_type(std::string_view name, const Signature& wanted) const {
  const LoweredModule& all = lowered();
  Symbol s = all.legal->find(name);
  bool callable = s.exists() && s.index < all.first_parameter.size() && all.legal->signature(s);
  const Signature* is = callable ? &all.source_signatures[s.index] : nullptr;
  if (!is) return {complaint(fmt::format("no function is called '{}'", name), "a function of the module")};
  if (*is == wanted) return {};
  return {complaint(fmt::format("'{}' is {}, not {}", name, is->text(), wanted.text()),
                    "a C++ type that matches the function's")};
}

}  // namespace porphyry
