#include "porphyry/ir/link.h"

#include <algorithm>

namespace porphyry {
namespace {

const char* kind_text(SymbolKind k) {
  switch (k) {
    case SymbolKind::Function: return "a function";
    case SymbolKind::Data: return "data";
    case SymbolKind::ExternFunction: return "an external function";
    case SymbolKind::ExternData: return "external data";
  }
  return "";
}

bool is_external(SymbolKind k) { return k == SymbolKind::ExternFunction || k == SymbolKind::ExternData; }
bool is_callable(SymbolKind k) { return k == SymbolKind::Function || k == SymbolKind::ExternFunction; }

// Takes parts of one module over into another.
class Importer {
 public:
  Importer(Module& into, const Module& from) : into_(into), from_(from) {}

  // Looks first, changes nothing.
  Diagnostics problems(const std::vector<Symbol>& wanted) {
    if (into_.layout != from_.layout)
      complain("the modules lay out memory differently", "one byte order and one width of pointers");
    for (Symbol s : wanted) symbol_problem(s);
    for (size_t k = 0; k < from_.kinds.tree_count(); ++k) tree_problem(KindTree(k));
    return std::move(out_);
  }

  void run(const std::vector<Symbol>& wanted) {
    import_sources();
    import_positions();
    import_kinds();
    symbols_.resize(from_.symbol_count());
    stays_.resize(from_.symbol_count());
    for (Symbol s : wanted) import_symbol(s);
    for (Symbol s : wanted) import_contents(s);
  }
  Symbol symbol(Symbol s) const { return symbols_[s.index]; }

 private:
  void complain(std::string message, std::string expected) {
    out_.push_back(complaint(std::move(message), std::move(expected)));
  }
  Name name(Name n) const { return n.exists() ? into_.realm().name(from_.text(n)) : Name(); }

  // ---- symbols that meet ----------------------------------------------------------------------------------

  // The symbol of the same name that the imported one meets; none for local ones, which stay apart.
  Symbol counterpart(Symbol s) const {
    if (from_[s].is_local) return {};
    Symbol there = into_.find(from_.symbol_name(s));
    return there.exists() && !into_[there].is_local ? there : Symbol();
  }

  void symbol_problem(Symbol s) {
    Symbol there = counterpart(s);
    if (!there.exists()) return;
    const SymbolRow &a = into_[there], &b = from_[s];
    std::string shown = "'" + std::string(from_.symbol_name(s)) + "'";
    if (is_callable(a.kind) != is_callable(b.kind))
      return complain(
          shown + " is " + kind_text(a.kind) + " in one module and " + kind_text(b.kind) + " in the other",
          "one thing of that name");
    const Signature *x = into_.signature(there), *y = from_.signature(s);
    if (x && *x != *y)
      return complain(shown + " is " + x->text() + " in one module and " + y->text() + " in the other",
                      "the same parameters and results");
    bool both = !is_external(a.kind) && !is_external(b.kind);
    if (both && !a.is_weak && !b.is_weak)
      complain("both modules have " + std::string(kind_text(a.kind)) + " called " + shown,
               "it in one of them, and in the other 'extern', 'local' or 'weak'");
  }

  // A local name that is taken gets a number behind it.
  Name another_name(Name wanted) const {
    return into_.realm().name(free_name(into_, into_.realm().text(wanted)));
  }

  void import_symbol(Symbol s) {
    const SymbolRow& row = from_[s];
    Symbol there = counterpart(s);
    if (there.exists()) {
      symbols_[s.index] = there;
      SymbolRow& old = into_[there];
      bool replaces = !is_external(row.kind) && (is_external(old.kind) || (old.is_weak && !row.is_weak));
      if (!replaces) {
        stays_[s.index] = 1;
        return;
      }
      old.kind = row.kind, old.is_weak = row.is_weak;
      old.section = row.section, old.facts = row.facts;
      old.signature = {};
      old.function.reset();
      old.data = {};
      return;
    }
    Name wanted = name(row.name);
    if (Symbol clash = into_.find(from_.text(row.name)); clash.exists()) {
      if (row.is_local)
        wanted = another_name(wanted);
      else
        into_.rename(clash, another_name(wanted));  // the other one is local
    }
    symbols_[s.index] = into_.add({.name = wanted,
                                   .kind = row.kind,
                                   .is_local = row.is_local,
                                   .is_weak = row.is_weak,
                                   .section = row.section,
                                   .facts = row.facts,
                                   .signature = row.signature});
  }

