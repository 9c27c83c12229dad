#include <algorithm>
#include <map>

#include "debug_parts.h"
#include "porphyry/base/rounding.h"
#include "sink.h"

namespace porphyry {
namespace object {

using namespace machine;

uint32_t add_section_symbol(ObjectFile& out, uint32_t section) {
  out.symbols.push_back({.section = section, .is_local = true, .is_section = true});
  return static_cast<uint32_t>(out.symbols.size() - 1);
}

namespace {

class Maker {
 public:
  Maker(const LoweredModule& lowered, const Target& target)
      : lowered_(lowered),
        module_(*lowered.legal),
        target_(target),
        places_(module_.symbol_count()),
        symbols_(module_.symbol_count(), ObjectFile::undefined),
        lowerings_(lowered) {}

  ObjectFile run(const ObjectOptions& options) {
    out_.machine = target_.object.machine;
    for (const CompiledFunction& f : lowered_.functions) place(f);
    constants();
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (lowerings_.is_data(Symbol(k))) place_data(Symbol(k));
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (!lowerings_.behind(Symbol(k)).exists()) name(Symbol(k));
    for (const CompiledFunction& f : lowered_.functions) fix(f);
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (lowerings_.is_data(Symbol(k))) fix_data(Symbol(k));
    std::vector<PlacedFunction> functions;
    for (const CompiledFunction& f : lowered_.functions) {
      const Place& p = places_[f.symbol.index];
      functions.push_back({&f, section_symbol(p.section), p.offset});
    }
    if (!functions.empty()) add_call_frames(out_, target_, functions);
    if (options.lines && module_.position_count()) add_lines(out_, module_, target_, functions);
    out_.sections.push_back({.name = ".note.GNU-stack", .allocated = false});  // the stack holds no code
    return std::move(out_);
  }

 private:
  struct Place {
    uint32_t section = ObjectFile::undefined;
    uint64_t offset = 0, size = 0;
  };

  uint32_t section(const std::string& name, const ObjectFile::Section& like) {
    auto [at, is_new] = by_name_.try_emplace(name, static_cast<uint32_t>(out_.sections.size()));
    if (is_new) {
      out_.sections.push_back(like);
      out_.sections.back().name = name;
    }
    ObjectFile::Section& s = out_.sections[at->second];
    s.is_code |= like.is_code, s.writable |= like.writable;
    if (s.zeros && !like.zeros) {  // what is no zeros is put there as well
      s.bytes.assign(s.size, '\0');
      s.zeros = false;
    }
    return at->second;
  }
  uint32_t section_symbol(uint32_t section) {
    auto [at, is_new] = section_symbols_.try_emplace(section, 0);
    if (is_new) at->second = add_section_symbol(out_, section);
    return at->second;
  }

  // Where something of this size and alignment begins in a section.
  uint64_t open(uint32_t section, uint64_t align) {
    ObjectFile::Section& s = out_.sections[section];
    s.align = std::max(s.align, align);
    if (s.zeros) return s.size = round_up<uint64_t>(s.size, align);
    size_t from = s.bytes.size();
    object::Sink(s.bytes).align(align);
    std::span<uint8_t> between(reinterpret_cast<uint8_t*>(s.bytes.data()) + from, s.bytes.size() - from);
    if (s.is_code && !between.empty()) target_.pad(between);
    return s.bytes.size();
  }

  void place(const CompiledFunction& f) {
    const std::string& wanted = module_[f.symbol].section;
    uint32_t s = section(wanted.empty() ? ".text" : wanted, {.is_code = true});
    uint64_t at = open(s, f.align);
    out_.sections[s].bytes.append(reinterpret_cast<const char*>(f.bytes.data()), f.bytes.size());
    places_[f.symbol.index] = {s, at, f.bytes.size()};
  }

