#include "porphyry/print/print.h"

#include <fmt/compile.h>
#include <fmt/format.h>

#include <map>

#include "function_text.h"
#include "porphyry/print/literals.h"

namespace porphyry {
namespace text {
namespace {

using Above = Module::Comment::Above;

class ModuleWriter {
 public:
  explicit ModuleWriter(const Module& module) : module_(module) {
    for (size_t k = 0; k < module.comments.size(); ++k)
      comments_[{module.comments[k].above, module.comments[k].index, module.comments[k].part}].push_back(k);
  }

  std::string run() {
    comments(Above::Module, 0, "");
    out_ += "module " + shown(module_.name()) + "\n";
    out_ += module_.layout.order == ByteOrder::Big ? "layout big" : "layout little";
    if (module_.layout.pointer_bits != 64) out_ += fmt::format(" pointers {}", module_.layout.pointer_bits);
    out_ += "\n";
    for (const SourceFile& f : module_.sources)
      out_ += fmt::format("source {} {}\n", f.number, quoted(f.name));
    for (size_t k = 0; k < module_.kinds.tree_count(); ++k) tree(KindTree(k));
    for (size_t k = 0; k < module_.symbol_count(); ++k) symbol(Symbol(k));
    comments(Above::End, 0, "");
    return std::move(out_);
  }

 private:
  std::string shown(Name n) const { return shown_name(module_.text(n)); }

  bool has_comments(Above above, uint32_t index, size_t part) const {
    return comments_.contains({above, index, static_cast<uint32_t>(part)});
  }
  void comments(Above above, uint32_t index, const char* indent, size_t part = 0) {
    auto found = comments_.find({above, index, static_cast<uint32_t>(part)});
    if (found == comments_.end()) return;
    for (size_t k : found->second) out_ += indent + module_.comments[k].text + "\n";
  }

  void tree(KindTree t) {
    const Kinds& kinds = module_.kinds;
    out_ += "\n";
    comments(Above::Kinds, t.index, "");
    out_ += "kinds " + shown(kinds.name(t)) + " {\n";
    for (size_t k = 0; k < kinds.kind_count(); ++k) {
      const KindRow& row = kinds[Kind(k)];
      if (row.tree != t) continue;
      comments(Above::Kind, static_cast<uint32_t>(k), "  ");
      out_ += "  " + shown(row.name);
      if (row.parent.exists()) out_ += " under " + shown(kinds[row.parent].name);
      if (row.align) out_ += fmt::format(" align {}", row.align);
      if (row.grows) out_ += " grows";
      if (row.is_bounded()) out_ += fmt::format(" from {} to {}", row.least, row.most);
      out_ += "\n";
    }
    for (size_t k = 0; k < kinds.record_count(); ++k) {
      if (kinds[Record(k)].tree != t) continue;
      comments(Above::Record, static_cast<uint32_t>(k), "  ");
      record(static_cast<uint32_t>(k), kinds[Record(k)]);
    }
    comments(Above::KindsEnd, t.index, "");
    out_ += "}\n";
  }

  // On one line, or, when comments stand inside, each member on its own.
  void record(uint32_t index, const RecordRow& row) {
    bool apart = false;
    for (size_t k = 0; k <= row.members.size(); ++k) apart |= has_comments(Above::Record, index, k + 1);
    out_ += fmt::format("  record {} size {} {{{}", shown(row.name), row.size, apart ? "\n" : "");
    for (size_t k = 0; k < row.members.size(); ++k) {
      const RecordMember& m = row.members[k];
      Name kind = m.kind.exists()     ? module_.kinds[m.kind].name
                  : m.record.exists() ? module_.kinds[m.record].name
                                      : Name();
      comments(Above::Record, index, "    ", k + 1);
      const char* before = apart ? "    " : " ";
      bool last = k + 1 == row.members.size();
      out_ += fmt::format("{}{} {}: {}{}{}", before, m.offset, shown(m.name), shown(kind), last ? "" : ",",
                          apart ? "\n" : "");
    }
    comments(Above::Record, index, "    ", row.members.size() + 1);
    out_ += apart ? "  }\n" : row.members.empty() ? "}\n" : " }\n";
  }

  void symbol(Symbol s) {
    SymbolKind kind = module_[s].kind;
    bool apart = s.index == 0 || kind == SymbolKind::Function || has_comments(Above::Symbol, s.index, 0) ||
                 module_[Symbol(s.index - 1)].kind == SymbolKind::Function;
    if (apart) out_ += "\n";
    comments(Above::Symbol, s.index, "");
    const SymbolRow& row = module_[s];
    std::string name = shown(row.name);
    if (kind == SymbolKind::ExternData) {
      out_ += "extern data " + name + "\n";
    } else if (kind == SymbolKind::ExternFunction) {
      out_ +=
          "extern func " + name + signature_text(*row.signature, row.facts) + facts_text(row.facts) + "\n";
    } else {
      out_ += linkage(row);
      if (kind == SymbolKind::Function)
        FunctionWriter(module_, *row.function).write(out_, s);
      else
        data(s, name, row.data);
    }
  }