  void import_contents(Symbol s) {
    if (stays_[s.index]) return;
    SymbolRow& to = into_[symbols_[s.index]];
    const SymbolRow& row = from_[s];
    if (row.kind == SymbolKind::Data) {
      to.data = row.data;
      for (DataPiece& piece : to.data.pieces)
        for (Symbol& at : piece.symbols) at = reference(at);
    }
    if (row.kind == SymbolKind::Function) {
      to.function = std::make_unique<Function>(*row.function);
      adapt(*to.function);
    }
  }

  // A symbol that a function or data refers to; declared external when it is not taken over itself.
  Symbol reference(Symbol s) {
    if (symbols_[s.index].exists()) return symbols_[s.index];
    const SymbolRow& row = from_[s];
    Symbol there = into_.find(from_.text(row.name));
    if (!there.exists()) {
      bool callable = is_callable(row.kind);
      there = into_.add({.name = name(row.name),
                         .kind = callable ? SymbolKind::ExternFunction : SymbolKind::ExternData,
                         .facts = row.facts,
                         .signature = callable ? Boxed<Signature>(*from_.signature(s)) : Boxed<Signature>()});
    }
    return symbols_[s.index] = there;
  }

  // ---- bodies ---------------------------------------------------------------------------------------------

  // A copied function speaks of names, symbols, positions and kinds of its old module.
  void adapt(Function& f) {
    for (size_t k = 0; k < f.value_limit(); ++k)
      if (Name n = f.name(Value(k)); n.exists()) f.set_name(Value(k), name(n));
    for (size_t k = 0; k < f.block_limit(); ++k)
      if (Name n = f.name(Block(k)); n.exists()) f.set_name(Block(k), name(n));
    for (size_t k = 0; k < f.instruction_limit(); ++k) {
      Instruction i(k);
      if (!f.alive(i)) continue;
      if (f.position(i).exists()) f.set_position(i, positions_[f.position(i).index]);
      Detail detail = info(f.op(i)).detail();
      if (detail == Detail::Symbol) f.set_detail(i, reference(f.symbol(i)).index);
      if (detail == Detail::Name) f.set_detail(i, name(f.watched(i)).index);
      if (detail != Detail::Address) continue;
      Address a = f.address(i);
      if (!a.kind.exists()) continue;
      a.kind = path(a.kind);
      f.set_address(i, a);
    }
  }

  // Positions refer to earlier ones only, so one walk in order finds them all.
  void import_positions() {
    for (size_t k = 0; k < from_.position_count(); ++k) {
      PositionRow row = from_.position(Position(k));
      row.source = source_of(row.source);
      row.inlined = name(row.inlined);
      if (row.inlined_at.exists()) row.inlined_at = positions_[row.inlined_at.index];
      if (row.merged_with.exists()) row.merged_with = positions_[row.merged_with.index];
      positions_.push_back(into_.add_position(row));
    }
  }

  uint32_t source_of(uint32_t number) const {
    for (auto [from, to] : sources_)
      if (from == number) return to;
    return number;
  }

  // Sources are the same when their names are; numbers that are taken change.
  void import_sources() {
    for (const SourceFile& s : from_.sources) {
      auto same = std::find_if(into_.sources.begin(), into_.sources.end(),
                               [&](const SourceFile& o) { return o.name == s.name; });
      if (same != into_.sources.end()) {
        sources_.push_back({s.number, same->number});
        continue;
      }
      bool taken = false;
      uint32_t greatest = 0;
      for (const SourceFile& o : into_.sources)
        taken |= o.number == s.number, greatest = std::max(greatest, o.number);
      uint32_t number = taken ? greatest + 1 : s.number;
      sources_.push_back({s.number, number});
      into_.sources.push_back({number, s.name});
    }
  }

  // ---- kinds ----------------------------------------------------------------------------------------------

  KindTree same_tree(KindTree t) const {
    Name n = into_.realm().find(from_.text(from_.kinds.name(t)));
    return n.exists() ? into_.kinds.find_tree(n) : KindTree();
  }

  // A tree as text that does not depend on handles.
  static std::string tree_text(const Module& m, KindTree t) {
    std::string out;
    const Kinds& kinds = m.kinds;
    for (size_t k = 0; k < kinds.kind_count(); ++k) {
      const KindRow& row = kinds[Kind(k)];
      if (row.tree != t) continue;
      out.append(m.text(row.name)).append(" under ");
      if (row.parent.exists()) out.append(m.text(kinds[row.parent].name));
      out += " " + std::to_string(row.align) + (row.grows ? " grows " : " ") + std::to_string(row.least) +
             " " + std::to_string(row.most) + "\n";
    }
    for (size_t k = 0; k < kinds.record_count(); ++k) {
      const RecordRow& row = kinds[Record(k)];
      if (row.tree != t) continue;
      out.append(m.text(row.name)) += " " + std::to_string(row.size);
      for (const RecordMember& member : row.members) {
        out += " " + std::to_string(member.offset) + " ";
        out.append(m.text(member.name)).append(": ");
        out.append(m.text(member.kind.exists() ? kinds[member.kind].name : kinds[member.record].name));
      }
      out += "\n";
    }
    return out;
  }

