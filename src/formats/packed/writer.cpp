#include <bit>
#include <unordered_map>

#include "codes.h"
#include "porphyry/base/hash.h"
#include "porphyry/base/leb128.h"
#include "porphyry/formats/packed.h"
#include "porphyry/ir/order.h"

namespace porphyry {

// Part of the format: it stays as it is.
// The steps are in docs/packed.md; their constants and the mixer at the end are those of base/hash.h.
uint64_t packed_checksum(std::string_view payload) {
  uint64_t h = 0x9e3779b97f4a7c15u ^ payload.size();
  for (; payload.size() >= 8; payload.remove_prefix(8)) {
    uint64_t word;
    std::memcpy(&word, payload.data(), 8);
    h = (h ^ word) * 0x9fb21c651e98df25u;
    h ^= h >> 29;
  }
  uint64_t word = 0;
  if (!payload.empty()) std::memcpy(&word, payload.data(), payload.size());
  return mixed(h ^ word);
}

namespace packed {
namespace {

class Out {
 public:
  void byte(uint8_t b) { bytes_.push_back(static_cast<char>(b)); }
  void number(uint64_t n) {
    put_uleb(n, [&](uint8_t b) { byte(b); });
  }
  void signed_number(int64_t n) { number(zigzag(n)); }
  void text(std::string_view s) {
    number(s.size());
    bytes_.append(s);
  }
  void type(Type t) { number(type_code(t)); }
  std::string& bytes() { return bytes_; }

 private:
  std::string bytes_;
};

// Names in the order they are first met.
class NameList {
 public:
  uint64_t ref(Name n) {
    if (!n.exists()) return 0;
    uint32_t known = refs_.get(n);
    if (known) return known;
    names_.push_back(n);
    refs_.set(n, static_cast<uint32_t>(names_.size()));
    return names_.size();
  }
  const std::vector<Name>& names() const { return names_; }

 private:
  SideTable<Name, uint32_t> refs_;
  std::vector<Name> names_;
};

class FunctionPacker {
 public:
  FunctionPacker(Out& out, NameList& names, const Function& f)
      : out_(out), names_(names), f_(f), number_(f.value_limit()) {}

  void run() {
    order_ = readable_order(f_);
    gather();
    size_t slots = 0, results = 0, edges = 0;
    for (Instruction i : instructions_) {
      slots += f_.operand_count(i), results += f_.result_count(i), edges += f_.edge_count(i);
      for (Edge e : f_.edges(i)) slots += f_.argument_count(e);
    }
    size_t parameters = 0;
    for (Block b : order_) parameters += f_.parameters(b).size();
    for (size_t count :
         {instructions_.size(), slots, results, edges, constants_.size(), order_.size(), parameters})
      out_.number(count);
    for (Value v : f_.parameters()) out_.number(names_.ref(f_.name(v)));
    constants();
    blocks();
    shapes();
    for (Block b : order_) {
      out_.number(f_.instructions(b).count());
      for (Instruction i : f_.instructions(b)) instruction(i);
    }
    comments();
  }

 private:
  void give_number(Value v) { number_[v.index] = next_++; }

  // Values are numbered: parameters, constants, block parameters, results, each in the order of the text.
  void gather() {
    std::vector<uint8_t> seen(f_.value_limit());
    block_number_.resize(f_.block_limit());
    for (Value v : f_.parameters()) give_number(v);
    auto use = [&](Value v) {
      if (!f_.is_constant(v) || seen[v.index]) return;
      seen[v.index] = 1;
      constants_.push_back(v);
    };
    for (uint32_t k = 0; k < order_.size(); ++k) block_number_[order_[k].index] = k;
    for (Block b : order_)
      for (Instruction i : f_.instructions(b)) {
        instructions_.push_back(i);
        for (Value v : f_.operands(i)) use(v);
        for (Edge e : f_.edges(i))
          for (Value v : f_.arguments(e)) use(v);
      }
    for (Value v : constants_) give_number(v);
    for (Block b : order_)
      for (Value v : f_.parameters(b)) give_number(v);
    uint32_t first_result = next_;
    for (Instruction i : instructions_)
      for (Value v : f_.results(i)) give_number(v);
    next_ = first_result;
  }

