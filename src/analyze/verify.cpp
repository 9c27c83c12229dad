#include "porphyry/analyze/verify.h"

#include <algorithm>

#include "porphyry/analyze/dominators.h"
#include "porphyry/base/scratch.h"
#include "porphyry/ir/typing.h"
#include "porphyry/print/print.h"
#include "verify_kinds.h"

namespace porphyry {
namespace {

// What goes from function to function: which names the one being looked at has used, without clearing a table
// for each, and memory.
struct Shared {
  SideTable<Name, uint32_t> values, blocks;  // the number of the last function that used it
  uint32_t function = 0;
  std::vector<Type> operands, results;  // of the instruction being looked at
  Scratch scratch;
};

constexpr const char* valid_types = "bool, i2 to i128, f32, f64, ptr, or up to 1,024 lanes of any but ptr";
std::string type_text(Type t) { return t.exists() ? t.name() + ", which is no type" : "of no type"; }
constexpr bool is_alignment(uint32_t n) { return n > 0 && n <= 4096 && (n & (n - 1)) == 0; }
// A comment as the text form has it: on a line of its own.
bool is_comment(const std::string& text) { return text.starts_with("--") && text.find('\n') == text.npos; }

class Verifier {
 public:
  Verifier(const Module& module, Symbol symbol, const Origin& origin, Shared& shared)
      : module_(module), symbol_(symbol), f_(module.function(symbol)), origin_(origin), shared_(shared) {
    ++shared_.function;
    shared_.scratch.reset();
  }

  Diagnostics run() {
    if (!f_.entry().exists()) {
      complain_function("the function has no block", "an entry block");
      return std::move(out_);
    }
    if (!origin_.checked_by_reader && !values_have_types()) return std::move(out_);
    if (!f_.parameters(f_.entry()).empty())
      complain(f_.entry(), "the first block has parameters", "a function's parameters instead");
    if (f_.first_in(f_.entry()).exists())
      complain(f_.entry(), "something goes to the first block", "another block to go to");
    if (!origin_.checked_by_reader)
      for (Value v : f_.parameters()) unique(f_.name(v), shared_.values, "value");
    bool whole = true;
    for (Block b : f_.blocks()) whole &= block(b);
    if (whole) dominance();
    return std::move(out_);
  }

 private:
  bool values_have_types() {
    bool all = true;
    auto look = [&](Type t) {
      if (!t.is_valid()) complain_type(t), all = false;
    };
    for (Type t : f_.signature().parameters) look(t);
    for (Type t : f_.signature().results) look(t);
    for (Block b : f_.blocks())
      for (Value v : f_.parameters(b)) look(f_.type(v));
    for (const Function::Comment& c : f_.comments)
      if (!is_comment(c.text))
        complain_function("a comment is '" + c.text + "'", "one line that begins with --");
    return all;
  }

  // A text's reader has asked this, as it has whether operands, targets and their arguments are there.
  void names(Block b) {
    unique(f_.name(b), shared_.blocks, "block");
    for (Value v : f_.parameters(b)) unique(f_.name(v), shared_.values, "value");
    for (Instruction i : f_.instructions(b))
      for (Value v : f_.results(i)) unique(f_.name(v), shared_.values, "value");
  }

  void unique(Name n, SideTable<Name, uint32_t>& used, const char* what) {
    if (!n.exists()) return;
    if (used.get(n) == shared_.function)
      complain_function(std::string("two ") + what + "s are called '" + std::string(module_.text(n)) + "'",
                        "a name of its own for each, or none");
    used.set(n, shared_.function);
  }

  bool block(Block b) {
    if (!origin_.checked_by_reader) names(b);
    Instruction last = f_.terminator(b);
    if (!last.exists()) {
      complain(b, "the block does not end", "return, go, when, choose or trap as its last line");
      return false;
    }
    bool whole = true;
    for (Instruction i : f_.instructions(b)) {
      if (i != last && info(f_.op(i)).ends_block())
        complain(i, "the block goes on behind its end", "a block of its own for what follows");
      if (!origin_.checked_by_reader && !has_its_parts(i)) whole = false;
      if (!whole) continue;
      types(i);
      if (!origin_.checked_by_reader) shapes(i), targets(i);
      if (f_.promises(i) | f_.permits(i)) words(i);
      if (f_.op(i) == Op::Load || f_.op(i) == Op::Store) access(i);
    }
    return whole;
  }