  // Constants of all functions, each of the pools' once, and the tables by which they choose.
  void constants() {
    std::map<std::tuple<uint8_t, uint64_t, uint64_t>, uint64_t> known;
    by_function_.resize(lowered_.functions.size());
    for (size_t k = 0; k < lowered_.functions.size(); ++k) {
      for (const PoolEntry& e : lowered_.functions[k].pool) {
        constants_ = section(".rodata", {});
        auto [at, is_new] = known.try_emplace({e.bytes, e.bits, e.high}, 0);
        if (is_new) {
          at->second = open(constants_, e.bytes);
          object::Sink sink(out_.sections[constants_].bytes);
          e.bytes == 4 ? sink.u32(e.bits) : sink.u64(e.bits);
          if (e.bytes > 8) sink.u64(e.high);
        }
        by_function_[k].push_back(at->second);
      }
      for (const std::vector<uint32_t>& t : lowered_.functions[k].tables)
        by_function_[k].push_back(table(lowered_.functions[k], t));
    }
  }
  // The linker writes how far the blocks lie from the table's start.
  uint64_t table(const CompiledFunction& f, const std::vector<uint32_t>& blocks) {
    constants_ = section(".rodata", {});
    const uint64_t start = open(constants_, table_entry_bytes);
    const Place& code = places_[f.symbol.index];
    const uint32_t symbol = section_symbol(code.section);
    ObjectFile::Section& s = out_.sections[constants_];
    object::Sink sink(s.bytes);
    for (uint32_t b : blocks) {
      const uint64_t at = s.bytes.size();
      s.relocations.push_back({at, target_.object.relative_32, symbol,
                               static_cast<int64_t>(code.offset + f.blocks[b].offset + (at - start))});
      sink.u32(0);
    }
    return start;
  }

  void place_data(Symbol symbol) {
    const SymbolRow& row = module_[symbol];
    DataSection to = section_of(row);
    uint32_t s = section(to.name, {.writable = to.writable, .zeros = to.zeros});
    uint64_t at = open(s, row.data.align);
    uint64_t size = row.data.size();
    places_[symbol.index] = {s, at, size};
    if (out_.sections[s].zeros) return void(out_.sections[s].size += size);
    std::string& bytes = out_.sections[s].bytes;
    bytes.resize(at + size);
    row.data.put_image(reinterpret_cast<uint8_t*>(bytes.data() + at));
  }

  // Local symbols that nothing refers to from outside would need no entry, but debuggers and
  // profilers like names.
  void name(Symbol symbol) {
    const SymbolRow& row = module_[symbol];
    const Place& p = places_[symbol.index];
    bool callable = row.kind == SymbolKind::Function || row.kind == SymbolKind::ExternFunction;
    symbols_[symbol.index] = static_cast<uint32_t>(out_.symbols.size());
    out_.symbols.push_back({std::string(module_.text(row.name)), p.section, p.offset, p.size, row.is_local,
                            row.is_weak, callable, false});
  }

  void fix(const CompiledFunction& f) {
    const Place& home = places_[f.symbol.index];
    size_t which = static_cast<size_t>(&f - lowered_.functions.data());
    for (const Fixup& fix : f.fixups) {
      ObjectFile::Relocation r{home.offset + fix.offset, target_.fixups[fix.kind].relocation, 0, fix.addend};
      if (fix.to == Fixup::To::Pool) {
        r.symbol = section_symbol(constants_);
        r.addend += static_cast<int64_t>(by_function_[which][fix.index]);
      } else if (Symbol to(fix.index); lowerings_.is_direct(to)) {
        const Place& p = places_[fix.index];
        if (p.section == home.section) {  // nothing is left to the linker
          auto* at = reinterpret_cast<uint8_t*>(out_.sections[p.section].bytes.data()) + r.offset;
          target_.settle(fix.kind, at, static_cast<int64_t>(p.offset - r.offset) + fix.addend);
          continue;
        }
        r.symbol = section_symbol(p.section);
        r.addend += static_cast<int64_t>(p.offset);
      } else {
        r.symbol = symbols_[(lowerings_.behind(to).exists() ? lowerings_.behind(to) : to).index];
        r.type = lowerings_.relocation(to, target_, std::span(f.bytes).first(fix.offset));
      }
      out_.sections[home.section].relocations.push_back(r);
    }
  }

