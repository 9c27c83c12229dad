#include "porphyry/jit/jit.h"

#include <fmt/format.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>

namespace porphyry {

using namespace machine;

void* usual_externals(std::string_view name) {
  struct Row {
    std::string_view name;
    void* address;
  };
  auto one = [](double (*f)(double)) { return reinterpret_cast<void*>(f); };
  auto one_single = [](float (*f)(float)) { return reinterpret_cast<void*>(f); };
  auto two = [](double (*f)(double, double)) { return reinterpret_cast<void*>(f); };
  auto two_single = [](float (*f)(float, float)) { return reinterpret_cast<void*>(f); };
  const Row rows[] = {
      {"floor", one(std::floor)},
      {"floorf", one_single(std::floor)},
      {"ceil", one(std::ceil)},
      {"ceilf", one_single(std::ceil)},
      {"rint", one(std::rint)},
      {"rintf", one_single(std::rint)},
      {"trunc", one(std::trunc)},
      {"truncf", one_single(std::trunc)},
      {"fmod", two(std::fmod)},
      {"fmodf", two_single(std::fmod)},
      {"pow", two(std::pow)},
      {"powf", two_single(std::pow)},
      {"exp", one(std::exp)},
      {"log", one(std::log)},
      {"fma", reinterpret_cast<void*>(static_cast<double (*)(double, double, double)>(std::fma))},
      {"fmaf", reinterpret_cast<void*>(static_cast<float (*)(float, float, float)>(std::fma))}};
  for (const Row& r : rows)
    if (r.name == name) return r.address;
  return nullptr;
}

namespace {

size_t rounded(size_t n, size_t to) { return (n + to - 1) / to * to; }

// Where everything goes before anything is placed: offsets from the start of one piece of memory.
struct Plan {
  std::vector<size_t> functions, stubs, data;  // by function; by symbol
  std::vector<std::vector<size_t>> pools;
  size_t code_end = 0, constants_start = 0, constants_end = 0, data_start = 0, data_end = 0;
};

// A stub loads an address into a register that carries no argument and jumps through it.
std::vector<uint8_t> stub(const Target& target, uint64_t address) {
  std::vector<uint8_t> out;
  auto add = [&](PlainInstruction i) {
    Encoded e = target.encode(target, i);
    out.insert(out.end(), e.bytes, e.bytes + e.size);
  };
  PlainOperand scratch{OperandKind::Register, target.convention.scratch, 0, {}};
  add({target.upkeep.move_literal, {scratch, {OperandKind::Literal, 0, static_cast<int64_t>(address), {}}}});
  add({target.upkeep.jump_through, {scratch}});
  return out;
}

Plan plan(const LoweredModule& lowered, const Target& target) {
  const Module& module = *lowered.legal;
  Plan p;
  size_t page = static_cast<size_t>(sysconf(_SC_PAGESIZE)), at = 0;
  for (const CompiledFunction& c : lowered.functions) {
    p.functions.push_back(at = rounded(at, 16));
    at += c.bytes.size();
  }
  p.stubs.resize(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    if (module[Symbol(k)].kind != SymbolKind::ExternFunction) continue;
    p.stubs[k] = at = rounded(at, 16);
    at += stub(target, 0).size();
  }
  p.code_end = at;
  p.constants_start = at = rounded(at, page);
  for (const CompiledFunction& c : lowered.functions) {
    p.pools.emplace_back();
    for (size_t k = 0; k < c.pool.size(); ++k) p.pools.back().push_back(at), at += 8;
  }
  p.data.resize(module.symbol_count());
  auto place = [&](bool constant) {
    for (size_t k = 0; k < module.symbol_count(); ++k) {
      const SymbolRow& row = module[Symbol(k)];
      if (row.kind != SymbolKind::Data || row.data.is_const != constant) continue;
      p.data[k] = at = rounded(at, std::max<size_t>(row.data.align, 16));
      at += row.data.size();
    }
  };
  place(true);
  p.constants_end = at;
  p.data_start = at = rounded(at, page);
  place(false);
  p.data_end = rounded(at, page);
  return p;
}

}  // namespace

Result<std::unique_ptr<Jit>> Jit::compile(const Module& module, const Target& target,
                                          const LowerOptions& options, const Resolver& externals) {
  uint8_t features = options.features.value_or(target.usual_features);
  if (!target.runs_here())
    return complaint(fmt::format("code for {} does not run on this processor", target.name),
                     "this processor's target");
  if (features & ~target.features_here()) {
    std::vector<std::string> missing;
    for (size_t k = 0; k < target.features.size(); ++k)
      if ((features & ~target.features_here()) >> k & 1) missing.emplace_back(target.features[k]);
    return complaint("this processor lacks " + listed(missing, "and"), "features that it has");
  }
  auto lowered = lower(module, target, options);
  if (!lowered) return lowered.why();
  std::unique_ptr<Jit> jit(new Jit);
  jit->lowered_ = std::move(*lowered);
  Diagnostics problems = jit->place(target, externals);
  if (!problems.empty()) return problems;
  return jit;
}

Diagnostics Jit::place(const Target& target, const Resolver& externals) {
  const Module& module = *lowered_.legal;
  Plan p = plan(lowered_, target);
  auto refused = [](const char* what) {
    return Diagnostics{
        complaint(fmt::format("{}: {}", what, std::strerror(errno)), "memory for compiled code")};
  };
  memory_bytes_ = std::max<size_t>(p.data_end, 1);
  constants_start_ = p.constants_start, data_start_ = p.data_start;
  void* got = mmap(nullptr, memory_bytes_, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (got == MAP_FAILED) return refused("no memory for code");
  memory_ = static_cast<uint8_t*>(got);
  if (p.data_end > p.data_start &&
      mmap(memory_ + p.data_start, p.data_end - p.data_start, PROT_READ | PROT_WRITE,
           MAP_SHARED | MAP_ANONYMOUS | MAP_FIXED, -1, 0) == MAP_FAILED)
    return refused("no memory for data");

  Diagnostics problems;
  addresses_.resize(module.symbol_count());
  for (size_t k = 0; k < lowered_.functions.size(); ++k)
    addresses_[lowered_.functions[k].symbol.index] = memory_ + p.functions[k];
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind == SymbolKind::Data) addresses_[k] = memory_ + p.data[k];
    if (row.kind != SymbolKind::ExternFunction && row.kind != SymbolKind::ExternData) continue;
    void* outside = externals ? externals(module.text(row.name)) : nullptr;
    if (!outside)
      problems.push_back(complaint(
          fmt::format("nothing is known of the external '{}'", module.text(row.name)), "an address for it"));
    addresses_[k] = static_cast<uint8_t*>(outside);
    if (!outside || row.kind != SymbolKind::ExternFunction) continue;
    std::vector<uint8_t> bytes = stub(target, reinterpret_cast<uint64_t>(outside));
    std::copy(bytes.begin(), bytes.end(), memory_ + p.stubs[k]);
  }
  if (!problems.empty()) return problems;

  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind != SymbolKind::Data) continue;
    std::vector<uint8_t> image = row.data.image();
    std::copy(image.begin(), image.end(), addresses_[k]);
    for (auto [offset, symbol] : row.data.references())
      std::memcpy(addresses_[k] + offset, &addresses_[symbol.index], 8);
  }
  for (size_t k = 0; k < lowered_.functions.size(); ++k) {
    const CompiledFunction& c = lowered_.functions[k];
    uint8_t* code = memory_ + p.functions[k];
    std::copy(c.bytes.begin(), c.bytes.end(), code);
    for (size_t e = 0; e < c.pool.size(); ++e) std::memcpy(memory_ + p.pools[k][e], &c.pool[e].bits, 8);
    for (const Fixup& fix : c.fixups) {
      bool outside =
          fix.to == Fixup::To::Symbol && module[Symbol(fix.index)].kind == SymbolKind::ExternFunction;
      const uint8_t* what = fix.to == Fixup::To::Pool ? memory_ + p.pools[k][fix.index]
                            : outside                 ? memory_ + p.stubs[fix.index]
                                                      : addresses_[fix.index];
      int32_t distance = static_cast<int32_t>(what - (code + fix.offset) + fix.addend);
      std::memcpy(code + fix.offset, &distance, 4);
    }
  }
  if (p.constants_start && mprotect(memory_, p.constants_start, PROT_READ | PROT_EXEC) != 0)
    return refused("code cannot be made executable");
  if (p.data_start > p.constants_start &&
      mprotect(memory_ + p.constants_start, p.data_start - p.constants_start, PROT_READ) != 0)
    return refused("constants cannot be protected");
  return {};
}