  void constants() {
    for (Value v : constants_) {
      Type t = f_.type(v);
      bool uniform = t.has_lanes() && f_.is_uniform(v);
      out_.type(t);
      if (t.has_lanes()) out_.byte(uniform);
      auto words = f_.constant_words(v);
      for (uint64_t w : uniform ? words.first(t.words_per_lane()) : words)
        t.is_float() ? out_.number(std::rotl(w, t.bits() == 64 ? 12 : 44)) : out_.number(w);
    }
  }

  void blocks() {
    for (Block b : order_) {
      out_.number(names_.ref(f_.name(b)));
      out_.number(f_.parameters(b).size());
      for (Value v : f_.parameters(b)) {
        out_.type(f_.type(v));
        out_.number(names_.ref(f_.name(v)));
      }
    }
  }

  // Addresses, each shape once.
  void shapes() {
    shape_of_.assign(instructions_.size() ? 1 : 0, 0);
    std::vector<Address> list;
    for (Instruction i : instructions_) {
      if (info(f_.op(i)).detail() != Detail::Address) continue;
      uint32_t detail = f_.detail(i);
      if (detail >= shape_of_.size()) shape_of_.resize(detail + 1);
      if (shape_of_[detail]) continue;
      list.push_back(f_.address(i));
      shape_of_[detail] = static_cast<uint32_t>(list.size());
    }
    out_.number(list.size());
    for (const Address& a : list) address(a);
  }

  void address(const Address& a) {
    out_.byte(static_cast<uint8_t>((a.indexed ? indexed : 0) | (a.masked ? masked : 0) |
                                   (a.is_volatile ? is_volatile : 0) | (a.early ? early : 0) |
                                   (a.guarded ? guarded : 0) | (a.as_unwritten ? as_unwritten : 0) |
                                   (a.kind.exists() ? has_kind : 0)));
    out_.byte(static_cast<uint8_t>(std::countr_zero(a.align)));
    if (a.indexed) out_.number(static_cast<uint64_t>(a.scale));
    out_.signed_number(a.offset);
    if (a.kind.exists()) out_.number(a.kind.index);
  }

  // Backwards as a distance; forwards, which only code that cannot be reached does, as zero and the number.
  void value(Value v) {
    uint32_t n = number_[v.index];
    if (n < next_) return out_.number(next_ - n);
    out_.byte(0);
    out_.number(n);
  }

  void instruction(Instruction i) {
    uint8_t promises = f_.promises(i), permits = f_.permits(i);
    bool named = false, weighted = false;
    for (Value v : f_.results(i)) named |= f_.name(v).exists();
    for (Edge e : f_.edges(i)) weighted |= f_.weight(e) != Function::no_weight;
    Position position = f_.position(i);
    out_.byte(static_cast<uint8_t>(f_.op(i)));
    out_.byte(static_cast<uint8_t>((promises ? has_promises : 0) | (permits ? has_permits : 0) |
                                   (position.exists() ? has_position : 0) |
                                   static_cast<uint8_t>(f_.hint(i)) << hint_shift | (named ? has_names : 0) |
                                   (weighted ? has_weights : 0)));
    if (promises) out_.byte(promises);
    if (permits) out_.byte(permits);
    if (position.exists()) {
      out_.signed_number(int64_t(position.index) - last_position_);
      last_position_ = position.index;
    }
    const OperationInfo& row = info(f_.op(i));
    if (!has_fixed_operands(row)) out_.number(f_.operand_count(i));
    for (Value v : f_.operands(i)) value(v);
    if (row.calls()) out_.number(f_.result_count(i));
    for (Value v : f_.results(i)) out_.type(f_.type(v));
    if (named)
      for (Value v : f_.results(i)) out_.number(names_.ref(f_.name(v)));
    detail(i);
    edges(i, weighted);
    next_ += static_cast<uint32_t>(f_.result_count(i));
  }

  void detail(Instruction i) {
    switch (info(f_.op(i)).detail()) {
      case Detail::Address: return out_.number(shape_of_[f_.detail(i)] - 1);
      case Detail::Copy: address(f_.copy_shape(i).to); return address(f_.copy_shape(i).from);
      case Detail::Reserve:
        out_.number(f_.reserve_shape(i).bytes);
        return out_.byte(static_cast<uint8_t>(std::countr_zero(f_.reserve_shape(i).align)));
      case Detail::Symbol: return out_.number(f_.symbol(i).index);
      case Detail::Name: return out_.number(names_.ref(f_.watched(i)));
      case Detail::Lanes:
        for (unsigned k = 0; k < f_.type(f_.result(i)).lanes(); ++k) out_.number(f_.shuffle_lane(i, k));
        return;
      case Detail::Cases:  // with the edges
      case Detail::None: return;
    }
  }