  void fix_data(Symbol symbol) {
    const Place& home = places_[symbol.index];
    for (auto [offset, to] : module_[symbol].data.references())
      out_.sections[home.section].relocations.push_back(
          {home.offset + offset, target_.object.absolute_64, symbols_[to.index], 0});
  }

  const LoweredModule& lowered_;
  const Module& module_;
  const Target& target_;
  ObjectFile out_;
  std::map<std::string, uint32_t> by_name_;
  std::map<uint32_t, uint32_t> section_symbols_;
  std::vector<Place> places_;      // by symbol of the module
  std::vector<uint32_t> symbols_;  // by symbol of the module: row of the object's
  NameWays lowerings_;
  std::vector<std::vector<uint64_t>> by_function_;  // and row of its constants: where in .rodata
  uint32_t constants_ = 0;
};

}  // namespace
}  // namespace object

NameWays::NameWays(const machine::LoweredModule& lowered)
    : module_(lowered.legal.get()), exported_(lowered.exported), behind_(module_->symbol_count()) {
  for (auto [word, of] : lowered.address_words) behind_[word.index] = of;
}

bool NameWays::is_direct(Symbol s) const {
  const SymbolRow& row = (*module_)[s];
  bool here = row.kind == SymbolKind::Function || row.kind == SymbolKind::Data;
  return here && !behind(s).exists() && (row.is_local || (!exported_ && !row.is_weak));
}

uint32_t NameWays::relocation(Symbol s, const machine::Target& target,
                              std::span<const uint8_t> code_before) const {
  if (behind(s).exists()) return target.object.table_32(code_before);
  return is_direct(s) ? target.object.relative_32 : target.object.call_32;
}

Diagnostics object_problems(const Module& module, const machine::Target& target) {
  Diagnostics out;
  if (target.object.machine == 0)
    out.push_back(complaint("there are no object files for " + std::string(target.name), "another target"));
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    std::string_view name = module.symbol_name(Symbol(k));
    if (name.find('\0') == name.npos) continue;
    out.push_back(complaint("the name '" + std::string(name.substr(0, name.find('\0'))) +
                                "\\0…' holds a zero, with which names in object files end",
                            "another name"));
  }
  std::map<std::string, Symbol> code;
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (const SymbolRow& row = module[Symbol(k)]; row.kind == SymbolKind::Function)
      code.try_emplace(row.section.empty() ? ".text" : row.section, Symbol(k));
  for (size_t k = 0; k < module.symbol_count() && !code.empty(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind != SymbolKind::Data) continue;
    DataSection in = section_of(row);
    auto there = code.find(in.name);
    if (there == code.end() || !in.writable) continue;
    auto name = [&](Symbol s) { return "'" + std::string(module.symbol_name(s)) + "'"; };
    out.push_back(complaint("section '" + in.name + "' is for code, " + name(there->second) +
                                ", and for data that is written, " + name(Symbol(k)),
                            "a section for each"));
  }
  return out;
}

DataSection section_of(const SymbolRow& data) {
  bool addresses = !data.data.references().empty(), is_const = data.data.is_const;
  bool zeros = !is_const && data.data.is_zero();
  std::string name = !data.section.empty() ? data.section
                     : is_const            ? (addresses ? ".data.rel.ro" : ".rodata")
                     : zeros               ? ".bss"
                                           : ".data";
  return {name, !is_const || addresses, name == ".bss" && zeros};
}

ObjectFile make_object(const machine::LoweredModule& lowered, const machine::Target& target,
                       const ObjectOptions& options) {
  return object::Maker(lowered, target).run(options);
}

}  // namespace porphyry