Jit::~Jit() {
  if (memory_) munmap(memory_, memory_bytes_);
}

std::vector<MemoryRegion> Jit::regions() const {
  return {{memory_, constants_start_, false, true},
          {memory_ + constants_start_, data_start_ - constants_start_, false, false},
          {memory_ + data_start_, memory_bytes_ - data_start_, true, false}};
}

void* Jit::address(std::string_view name) const {
  Symbol s = lowered_.legal->find(name);
  return s.exists() && s.index < addresses_.size() ? addresses_[s.index] : nullptr;
}

std::span<uint8_t> Jit::data(Symbol item) const {
  return {addresses_[item.index], (*lowered_.legal)[item].data.size()};
}

Diagnostics Jit::check_type(std::string_view name, const Signature& wanted) const {
  Symbol s = lowered_.legal->find(name);
  bool callable = s.exists() && s.index < lowered_.first_parameter.size() && lowered_.legal->signature(s);
  const Signature* is = callable ? &lowered_.meant[s.index] : nullptr;
  if (!is) return {complaint(fmt::format("no function is called '{}'", name), "a function of the module")};
  if (*is == wanted) return {};
  return {complaint(fmt::format("'{}' is {}, not {}", name, is->text(), wanted.text()),
                    "a C++ type that matches the function's")};
}

}  // namespace porphyry