  void edges(Instruction i, bool weighted) {
    if (f_.op(i) == Op::Choose) {
      out_.number(f_.edge_count(i));
      for (size_t k = 0; k + 1 < f_.edge_count(i); ++k) {
        Bits w = f_.case_value(i, k);
        out_.number(static_cast<uint64_t>(w));
        if (f_.type(f_.operand(i, 0)).bits() > 64) out_.number(static_cast<uint64_t>(w >> 64));
      }
    }
    for (Edge e : f_.edges(i)) {
      out_.number(block_number_[f_.to(e).index]);
      out_.number(f_.argument_count(e));
      for (Value v : f_.arguments(e)) value(v);
      if (weighted) out_.number(f_.weight(e) + 1);  // none becomes zero
    }
  }

  void comments() {
    std::unordered_map<uint32_t, uint32_t> places;
    if (!f_.comments.empty())
      for (uint32_t k = 0; k < instructions_.size(); ++k) places[instructions_[k].index] = k;
    out_.number(f_.comments.size());
    for (const auto& c : f_.comments) {
      bool above = c.above.exists() && places.contains(c.above.index);
      bool label = !above && c.above_label.exists() && f_.alive(c.above_label);
      out_.byte(above ? 1 : label ? 2 : 0);
      if (above) out_.number(places[c.above.index]);
      if (label) out_.number(block_number_[c.above_label.index]);
      out_.text(c.text);
    }
  }

  Out& out_;
  NameList& names_;
  const Function& f_;
  std::vector<uint32_t> number_;  // by value
  std::vector<uint32_t> block_number_;
  Blocks order_;
  std::vector<Instruction> instructions_;
  std::vector<Value> constants_;
  std::vector<uint32_t> shape_of_;  // by detail: which address, plus one
  uint32_t next_ = 0;
  int64_t last_position_ = 0;
};

class ModulePacker {
 public:
  explicit ModulePacker(const Module& module) : module_(module) {}

  std::string run() {
    head();
    kinds();
    positions();
    symbols();
    comments();
    for (Symbol s : module_.functions()) FunctionPacker(body_, names_, module_.function(s)).run();
    // Names come first in the file, and are known last.
    Out names;
    names.number(names_.names().size());
    for (Name n : names_.names()) names.text(module_.text(n));
    return sealed(names.bytes() + body_.bytes());
  }

 private:
  static std::string sealed(const std::string& payload) {
    std::string out(magic, sizeof(magic));
    auto fixed = [&](uint64_t v, unsigned bytes) {
      for (unsigned k = 0; k < bytes; ++k) out.push_back(static_cast<char>(v >> 8 * k));
    };
    fixed(packed_version, 4);
    fixed(payload.size(), 8);
    fixed(packed_checksum(payload), 8);
    return out + payload;
  }

  void head() {
    body_.number(names_.ref(module_.name()));
    body_.byte(static_cast<uint8_t>(module_.layout.order));
    body_.byte(static_cast<uint8_t>(module_.layout.pointer_bits));
    body_.number(module_.sources.size());
    for (const SourceFile& s : module_.sources) {
      body_.number(s.number);
      body_.text(s.name);
    }
  }

