// From an object's bytes to listings: extents of functions, decoding, blocks at the jumps' targets, loops.
#include <cxxabi.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "porphyry/analyze/loops.h"
#include "porphyry/object/read.h"

namespace porphyry {
namespace {

using namespace machine;

std::string with_addend(std::string name, int64_t addend) {
  if (addend > 0) name += fmt::format(" + {}", addend);
  if (addend < 0) name += fmt::format(" - {}", -addend);
  return name;
}

// The name as the source has it, when it is a mangled one.
std::string source_name(const std::string& name) {
  int status = 1;
  char* plain =
      name.starts_with("_Z") ? abi::__cxa_demangle(name.c_str(), nullptr, nullptr, &status) : nullptr;
  std::string out = status == 0 && plain ? plain : "";
  std::free(plain);
  return out;
}

struct Extent {
  uint64_t from, to;
  std::string name, also;
};

// One function: decoded, cut into blocks, with its loops.
class FunctionLister {
 public:
  FunctionLister(const ReadObject& object, size_t section, const Extent& extent,
                 const std::vector<Extent>& all, const Target& target)
      : object_(object),
        section_(object.file.sections[section]),
        lines_(object.lines[section]),
        extent_(extent),
        all_(all),
        target_(target) {}

  FunctionListing run() {
    out_.name = extent_.name;
    out_.section = section_.name, out_.start = extent_.from;
    if (!extent_.also.empty()) out_.signature = "  " + extent_.also;
    decode();
    cut();
    find_loops();
    for (size_t b = 0; b < starts_.size(); ++b) {
      ListingBlock block{label(b), offset(starts_[b]), depth_[b], {}};
      for (size_t k = starts_[b]; k < end_of(b); ++k) block.lines.push_back(line(k));
      out_.blocks.push_back(std::move(block));
    }
    return std::move(out_);
  }

 private:
  struct Decoded {
    uint64_t at;  // in the section
    uint8_t size;
    bool described;
    PlainInstruction plain;
  };

  std::span<const uint8_t> bytes(uint64_t from, uint64_t to) const {
    return {reinterpret_cast<const uint8_t*>(section_.bytes.data()) + from, to - from};
  }
  uint32_t offset(size_t k) const { return static_cast<uint32_t>(code_[k].at - extent_.from); }
  size_t end_of(size_t b) const { return b + 1 < starts_.size() ? starts_[b + 1] : code_.size(); }

  void decode() {
    for (uint64_t at = extent_.from; at < extent_.to;) {
      Decoded d{at, 0, true, {}};
      d.size = target_.decode(target_, bytes(at, extent_.to), d.plain);
      if (!d.size)
        d.described = false, d.size = std::max<uint8_t>(1, target_.length(target_, bytes(at, extent_.to)));
      at += d.size;
      code_.push_back(d);
    }
  }

  // The index of the instruction that stands at a place in the section; none where none begins there.
  static constexpr size_t none = ~size_t(0);
  size_t instruction_at(uint64_t place) const {
    auto found = std::lower_bound(code_.begin(), code_.end(), place,
                                  [](const Decoded& d, uint64_t p) { return d.at < p; });
    return found != code_.end() && found->at == place ? static_cast<size_t>(found - code_.begin()) : none;
  }
  std::span<const ObjectFile::Relocation> relocations(const Decoded& d) const {
    auto before = [](const auto& r, uint64_t p) { return r.offset < p; };
    auto from = std::lower_bound(section_.relocations.begin(), section_.relocations.end(), d.at, before),
         to = std::lower_bound(from, section_.relocations.end(), d.at + d.size, before);
    return {from, to};
  }
  // Where a jump of the function's own leads, as an instruction.
  size_t target_of(const Decoded& d) const {
    if (!d.described || !relocations(d).empty() || !flow_of(target_.form(d.plain.form)).jumps) return none;
    return instruction_at(d.at + d.size + static_cast<uint64_t>(d.plain.operands[0].literal));
  }

  void cut() {
    std::vector<bool> begins(code_.size() + 1);
    begins[0] = true;
    is_target_.resize(code_.size());
    for (size_t k = 0; k < code_.size(); ++k) {
      size_t to = target_of(code_[k]);
      if (to != none) begins[to] = is_target_[to] = true;
      Flow flow = code_[k].described ? flow_of(target_.form(code_[k].plain.form)) : Flow{};
      if (flow.jumps || !flow.goes_on) begins[k + 1] = true;
    }
    for (size_t k = 0; k < code_.size(); ++k) {
      if (begins[k]) starts_.push_back(k);
      block_of_.push_back(starts_.size() - 1);
    }
  }

  std::string label(size_t b) const {
    return b == 0 ? "start" : is_target_[starts_[b]] ? fmt::format("b{}", b) : "";
  }