  void tree_problem(KindTree t) {
    KindTree there = same_tree(t);
    if (there.exists() && tree_text(into_, there) != tree_text(from_, t))
      complain("the kinds '" + std::string(from_.text(from_.kinds.name(t))) + "' differ between the modules",
               "the same kinds and records under one name");
  }

  void import_kinds() {
    const Kinds& kinds = from_.kinds;
    Kinds& to = into_.kinds;
    std::vector<KindTree> trees(kinds.tree_count());
    std::vector<uint8_t> is_new(kinds.tree_count());
    for (size_t k = 0; k < trees.size(); ++k) {
      trees[k] = same_tree(KindTree(k));
      is_new[k] = !trees[k].exists();
      if (is_new[k]) trees[k] = to.add_tree(name(kinds.name(KindTree(k))));
    }
    std::vector<Record> records(kinds.record_count());
    kinds_.resize(kinds.kind_count());
    size_t next_kind = to.kind_count(), next_record = to.record_count();
    for (size_t k = 0; k < kinds_.size(); ++k) {
      const KindRow& row = kinds[Kind(k)];
      kinds_[k] =
          is_new[row.tree.index] ? Kind(next_kind++) : to.find_kind(trees[row.tree.index], name(row.name));
    }
    for (size_t k = 0; k < records.size(); ++k) {
      const RecordRow& row = kinds[Record(k)];
      records[k] = is_new[row.tree.index] ? Record(next_record++)
                                          : to.find_record(trees[row.tree.index], name(row.name));
    }
    for (size_t k = 0; k < kinds_.size(); ++k) {
      KindRow row = kinds[Kind(k)];
      if (!is_new[row.tree.index]) continue;
      if (row.parent.exists()) row.parent = kinds_[row.parent.index];
      row.name = name(row.name), row.tree = trees[row.tree.index];
      to.add_kind(row);
    }
    for (size_t k = 0; k < records.size(); ++k) {
      RecordRow row = kinds[Record(k)];
      if (!is_new[row.tree.index]) continue;
      for (RecordMember& m : row.members) {
        m.name = name(m.name);
        if (m.kind.exists()) m.kind = kinds_[m.kind.index];
        if (m.record.exists()) m.record = records[m.record.index];
      }
      to.add_record({name(row.name), trees[row.tree.index], row.size, std::move(row.members)});
    }
    for (size_t k = 0; k < kinds.path_count(); ++k) {
      const KindPathRow& row = kinds[KindPath(k)];
      paths_.push_back(row.record.exists() ? *to.path(records[row.record.index], row.members)
                                           : to.path(kinds_[row.kind.index]));
    }
  }
  KindPath path(KindPath p) const { return paths_[p.index]; }

  Module& into_;
  const Module& from_;
  Diagnostics out_;
  std::vector<Symbol> symbols_;  // by symbol of from_
  std::vector<uint8_t> stays_;   // of from_: into_ keeps what it has instead
  std::vector<Position> positions_;
  std::vector<std::pair<uint32_t, uint32_t>> sources_;
  std::vector<Kind> kinds_;
  std::vector<KindPath> paths_;
};

}  // namespace

std::string free_name(const Module& module, std::string_view wanted) {
  std::string out(wanted);
  for (int k = 2; module.find(out).exists(); ++k) out = std::string(wanted) + "_" + std::to_string(k);
  return out;
}

Diagnostics link(Module& into, const Module& other) {
  std::vector<Symbol> all;
  for (size_t k = 0; k < other.symbol_count(); ++k) all.push_back(Symbol(k));
  Importer importer(into, other);
  Diagnostics problems = importer.problems(all);
  if (!problems.empty()) return problems;
  importer.run(all);
  for (const Module::Comment& c : other.comments)
    if (c.above == Module::Comment::Above::Symbol && c.index < other.symbol_count())
      into.comments.push_back({c.above, importer.symbol(Symbol(c.index)).index, c.text, c.part});
  return {};
}

Result<Symbol> copy_function(Module& into, const Module& from, Symbol function) {
  Importer importer(into, from);
  Diagnostics problems = importer.problems({function});
  if (!problems.empty()) return problems;
  importer.run({function});
  return importer.symbol(function);
}

}  // namespace porphyry