  void kinds() {
    const Kinds& kinds = module_.kinds;
    body_.number(kinds.tree_count());
    for (size_t k = 0; k < kinds.tree_count(); ++k) body_.number(names_.ref(kinds.name(KindTree(k))));
    body_.number(kinds.kind_count());
    for (size_t k = 0; k < kinds.kind_count(); ++k) {
      const KindRow& row = kinds[Kind(k)];
      body_.number(names_.ref(row.name));
      body_.number(row.tree.index);
      body_.number(row.parent.exists() ? row.parent.index + 1 : 0);
      body_.number(row.align + (row.grows ? 8192u : 0u) + (row.is_bounded() ? 16384u : 0u));
      if (row.is_bounded()) body_.number(row.least), body_.number(row.most);
    }
    body_.number(kinds.record_count());
    for (size_t k = 0; k < kinds.record_count(); ++k) {
      const RecordRow& row = kinds[Record(k)];
      body_.number(names_.ref(row.name));
      body_.number(row.tree.index);
      body_.number(row.size);
      body_.number(row.members.size());
      for (const RecordMember& m : row.members) {
        body_.number(m.offset);
        body_.number(names_.ref(m.name));
        body_.byte(m.record.exists());
        body_.number(m.record.exists() ? m.record.index : m.kind.index);
      }
    }
    body_.number(kinds.path_count());
    for (size_t k = 0; k < kinds.path_count(); ++k) {
      const KindPathRow& row = kinds[KindPath(k)];
      body_.number(row.record.exists() ? row.record.index + 1 : 0);
      if (!row.record.exists()) {
        body_.number(row.kind.index);
        continue;
      }
      body_.number(row.members.size());
      for (uint16_t m : row.members) body_.number(m);
    }
  }

  void positions() {
    body_.number(module_.position_count());
    int64_t line = 0;
    for (size_t k = 0; k < module_.position_count(); ++k) {
      const PositionRow& row = module_.position(Position(k));
      body_.number(row.source);
      body_.signed_number(row.line - line);
      body_.number(row.column);
      body_.number(row.inlined_at.exists() ? row.inlined_at.index + 1 : 0);
      if (row.inlined_at.exists()) body_.number(names_.ref(row.inlined));
      body_.number(row.merged_with.exists() ? row.merged_with.index + 1 : 0);
      line = row.line;
    }
  }

  void types(const std::vector<Type>& list) {
    body_.number(list.size());
    for (Type t : list) body_.type(t);
  }

  void symbols() {
    body_.number(module_.symbol_count());
    for (size_t k = 0; k < module_.symbol_count(); ++k) {
      const SymbolRow& row = module_[Symbol(k)];
      const Signature* signature = module_.signature(Symbol(k));
      bool variadic = signature && signature->variadic;
      body_.byte(static_cast<uint8_t>(static_cast<uint8_t>(row.kind) | (row.is_local ? is_local : 0) |
                                      (row.is_weak ? is_weak : 0) | (row.data.is_const ? is_const : 0) |
                                      (variadic ? is_variadic : 0)));
      body_.number(names_.ref(row.name));
      body_.text(row.section);
      if (signature) {
        types(signature->parameters);
        types(signature->results);
        facts(row.facts);
      }
      if (row.kind == SymbolKind::Data) data(row.data);
    }
  }

  void facts(const FunctionFacts& f) {
    body_.byte(f.permits);
    body_.byte(static_cast<uint8_t>(f.keep_small | static_cast<uint8_t>(f.inlining) << 1));
    body_.byte(f.outside);
    body_.number(f.marks.size());
    for (uint8_t m : f.marks) body_.byte(m);
  }

  void data(const DataItem& item) {
    body_.byte(static_cast<uint8_t>(std::countr_zero(item.align)));
    body_.number(item.pieces.size());
    for (const DataPiece& p : item.pieces) {
      body_.byte(static_cast<uint8_t>(p.kind));
      switch (p.kind) {
        case DataPiece::Kind::Zero: body_.number(p.zero_bytes); break;
        case DataPiece::Kind::Bytes: body_.text(p.bytes); break;
        case DataPiece::Kind::Addresses:
          body_.number(p.symbols.size());
          for (Symbol s : p.symbols) body_.number(s.index);
          break;
        case DataPiece::Kind::Numbers:
          body_.type(p.type);
          body_.number(p.numbers.size());
          for (uint64_t n : p.numbers) body_.number(n);
      }
    }
  }

  void comments() {
    body_.number(module_.comments.size());
    for (const auto& c : module_.comments) {
      body_.byte(static_cast<uint8_t>(static_cast<unsigned>(c.above) | (c.part ? comment_has_part : 0u)));
      body_.number(c.index);
      if (c.part) body_.number(c.part);
      body_.text(c.text);
    }
  }

  const Module& module_;
  NameList names_;
  Out body_;
};

}  // namespace
}  // namespace packed

std::string write_packed(const Module& module) { return packed::ModulePacker(module).run(); }

}  // namespace porphyry