  // Whether all that the instruction refers to is there, so that it can be looked at, and printed, at all.
  bool has_its_parts(Instruction i) {
    for (Value v : f_.operands(i))
      if (!v.exists() || v.index >= f_.value_limit())
        return complain(i, "an operand is missing", "a value"), false;
    for (Edge e : f_.edges(i))
      for (Value v : f_.arguments(e))
        if (!v.exists()) return complain(i, "an argument is missing", "a value"), false;
    if (!f_.has_detail(i)) {
      complain_function(
          "'" + std::string(info(f_.op(i)).name) + "' lacks what belongs to it besides operands",
          "an address, a size, lanes, cases, a name or a symbol: see Function::Draft");
      return false;
    }
    for (Value v : f_.results(i))
      if (!f_.type(v).is_valid()) return complain_type(f_.type(v)), false;
    bool names_symbol = info(f_.op(i)).detail() == Detail::Symbol;
    if (names_symbol && f_.symbol(i).index >= module_.symbol_count()) {
      complain_function("'" + std::string(info(f_.op(i)).name) + "' names nothing that is there",
                        "a function or data of the module");
      return false;
    }
    return true;
  }

  void complain_type(Type t) { complain_function("a value is " + type_text(t), valid_types); }

  // What a text can say of addresses and frame objects; its reader has asked this.
  void shapes(Instruction i) {
    OperandForm is = form(i);
    for (const Address* a : {is.address, is.from}) {
      if (!a) continue;
      if (a->indexed && (a->scale < 1 || a->scale > int64_t(1) << 62))
        complain(i, "the scale is " + std::to_string(a->scale), "1 to 2^62");
      aligned(i, a->align);
    }
    if (f_.op(i) != Op::Reserve) return;
    const ReserveShape& shape = f_.reserve_shape(i);
    if (shape.bytes > uint64_t(1) << 31)
      complain(i, "the object has " + std::to_string(shape.bytes) + " bytes", "at most 2^31");
    aligned(i, shape.align);
  }
  void aligned(Instruction i, uint32_t align) {
    if (!is_alignment(align))
      complain(i, "the alignment is " + std::to_string(align), "a power of two up to 4,096");
  }

  OperandForm form(Instruction i) const {
    switch (info(f_.op(i)).detail()) {
      case Detail::Address: return {&f_.address(i), nullptr};
      case Detail::Copy: return {&f_.copy_shape(i).to, &f_.copy_shape(i).from};
      default: return {};
    }
  }

  // Whether a text's reader has already asked all that is asked here: it types each instruction before it
  // makes it.
  bool is_settled(Instruction i) const {
    if (!origin_.checked_by_reader || f_.permits(i)) return false;
    switch (info(f_.op(i)).layout) {
      case Layout::Call:
      case Layout::CallThrough:
      case Layout::Shuffle:
      case Layout::Load:
      case Layout::Store: return false;
      default: return f_.op(i) != Op::Return && f_.op(i) != Op::End;
    }
  }

  void types(Instruction i) {
    if (is_settled(i)) return;
    shared_.operands.clear(), shared_.results.clear();
    for (Value v : f_.operands(i)) shared_.operands.push_back(f_.type(v));
    for (Value v : f_.results(i)) shared_.results.push_back(f_.type(v));
    Op op = f_.op(i);
    if (info(op).layout == Layout::Call) return call(i);
    if (info(op).layout == Layout::CallThrough) return call_through(i);
    if (op == Op::Return)
      return listed_types(i, shared_.operands, f_.signature().results, "returns", f_.signature());
    if (origin_.checked_by_reader) return of_module(i);
    if (auto problem = typing_problem(op, shared_.operands, shared_.results, form(i)))
      return complain(i, problem->message, problem->expected);
    if (shared_.results.empty() && info(op).result_count())
      return complain(i, "'" + std::string(info(op).name) + "' has no result here", "a result");
    of_module(i);
  }