  // The loops are those of a function in the IR with the same blocks and ways between them.
  void find_loops() {
    Function shape(Signature{});
    Block entry = shape.add_block();
    std::vector<Block> blocks;
    for (size_t b = 0; b < starts_.size(); ++b) blocks.push_back(shape.add_block());
    auto end = [&](Block from, std::initializer_list<Block> ways) {
      std::vector<Function::Draft::Destination> targets;
      for (Block to : ways) targets.push_back({to, {}});
      Value either = shape.constant(Type::boolean(), 1);
      std::span<const Value> condition(&either, ways.size() == 2 ? 1 : 0);
      Op op = ways.size() == 2 ? Op::When : ways.size() == 1 ? Op::Go : Op::Trap;
      shape.append(from, {.op = op, .operands = condition, .targets = targets});
    };
    end(entry, {blocks[0]});
    for (size_t b = 0; b < starts_.size(); ++b) {
      const Decoded& last = code_[end_of(b) - 1];
      bool falls =
          b + 1 < starts_.size() && (!last.described || flow_of(target_.form(last.plain.form)).goes_on);
      size_t to = target_of(last);
      if (falls && to != none)
        end(blocks[b], {blocks[block_of_[to]], blocks[b + 1]});
      else if (falls || to != none)
        end(blocks[b], {blocks[falls ? b + 1 : block_of_[to]]});
      else
        end(blocks[b], {});
    }
    Dominators dominators(shape);
    Loops loops(shape, dominators);
    for (Block b : blocks) depth_.push_back(dominators.reachable(b) ? loops.depth(b) : 0);
  }

  ListingLine line(size_t k) {
    const Decoded& d = code_[k];
    ListingLine out{.offset = offset(k)};
    auto raw = bytes(d.at, d.at + d.size);
    out.bytes.assign(raw.begin(), raw.end());
    auto after = std::upper_bound(lines_.begin(), lines_.end(), d.at,
                                  [](uint64_t p, const auto& l) { return p < l.offset; });
    if (after != lines_.begin()) out.position = (after - 1)->position;
    auto& t = out_.totals;
    t.bytes += d.size;
    if (!d.described) {
      ++t.instructions;
      ++t.not_described;
      t.bytes_not_described += d.size;
      out.text =
          fmt::format("{} {} that the book does not describe", +d.size, d.size == 1 ? "byte" : "bytes");
      for (const ObjectFile::Relocation& r : relocations(d)) tell(out.operation, relocated(d, r));
      return out;
    }
    const Form& form = target_.form(d.plain.form);
    machine::count(t, form);
    out.text = spell(target_, d.plain, names(d, out.operation));
    return out;
  }

  static void tell(std::string& list, const std::string& more) {
    list += (list.empty() ? "with " : ", ") + more;
  }

  // What the linker puts into a place, said of its symbol.
  std::string relocated(const Decoded& d, const ObjectFile::Relocation& r) const {
    if (r.symbol >= object_.file.symbols.size()) return "?";
    const RelocationFact* fact = fact_of(r);
    // A distance is counted from the place; the processor counts it from the instruction's end.
    int64_t addend = r.addend + (fact && fact->relative ? static_cast<int64_t>(d.at + d.size - r.offset) : 0);
    std::string name = object_.file.symbols[r.symbol].name;
    name = with_addend(name.empty() ? "?" : name, addend);
    return fact ? std::string(fact->what) + name : fmt::format("relocation {} of {}", r.type, name);
  }
  const RelocationFact* fact_of(const ObjectFile::Relocation& r) const {
    for (const RelocationFact& fact : target_.object.relocations)
      if (fact.type == r.type) return &fact;
    return nullptr;
  }

  // The operand that a relocation's place belongs to: a literal ends the instruction, an address stands
  // before it. Its number, or `none` when it fits none.
  size_t operand_at(const Decoded& d, const ObjectFile::Relocation& r) const {
    const RelocationFact* fact = fact_of(r);
    const Form& form = target_.form(d.plain.form);
    if (!fact || fact->bytes == 0) return none;
    uint64_t behind = d.at + d.size - r.offset;  // bytes from the place to the instruction's end
    size_t address = none;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      bool ends =
          o.kind == OperandKind::Literal || o.kind == OperandKind::Label || o.kind == OperandKind::Symbol;
      if (ends && o.only < 0 && behind == fact->bytes && o.literal_bits == 8 * fact->bytes) return k;
      if (ends && o.kind != OperandKind::Literal && behind == fact->bytes) return k;
      if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) address = k;
    }
    return address;
  }

