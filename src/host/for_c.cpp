#include "porphyry/host/for_c.h"

#include <fmt/format.h>

#include <set>

#include "porphyry/formats/text.h"
#include "porphyry/ir/link.h"
#include "porphyry/ir/pen.h"

namespace porphyry::wasm {
namespace {

using types::ptr, types::i64, types::i32;

const char* c_type(ValueType t) {
  switch (t) {
    case ValueType::I32: return "int32_t";
    case ValueType::I64: return "int64_t";
    case ValueType::F32: return "float";
    case ValueType::F64: return "double";
    case ValueType::V128: return "__m128i";
    default: return "void*";
  }
}

class ForC {
 public:
  ForC(Program& program, std::string_view prefix)
      : p_(program), module_(*program.module), prefix_(c_name(prefix)) {}

  std::string write() {
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (SymbolKind kind = module_[Symbol(k)].kind; kind == SymbolKind::Function || kind == SymbolKind::Data)
        module_[Symbol(k)].is_local = true;
    std::string body = imports() + make_and_free();
    for (const Export& e : p_.exports) body += exported(e);
    std::string guard = "INCLUDED_" + prefix_ + "_H";
    return fmt::format(
        "// Made from a WebAssembly module. Every function takes the instance that it works on.\n"
        "// A trap raises a signal (SIGILL or SIGFPE).\n"
        "#ifndef {0}\n#define {0}\n\n#include <stdint.h>\n{2}\n#ifdef __cplusplus\nextern \"C\" "
        "{{\n#endif\n\n{1}\n"
        "#ifdef __cplusplus\n}}\n#endif\n\n#endif\n",
        guard, body, body.find("__m128i") == body.npos ? "" : "#include <emmintrin.h>\n");
  }

 private:
  // A name of C that is not yet among these.
  static std::string fresh(std::set<std::string>& used, std::string_view name) {
    std::string base = c_name(name), out = base;
    for (unsigned n = 2; !used.insert(out).second; ++n) out = fmt::format("{}_{}", base, n);
    return out;
  }
  std::string full(std::string_view name) { return prefix_ + "_" + fresh(used_, name); }

  Pen begin(const std::string& name, std::vector<Type> parameters, std::vector<Type> results) {
    if (Symbol taken = module_.find(name); taken.exists())
      module_.rename(taken, module_.realm().name(free_name(module_, name)));
    Function& f = module_.function(module_.add_function(name, {std::move(parameters), std::move(results)}));
    Pen pen(module_, f);
    pen.at_end(f.add_block());
    return pen;
  }
  static std::string c_parameters(const FunctionType& t, const char* first) {
    std::string out = first;
    for (ValueType v : t.parameters) out += fmt::format(", {}", c_type(v));
    if (t.results.size() > 1)
      for (ValueType v : t.results) out += fmt::format(", {}*", c_type(v));
    return out;
  }
  static const char* c_result(const FunctionType& t) {
    return t.results.size() == 1 ? c_type(t.results[0]) : "void";
  }

  std::string imports();
  std::string make_and_free();
  std::string exported(const Export& e);
  std::string function(const Export& e);
  std::string memory(const Export& e);
  std::string global(const Export& e);
  void to_c(const std::string& name, const FunctionRow& row);
  Symbol from_c(const FunctionType& t, size_t number);