  // What types alone do not tell.
  void of_module(Instruction i) {
    Op op = f_.op(i);
    for (Type t : shared_.operands) pointer_width(i, t);
    for (Type t : shared_.results) pointer_width(i, t);
    if (op == Op::Shuffle) shuffle(i);
    if (op == Op::End && !is_sole(f_.operand(i, 0)))
      complain(i, "this ends what no 'sole' began", "end q, where q = sole p");
  }

  void pointer_width(Instruction i, Type t) {
    if (t.is_pointer() && t != module_.pointer_type())
      complain(i, "a pointer has " + std::to_string(t.bits()) + " bits here",
               std::to_string(module_.layout.pointer_bits) + " bits, as the module's layout says");
  }

  bool is_sole(Value v) const {
    Instruction d = f_.definition(v);
    return d.exists() && f_.op(d) == Op::Sole;
  }

  void shuffle(Instruction i) {
    unsigned limit = 2 * shared_.operands[0].lanes();
    for (unsigned k = 0; k < shared_.results[0].lanes(); ++k)
      if (f_.shuffle_lane(i, k) >= limit)
        return complain(i, "there is no lane " + std::to_string(f_.shuffle_lane(i, k)) + " in both operands",
                        "a number below " + std::to_string(limit));
  }

  void call(Instruction i) {
    const Signature* signature = module_.signature(f_.symbol(i));
    if (!signature)
      return complain(i, "the call names nothing that can be called", "a function of the module");
    if (signature->variadic && shared_.operands.size() > signature->parameters.size())
      shared_.operands.resize(signature->parameters.size());
    listed_types(i, shared_.operands, signature->parameters, "passes", *signature);
    bool returns = f_.op(i) == Op::ReturnCall;
    if ((returns ? f_.signature().results : shared_.results) != signature->results)
      complain(i,
               returns ? "the function called gives other results than this one"
                       : "the call's results are not those of the function",
               signature->text());
  }

  void call_through(Instruction i) {
    if (shared_.operands.empty() || !shared_.operands[0].is_pointer())
      complain(i, "this calls through something that is no pointer", "ptr: the address of a function");
    if (f_.op(i) == Op::ReturnCallThrough && !shared_.results.empty())
      complain(i, "'return call' has results of its own", "none: they are this function's");
  }

  // Promises and permits that the operation knows.
  void words(Instruction i) {
    Op op = f_.op(i);
    if (uint8_t wrong = f_.promises(i) & static_cast<uint8_t>(~info(op).promises))
      complain(i, "'" + std::string(info(op).name) + "' cannot promise " + words_of(wrong, promise_words()),
               info(op).promises ? words_of(info(op).promises, promise_words()) : "no promise");
    uint8_t known = info(op).ends_block() ? uint8_t(permit::ends) : uint8_t(0);
    auto is_float = [](Type t) { return t.is_float(); };
    if (std::any_of(shared_.operands.begin(), shared_.operands.end(), is_float) ||
        std::any_of(shared_.results.begin(), shared_.results.end(), is_float))
      known |= permit::of_floats;
    if (uint8_t wrong = f_.permits(i) & static_cast<uint8_t>(~known))
      complain(i, "permit " + words_of(wrong, permit_words()) + " means nothing here",
               "reorder, fuse, nonan, noinf, nozerosign, estimate: floats; ends: what ends a block");
  }

  void access(Instruction i) {
    const Address& a = f_.address(i);
    Type t = f_.op(i) == Op::Load ? shared_.results[0] : shared_.operands[0];
    if (f_.op(i) == Op::Store && (a.early || a.as_unwritten))
      complain(i, a.early ? "a store is never early" : "a store writes what 'as const' says nobody writes",
               "a load");
    if (!a.kind.exists()) return;
    if (a.kind.index >= module_.kinds.path_count())
      return complain_function("an access names a kind that is not there", "a path of the module's kinds");
    const KindPathRow& path = module_.kinds[a.kind];
    if (t.bytes() > path.room)
      complain(i,
               "an access of " + std::to_string(t.bytes()) + " bytes is wider than its member '" +
                   path_text(module_, a.kind) + "'",
               "at most " + counted(path.room, "byte"));
  }