  static std::string linkage(const SymbolRow& row) {
    std::string out;
    if (row.is_local) out += "local ";
    if (row.is_weak) out += "weak ";
    if (!row.section.empty()) out += "section " + quoted(row.section) + " ";
    return out;
  }

  // Elements follow each other on the line; one with comments above it begins its own.
  void data(Symbol s, const std::string& name, const DataItem& item) {
    out_ += "data " + name + (item.is_const ? " const" : "");
    if (item.align != 1) out_ += fmt::format(" align {}", item.align);
    out_ += " holds";
    bool first = true;
    size_t element = 1;
    for (const DataPiece& p : item.pieces) {
      std::vector<std::string> elements = elements_of(p);
      if (elements.empty()) continue;
      // What stands above a piece stands above its first element; the first piece begins on the item's line.
      if (!first) next_line(s, element, ";", " ");
      out_ += (first ? " " : "") + title_of(p) + ":";
      for (size_t k = 0; k < elements.size(); ++k, ++element) {
        if (k > 0 || first)
          next_line(s, element, k > 0 ? "," : "", " ");
        else
          out_ += " ";
        out_ += elements[k];
      }
      first = false;
    }
    if (first) out_ += " zero: 0";
    out_ += "\n";
  }
  void next_line(Symbol s, size_t element, const char* mark, const char* space) {
    out_ += mark;
    if (!has_comments(Above::Symbol, s.index, element)) return void(out_ += space);
    out_ += "\n";
    comments(Above::Symbol, s.index, "  ", element);
    out_ += "  ";
  }

  static std::string title_of(const DataPiece& p) {
    switch (p.kind) {
      case DataPiece::Kind::Zero: return "zero";
      case DataPiece::Kind::Bytes: return "bytes";
      case DataPiece::Kind::Addresses: return "address";
      case DataPiece::Kind::Numbers: break;
    }
    return p.type.name();
  }
  std::vector<std::string> elements_of(const DataPiece& p) const {
    switch (p.kind) {
      case DataPiece::Kind::Zero: return {std::to_string(p.zero_bytes)};
      case DataPiece::Kind::Bytes: return {quoted(p.bytes)};
      case DataPiece::Kind::Addresses: {
        std::vector<std::string> out;
        for (Symbol s : p.symbols) out.push_back(shown_name(module_.symbol_name(s)));
        return out;
      }
      case DataPiece::Kind::Numbers: break;
    }
    std::vector<std::string> out;
    unsigned step = p.type.words();
    for (size_t k = 0; k < p.numbers.size(); k += step)
      out.push_back(literal_text({&p.numbers[k], step}, p.type));
    return out;
  }

  const Module& module_;
  std::string out_;
  std::map<std::tuple<Above, uint32_t, uint32_t>, std::vector<size_t>> comments_;
};

}  // namespace
}  // namespace text

std::string write_text(const Module& module) { return text::ModuleWriter(module).run(); }

std::string write_text(const Module& module, Symbol function, Columns columns) {
  std::string out;
  text::FunctionWriter(module, module.function(function), columns == Columns::Aligned).write(out, function);
  return out;
}

std::string write_text(const Module& module, const Function& function, Instruction i) {
  return text::FunctionWriter(module, function).instruction(i);
}

std::string value_text(const Module& module, const Function& function, Value v) {
  return text::FunctionWriter(module, function).value(v);
}

std::string block_text(const Module& module, const Function& function, Block b) {
  return text::FunctionWriter(module, function).block(b);
}

namespace {

// Each position after a mark: the call it was inlined at, and the one that was merged with it.
template <class One>
std::string chain_text(const Module& module, Position p, std::string_view mark, One one) {
  std::string out;
  while (p.exists()) {
    Position merged = module.position(p).merged_with;
    std::string_view before = " and ";
    for (; p.exists(); p = module.position(p).inlined_at, before = " in ") {
      const PositionRow& row = module.position(p);
      if (!out.empty()) (out += before) += mark;
      out += one(row);
      if (row.inlined.exists()) out += " of " + shown_name(module.text(row.inlined));
    }
    p = merged;
  }
  return out;
}

}  // namespace

std::string position_text(const Module& module, Position p) {
  return chain_text(module, p, "@", [](const PositionRow& row) {
    return fmt::format(FMT_COMPILE("{}:{}:{}"), row.source, row.line, row.column);
  });
}

std::string place_text(const Module& module, Position p) {
  return chain_text(module, p, "", [&](const PositionRow& row) {
    std::string source = std::to_string(row.source);
    for (const SourceFile& s : module.sources)
      if (s.number == row.source) source = s.name;
    return fmt::format("{}:{}:{}", source, row.line, row.column);
  });
}

std::string path_text(const Module& module, KindPath p) {
  const Kinds& kinds = module.kinds;
  const KindPathRow& row = kinds[p];
  std::string out = shown_name(module.text(kinds.name(row.tree)));
  auto step = [&](Name n) { out += "." + shown_name(module.text(n)); };
  if (!row.record.exists()) return step(kinds[row.kind].name), out;
  step(kinds[row.record].name);
  Record at = row.record;
  for (uint16_t m : row.members) {
    step(kinds[at].members[m].name);
    at = kinds[at].members[m].record;
  }
  return out;
}

}  // namespace porphyry
