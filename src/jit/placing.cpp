#include "placing.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "porphyry/base/rounding.h"
#include "porphyry/print/print.h"

namespace porphyry::jit {

using namespace machine;

size_t page_bytes() { return static_cast<size_t>(sysconf(_SC_PAGESIZE)); }

Placing place(const LoweredModule& lowered, const Target& target, size_t first_bytes) {
  const Module& module = *lowered.legal;
  Placing p;
  size_t page = page_bytes(), at = first_bytes;
  for (const CompiledFunction& c : lowered.functions) {
    p.functions.push_back(at = round_up<size_t>(at, c.align));
    at += c.bytes.size();
  }
  std::vector<uint8_t> far;
  if (target.stubs.jump_far) target.stubs.jump_far(target, far, 0);
  p.stubs.resize(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    if (module[Symbol(k)].kind != SymbolKind::ExternFunction) continue;
    p.stubs[k] = at = round_up<size_t>(at, 16);
    at += far.size();
  }
  p.constants_start = at = round_up<size_t>(at, page);
  for (const CompiledFunction& c : lowered.functions) {
    at = round_up<size_t>(at, 16);
    p.constants.push_back(constant_places(c));
    for (size_t& place : p.constants.back()) place += at;
    at = p.constants.back().back();
  }
  p.data.resize(module.symbol_count());
  auto place_data = [&](bool constant) {
    for (size_t k = 0; k < module.symbol_count(); ++k) {
      const SymbolRow& row = module[Symbol(k)];
      if (row.kind != SymbolKind::Data || row.data.is_const != constant) continue;
      p.data[k] = at = round_up<size_t>(at, std::max<size_t>(row.data.align, 16));
      at += row.data.size(module.layout.pointer_bits);
    }
  };
  place_data(true);
  p.data_start = at = round_up<size_t>(at, page);
  place_data(false);
  p.end = std::max<size_t>(round_up<size_t>(at, page), 1);
  return p;
}

std::optional<CodePlace> place_in(const LoweredModule& lowered, const CompiledFunction& f, uint64_t start,
                                  uint64_t address) {
  if (address < start || address - start >= f.bytes.size()) return std::nullopt;
  CodePlace out{.function = f.name, .offset = address - start};
  auto after = std::upper_bound(f.lines.begin(), f.lines.end(), out.offset,
                                [](uint64_t p, const EmittedLine& l) { return p < l.offset; });
  const Function& ir = lowered.legal->function(f.symbol);
  if (after == f.lines.begin() || !(after - 1)->origin.exists() || !ir.alive((after - 1)->origin)) return out;
  Instruction origin = (after - 1)->origin;
  out.operation = write_text(*lowered.legal, ir, origin);
  out.row = ir.position(origin);
  out.position = place_text(*lowered.legal, out.row);
  return out;
}

}  // namespace porphyry::jit