  void listed_types(Instruction i, const std::vector<Type>& is, const std::vector<Type>& should,
                    const char* verb, const Signature& signature) {
    if (is == should) return;
    Signature found{is, {}};
    complain(i, std::string("this ") + verb + " " + found.text(),
             (std::string(verb) == "returns" ? "the results of " : "the parameters of ") + signature.text());
  }

  void targets(Instruction i) {
    for (Edge e : f_.edges(i)) {
      auto parameters = f_.parameters(f_.to(e));
      auto name = [&] { return "'" + block_text(module_, f_, f_.to(e)) + "'"; };
      if (!f_.alive(f_.to(e))) {
        complain(i, "this goes to a block that was erased", "a block of this function");
      } else if (parameters.size() != f_.argument_count(e)) {
        complain(i, name() + " is given " + std::to_string(f_.argument_count(e)) + " arguments",
                 std::to_string(parameters.size()) + ", one for each of its parameters");
      } else {
        for (size_t k = 0; k < parameters.size(); ++k)
          if (f_.type(f_.argument(e, k)) != f_.type(parameters[k]))
            complain(i,
                     "argument " + std::to_string(k + 1) + " of " + name() + " is " +
                         f_.type(f_.argument(e, k)).name(),
                     f_.type(parameters[k]).name());
      }
    }
  }

  void dominance() {
    Dominators dominators(f_, &shared_.scratch);
    for (Block b : dominators.order()) {
      for (Instruction i : f_.instructions(b)) {
        for (Value v : f_.operands(i)) available(dominators, v, i);
        for (Edge e : f_.edges(i))
          for (Value v : f_.arguments(e)) available(dominators, v, i);
      }
    }
  }

  void available(const Dominators& dominators, Value v, Instruction user) {
    if (dominators.available(f_, v, user)) return;
    complain(user, "'" + value_text(module_, f_, v) + "' is not defined on every way to this line",
             "a definition that dominates its use, or a block parameter where ways join");
  }

  // ---- where ----------------------------------------------------------------------------------------------

  void complain(Instruction i, std::string message, std::string expected) {
    if (origin_.places) {
      auto place = origin_.places->bodies[symbol_.index].instructions.get(i);
      if (place.length) return add(place, std::move(message), std::move(expected));
    }
    excerpt(write_text(module_, f_, i), std::move(message), std::move(expected));
  }
  void complain(Block b, std::string message, std::string expected) {
    if (origin_.places) {
      auto place = origin_.places->bodies[symbol_.index].blocks.get(b);
      if (place.length) return add(place, std::move(message), std::move(expected));
    }
    excerpt(block_text(module_, f_, b) + ":", std::move(message), std::move(expected));
  }
  void complain_function(std::string message, std::string expected) {
    if (origin_.places)
      return add(origin_.places->bodies[symbol_.index].header, std::move(message), std::move(expected));
    excerpt("func " + std::string(module_.symbol_name(symbol_)), std::move(message), std::move(expected));
  }
  void add(PlaceMap::Span place, std::string message, std::string expected) {
    out_.push_back(origin_.source->at(place.offset, place.length, std::move(message), std::move(expected)));
  }
  void excerpt(std::string text, std::string message, std::string expected) {
    Diagnostic d = complaint("in '" + std::string(module_.symbol_name(symbol_)) + "': " + std::move(message),
                             std::move(expected));
    d.length = static_cast<uint32_t>(text.size());
    d.excerpt = std::move(text);
    out_.push_back(std::move(d));
  }