  // By operand: what its label, symbol, literal or address names. What fits no operand is told aside.
  OperandNames names(const Decoded& d, std::string& aside) const {
    OperandNames out;
    for (const ObjectFile::Relocation& r : relocations(d)) {
      size_t k = operand_at(d, r);
      if (k != none && out[k].empty())
        out[k] = relocated(d, r);
      else
        tell(aside, relocated(d, r));
    }
    for (size_t k = 0; k < target_.form(d.plain.form).operands.size(); ++k) {
      const PlainOperand& o = d.plain.operands[k];
      bool code = o.kind == OperandKind::Label || o.kind == OperandKind::Symbol;
      bool address = o.kind == OperandKind::Memory || o.kind == OperandKind::Address;
      if (!out[k].empty() || (!code && !(address && o.address.relative))) continue;
      int64_t distance = code ? o.literal : o.address.displacement;
      out[k] = code_named(d.at + d.size + static_cast<uint64_t>(distance));
    }
    return out;
  }

  std::string code_named(uint64_t place) const {
    size_t k = place >= extent_.from && place < extent_.to ? instruction_at(place) : none;
    if (k != none && starts_[block_of_[k]] == k && !label(block_of_[k]).empty()) return label(block_of_[k]);
    auto after = std::upper_bound(all_.begin(), all_.end(), place,
                                  [](uint64_t p, const Extent& e) { return p < e.from; });
    if (after == all_.begin()) return with_addend(section_.name, static_cast<int64_t>(place));
    return with_addend((after - 1)->name, static_cast<int64_t>(place - (after - 1)->from));
  }

  const ReadObject& object_;
  const ObjectFile::Section& section_;
  const std::vector<ReadObject::Line>& lines_;
  const Extent& extent_;
  const std::vector<Extent>& all_;
  const Target& target_;
  std::vector<Decoded> code_;
  std::vector<bool> is_target_;   // by instruction
  std::vector<size_t> starts_;    // by block: its first instruction
  std::vector<size_t> block_of_;  // by instruction
  std::vector<unsigned> depth_;   // by block
  FunctionListing out_;
};

// The functions of a section, and the code between them, from the section's symbols of functions. Of two
// names for one place, the first with a size counts.
std::vector<Extent> extents(const ObjectFile& file, size_t section, std::span<const uint32_t> symbols) {
  const ObjectFile::Section& s = file.sections[section];
  std::vector<Extent> named, out;
  for (uint32_t k : symbols) {
    const auto& symbol = file.symbols[k];
    if (symbol.value < s.bytes.size())
      named.push_back({symbol.value, std::min<uint64_t>(symbol.value + symbol.size, s.bytes.size()),
                       symbol.name, source_name(symbol.name)});
  }
  std::stable_sort(named.begin(), named.end(), [](const Extent& a, const Extent& b) {
    return a.from != b.from ? a.from < b.from : (a.to > a.from) > (b.to > b.from);
  });
  auto same_place = [](const Extent& a, const Extent& b) { return a.from == b.from; };
  named.erase(std::unique(named.begin(), named.end(), same_place), named.end());
  uint64_t at = 0;
  auto between = [&](uint64_t to) {
    if (at < to) out.push_back({at, to, at ? fmt::format("{} + {}", s.name, at) : s.name, ""});
  };
  for (size_t k = 0; k < named.size(); ++k) {
    Extent& e = named[k];
    if (e.from < at) continue;
    uint64_t next = k + 1 < named.size() ? named[k + 1].from : s.bytes.size();
    e.to = e.to <= e.from ? next : std::min(e.to, next);  // one of no size reaches to the next one
    between(e.from);
    at = e.to;
    out.push_back(std::move(e));
  }
  between(s.bytes.size());
  return out;
}

// Fillers between functions are nothing that anyone wants to read.
bool only_fillers(const FunctionListing& l, const Target& target) {
  for (const ListingBlock& b : l.blocks)
    for (const ListingLine& x : b.lines) {
      PlainInstruction i;
      if (!target.decode(target, x.bytes, i) || !target.form(i.form).meaning.empty()) return false;
    }
  return true;
}

}  // namespace

ObjectListing list_object(const ReadObject& object, const Target& target) {
  ObjectListing out;
  std::vector<std::vector<uint32_t>> functions(object.file.sections.size());
  for (uint32_t k = 0; k < object.file.symbols.size(); ++k)
    if (const auto& symbol = object.file.symbols[k]; symbol.is_function && symbol.section < functions.size())
      functions[symbol.section].push_back(k);
  for (size_t s = 0; s < object.file.sections.size(); ++s) {
    const auto& section = object.file.sections[s];
    if (!section.is_code || section.zeros) continue;
    std::vector<Extent> all = extents(object.file, s, functions[s]);
    for (const Extent& e : all) {
      FunctionListing l = FunctionLister(object, s, e, all, target).run();
      out.instructions += l.totals.instructions;
      out.described += l.totals.instructions - l.totals.not_described;
      out.bytes += l.totals.bytes;
      out.bytes_not_described += l.totals.bytes_not_described;
      if (!only_fillers(l, target)) out.functions.push_back(std::move(l));
    }
  }
  return out;
}

}  // namespace porphyry