  Program& p_;
  Module& module_;
  std::string prefix_;
  std::set<std::string> used_;
};

std::string ForC::imports() {
  std::string out = fmt::format("typedef struct {0} {0};  // an instance\n\n", prefix_);
  used_.insert("imports");
  bool records = false;
  for (const Import& i : p_.imports) records |= i.kind == Kind::Memory || i.kind == Kind::Table;
  if (records)
    out += fmt::format(
        "// A memory or table that instances share: its bytes or elements, how many there are, how many (of "
        "a\n"
        "// memory: pages) there may be.\ntypedef struct {}_shared {{\n  void* content;\n  uint64_t count, "
        "most;\n}} {}_shared;\n\n",
        prefix_, prefix_);
  out += fmt::format(
      "// What the module imports. Functions take `context` first.\ntypedef struct {}_imports {{\n", prefix_);
  std::set<std::string> names;
  for (const Import& i : p_.imports) {
    const std::string name = fresh(names, i.module + "_" + i.name);
    switch (i.kind) {
      case Kind::Function: {
        const FunctionType& t = p_.type_of(i.index);
        out += fmt::format("  {} (*{})({});\n", c_result(t), name, c_parameters(t, "void* context"));
        break;
      }
      case Kind::Memory:
      case Kind::Table: out += fmt::format("  {}_shared* {};\n", prefix_, name); break;
      case Kind::Global:
        out += fmt::format("  {}* {};  // 16 bytes\n", c_type(p_.globals[i.index].type), name);
        break;
    }
  }
  return out + fmt::format("  void* context;\n}} {}_imports;\n\n", prefix_);
}

// A function with several results, called from C: they go to addresses behind the arguments.
void ForC::to_c(const std::string& name, const FunctionRow& row) {
  const FunctionType& t = p_.types[row.type];
  std::vector<Type> parameters{ptr}, results;
  for (ValueType v : t.parameters) parameters.push_back(ir_type(v));
  if (t.results.size() > 1)
    parameters.insert(parameters.end(), t.results.size(), ptr);
  else
    for (ValueType v : t.results) results.push_back(ir_type(v));
  Pen pen = begin(name, parameters, results);
  std::span<const Value> given = pen.function().parameters();
  std::vector<Value> arguments(given.begin(),
                               given.begin() + static_cast<ptrdiff_t>(1 + t.parameters.size()));
  std::vector<Value> got = pen.call(row.symbol, arguments);
  if (t.results.size() <= 1) return pen.return_values(got);
  for (size_t k = 0; k < got.size(); ++k)
    pen.store(got[k], pen.function().parameters()[1 + t.parameters.size() + k]);
  pen.return_values({});
}

// Code for the record of a function of C with several results: context, then what C wants. Nothing for one
// that C's own address will do for.
Symbol ForC::from_c(const FunctionType& t, size_t number) {
  std::vector<Type> parameters{ptr}, results;
  for (ValueType v : t.parameters) parameters.push_back(ir_type(v));
  for (ValueType v : t.results) results.push_back(ir_type(v));
  // The context is then a pair: the function of C, and C's own context.
  const std::string name = free_name(module_, fmt::format("from_c.{}", number));
  Pen pen = begin(name, parameters, results);
  const Symbol out = module_.find(name);
  module_[out].is_local = true;
  Value pair = pen.function().parameters()[0];
  std::vector<Value> arguments{pen.load(ptr, pair, {}, 1, 8)}, places;
  for (size_t k = 0; k < t.parameters.size(); ++k) arguments.push_back(pen.function().parameters()[k + 1]);
  for (size_t k = 0; k < t.results.size(); ++k) arguments.push_back(places.emplace_back(pen.reserve(16, 16)));
  pen.call_through(pen.load(ptr, pair), arguments, {});
  std::vector<Value> got;
  for (size_t k = 0; k < places.size(); ++k) got.push_back(pen.load(ir_type(t.results[k]), places[k]));
  pen.return_values(got);
  return out;
}

std::string ForC::make_and_free() {
  std::string make = full("make_instance"), destroy = full("free_instance");
  std::vector<Symbol> wrapped(p_.imports.size());
  uint64_t pairs = 0;
  for (size_t k = 0; k < p_.imports.size(); ++k)
    if (const Import& i = p_.imports[k]; i.kind == Kind::Function && p_.type_of(i.index).results.size() > 1)
      wrapped[k] = from_c(p_.type_of(i.index), k), ++pairs;
  uint64_t instance = p_.instance_bytes + 16 * pairs;  // the pairs lie behind it
  Pen pen = begin(make, {ptr}, {ptr});
  Function& f = pen.function();
  Value given = f.parameters()[0];
  Block good = f.add_block(), none = f.add_block();
  Value fresh = pen.call(module_.find("calloc"), {pen.i64(1), pen.i64(static_cast<int64_t>(instance))})[0];
  pen.when(pen.eq(fresh, pen.null()), none, {}, good, {});
  pen.at_end(none).return_values({pen.null()});
  pen.at_end(good);
  size_t count = p_.imports.size();
  Value records = pen.reserve(std::max<uint64_t>(24 * count, 8), 8),
        array = pen.reserve(std::max<uint64_t>(8 * count, 8), 8);
  uint64_t pair_at = p_.instance_bytes;
  for (size_t k = 0; k < count; ++k) {
    const Import& i = p_.imports[k];
    auto at = static_cast<int64_t>(8 * k), record = static_cast<int64_t>(24 * k);
    Value from = pen.load(ptr, given, {}, 1, at);
    if (i.kind != Kind::Function) {
      pen.store(from, array, {}, 1, at);
      continue;
    }
    Value context = pen.load(ptr, given, {}, 1, static_cast<int64_t>(8 * count));
    if (wrapped[k].exists()) {
      Value pair = pen.at(fresh, {}, 1, static_cast<int64_t>(pair_at));
      pair_at += 16;
      pen.store(from, pair);
      pen.store(context, pair, {}, 1, 8);
      from = pen.address_of(wrapped[k]), context = pair;
    }
    pen.store(from, records, {}, 1, record);
    pen.store(context, records, {}, 1, record + 8);
    pen.store(pen.i64(static_cast<int64_t>(type_number(p_.type_of(i.index)))), records, {}, 1, record + 16);
    pen.store(pen.at(records, {}, 1, record), array, {}, 1, at);
  }
  pen.call(p_.set_up, {fresh, array});
  pen.return_values({fresh});
  Pen end = begin(destroy, {ptr}, {});
  Value it = end.function().parameters()[0];
  Block gone = end.function().add_block(), there = end.function().add_block();
  end.when(end.eq(it, end.null()), gone, {}, there, {});
  end.at_end(there);
  end.call(p_.tear_down, {it});
  end.call(module_.find("free"), {it});
  end.go(gone);
  end.at_end(gone).return_values({});
  return fmt::format(
      "// A new instance, its start function run; null when there is no memory for it. `imports` may go "
      "afterwards,\n"
      "// but not what it leads to.\n{0}* {1}(const {0}_imports* imports);\nvoid {2}({0}* instance);  // of "
      "null: nothing\n\n",
      prefix_, make, destroy);
}

std::string ForC::function(const Export& e) {
  const FunctionRow& row = p_.functions[e.index];
  const FunctionType& t = p_.types[row.type];
  std::string name = full(e.name);
  to_c(name, row);
  return fmt::format("{} {}({});\n", c_result(t), name, c_parameters(t, (prefix_ + "*").c_str()));
}

std::string ForC::memory(const Export& e) {
  const MemoryRow& m = p_.memories[e.index];
  std::string bytes = full(e.name), size = full(e.name + "_bytes"), grow = full(e.name + "_grow");
  auto field = [&](Pen& pen, Type t, int64_t offset) {
    Value instance = pen.function().parameters()[0];
    return m.imported ? pen.load(t, pen.load(ptr, instance, {}, 1, m.place), {}, 1, offset)
                      : pen.load(t, instance, {}, 1, m.place + offset);
  };
  Pen a = begin(bytes, {ptr}, {ptr});
  a.return_values({field(a, ptr, 0)});
  Pen b = begin(size, {ptr}, {i64});
  b.return_values({field(b, i64, 8)});
  std::string out = fmt::format("uint8_t* {}({}*);  // valid until the memory grows\nuint64_t {}({}*);\n",
                                bytes, prefix_, size, prefix_);
  Pen c = begin(grow, {ptr, i32}, {i32});
  std::span<const Value> given = c.function().parameters();
  c.return_values(c.call(p_.grow_memory, given));
  out += fmt::format("int32_t {}({}*, int32_t pages);  // how many pages there were, or -1\n", grow, prefix_);
  return out;
}

std::string ForC::global(const Export& e) {
  const GlobalRow& g = p_.globals[e.index];
  std::string name = full(e.name);
  Pen pen = begin(name, {ptr}, {ptr});
  Value instance = pen.function().parameters()[0];
  pen.return_values(
      {g.imported ? pen.load(ptr, instance, {}, 1, g.place) : pen.at(instance, {}, 1, g.place)});
  return fmt::format("{}{}* {}({}*);\n", g.is_mutable ? "" : "const ", c_type(g.type), name, prefix_);
}

std::string ForC::exported(const Export& e) {
  switch (e.kind) {
    case Kind::Function: return function(e);
    case Kind::Memory: return memory(e);
    case Kind::Global: return global(e);
    case Kind::Table: return "";
  }
  return "";
}

}  // namespace

std::string c_name(std::string_view name) {
  std::string out;
  for (char c : name) {
    bool fits = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
    out += fits ? c : '_';
  }
  if (out.empty() || (out[0] >= '0' && out[0] <= '9')) out.insert(out.begin(), '_');
  return out;
}

Result<std::string> prepare_for_c(Program& program, std::string_view prefix) {
  if (program.guarded)
    return complaint("memories of C have no pages that guard them",
                     "a program that was read without 'guarded'");
  Module& module = *program.module;
  // The C library's names are for the C library: what the program calls so gets another.
  for (const char* name : {"calloc", "free"})
    if (Symbol taken = module.find(name); taken.exists())
      module.rename(taken, module.realm().name(free_name(module, name)));
  Realm realm;
  ReadModule storage = read_text(realm, SourceText("storage.por", std::string(storage_text())));
  for (size_t k = 0; k < storage.module->symbol_count(); ++k)
    storage.module->operator[](Symbol(k)).is_local = false;
  if (Diagnostics wrong = link(module, *storage.module); !wrong.empty()) return wrong;
  return ForC(program, prefix).write();
}

}  // namespace porphyry::wasm