  const Module& module_;
  Symbol symbol_;
  const Function& f_;
  Origin origin_;
  Shared& shared_;
  Diagnostics out_;
};

// What a module says besides its functions.
void verify_symbols(const Module& module, const Origin& origin, Diagnostics& out) {
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    auto complain = [&](std::string message, std::string expected) {
      Diagnostic d = complaint("'" + std::string(module.text(row.name)) + "' " + message, expected);
      const Signature* signature = module.signature(Symbol(k));
      d.excerpt = std::string(module.text(row.name)) + (signature ? signature->text() : "");
      d.length = static_cast<uint32_t>(d.excerpt.size());
      if (origin.places) {
        PlaceMap::Span place = origin.places->bodies[k].header;
        d = origin.source->at(place.offset, place.length, d.message, d.expected);
      }
      out.push_back(std::move(d));
    };
    if (module.find(module.text(row.name)) != Symbol(k))
      complain("is the name of two items", "a name of its own for each");
    for (const Signature* s = module.signature(Symbol(k)); s;) {
      for (Type t : s->parameters)
        if (!t.is_valid()) complain("takes a value " + type_text(t), valid_types);
      for (Type t : s->results)
        if (!t.is_valid()) complain("gives a value " + type_text(t), valid_types);
      break;
    }
    if (row.kind == SymbolKind::Data && !is_alignment(row.data.align))
      complain("is aligned to " + std::to_string(row.data.align), "a power of two up to 4,096");
    if (row.is_local && row.is_weak)
      complain("is both local and weak", "one of them: what is local meets no other of its name");
    bool is_function = module.signature(Symbol(k)) != nullptr;
    const Signature* signature = module.signature(Symbol(k));
    for (size_t p = 0; is_function && p < row.facts.marks.size(); ++p) {
      bool is_pointer = p < signature->parameters.size() && signature->parameters[p].is_pointer();
      if ((row.facts.marks[p] & (mark::sole | mark::unwritten)) && !is_pointer)
        complain("marks parameter " + std::to_string(p + 1) + " as " +
                     words_of(row.facts.marks[p], mark_words(), " "),
                 "a pointer: 'sole' and 'const' speak of what it leads to");
    }
    bool gives_pointer = signature && !signature->results.empty() && signature->results[0].is_pointer();
    bool takes_pointer = signature && !signature->parameters.empty() && signature->parameters[0].is_pointer();
    if ((row.facts.outside & outside::allocates) && !gives_pointer)
      complain("allocates but gives no pointer", "ptr as its first result");
    if ((row.facts.outside & outside::frees) && !takes_pointer)
      complain("frees but takes no pointer", "ptr as its first parameter");
    for (const DataPiece& piece : row.data.pieces) {
      if (piece.kind == DataPiece::Kind::Zero && piece.zero_bytes > uint64_t(1) << 32)
        complain("holds " + std::to_string(piece.zero_bytes) + " zeros in a row", "at most 2^32");
      bool fits = piece.kind != DataPiece::Kind::Numbers ||
                  (piece.type.is_valid() && piece.numbers.size() % piece.type.words() == 0);
      if (!fits)
        complain("holds numbers without a type that fits them", "whole numbers of words, see Type::words");
      for (Symbol s : piece.symbols)
        if (s.index >= module.symbol_count())
          complain("holds the address of nothing", "a symbol of the module");
    }
  }
}

void verify_function(const Module& module, Symbol symbol, const Origin& origin, Shared& shared,
                     Diagnostics& out) {
  if (origin.places && !origin.places->bodies[symbol.index].is_complete) return;  // its gaps would mislead
  Diagnostics found = Verifier(module, symbol, origin, shared).run();
  out.insert(out.end(), std::make_move_iterator(found.begin()), std::make_move_iterator(found.end()));
}

}  // namespace

Diagnostics verify(const Module& module, Symbol function, const Origin& origin) {
  Shared shared;
  return Verifier(module, function, origin, shared).run();
}

struct Verification::Tables {
  Shared shared;
};

Verification::Verification(const Module& module) : module_(module), tables_(std::make_unique<Tables>()) {}

Verification::~Verification() = default;

void Verification::function(Symbol symbol, const Origin& origin) {
  verify_function(module_, symbol, origin, tables_->shared, found_);
}

Diagnostics Verification::finish(const Origin& origin) {
  Diagnostics out;
  verify_kinds(module_, origin, out);
  verify_symbols(module_, origin, out);
  for (const Module::Comment& c : module_.comments) {
    if (is_comment(c.text)) continue;
    out.push_back(complaint("a comment is '" + c.text + "'", "one line that begins with --"));
    out.back().excerpt = c.text;
  }
  for (Diagnostic& d : found_) out.push_back(std::move(d));
  return out;
}

Diagnostics verify(const Module& module, const Origin& origin) {
  Verification all(module);
  for (Symbol s : module.functions()) all.function(s, origin);
  return all.finish(origin);
}

}  // namespace porphyry
