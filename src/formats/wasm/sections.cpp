// One walk over the sections in their order. Each reader takes its section's bytes alone, so that none reads
// past its end. O(bytes).
#include "sections.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

namespace porphyry::wasm {
namespace {

constexpr uint32_t parameter_limit = 1000;  // and results, of one type

class SectionReader {
 public:
  SectionReader(std::string_view bytes, Sections& out) : in_(bytes), out_(out), p_(out.program) {}

  Mistake read() {
    In all = in_;
    all.bytes(8);
    unsigned last = 0;
    while (all.good() && !all.at_end()) {
      uint32_t at = all.offset();
      uint8_t id = all.byte();
      uint32_t size = all.u32();
      if (all.good() && size > all.left())
        all.fail(at,
                 fmt::format("a section of {} bytes does not fit the {} that are left", size, all.left()));
      uint32_t from = all.offset();
      in_ = In(all.bytes(size), from);
      if (!all.good()) break;
      const Row* row = row_of(id);
      if (row && id != 0 && row->order <= last)
        in_.fail(at, fmt::format("the {} section comes twice, or behind a later one", row->name));
      if (row && id != 0) last = row->order;
      if (!row)
        in_.fail(at, fmt::format("there is no section {}", id), "0 to 12");
      else
        (this->*row->read)();
      if (in_.good() && !in_.at_end())
        in_.fail(fmt::format("the {} section is longer than what it holds", row->name));
      if (!in_.good()) return in_.mistake();
    }
    if (!all.good()) return all.mistake();
    in_ = all;
    check_whole();
    return in_.mistake();
  }

 private:
  struct Row {
    uint8_t id, order;
    const char* name;
    void (SectionReader::*read)();
  };
  static const Row* row_of(uint8_t id) {
    using S = SectionReader;
    static constexpr Row rows[] = {
        {0, 0, "custom", &S::custom},      {1, 1, "type", &S::types},         {2, 2, "import", &S::imports},
        {3, 3, "function", &S::functions}, {4, 4, "table", &S::tables},       {5, 5, "memory", &S::memories},
        {6, 6, "global", &S::globals},     {7, 7, "export", &S::exports},     {8, 8, "start", &S::start},
        {9, 9, "element", &S::elements},   {12, 10, "data count", &S::count}, {10, 11, "code", &S::code},
        {11, 12, "data", &S::data}};
    for (const Row& r : rows)
      if (r.id == id) return &r;
    return nullptr;
  }

  // ---- parts --------------------------------------------------------------------------------------------
  uint32_t below(size_t limit, const char* what) {
    uint32_t at = in_.offset(), n = in_.u32();
    if (n < limit || !in_.good()) return n;
    in_.fail(at, fmt::format("there is no {} {}", what, n), fmt::format("one of {}", counted(limit, what)));
    return 0;
  }
  ValueType value_type() {
    uint32_t at = in_.offset();
    auto t = static_cast<ValueType>(in_.byte());
    if (type_name(t) != "anything") return t;
    in_.fail(at, fmt::format("0x{:02x} is no type of a value", static_cast<unsigned>(t)),
             "i32, i64, f32, f64, v128, funcref or externref");
    return ValueType::I32;
  }
  ValueType reference_type() {
    uint32_t at = in_.offset();
    ValueType t = value_type();
    if (t != ValueType::FuncRef && t != ValueType::ExternRef)
      in_.fail(at, fmt::format("{} is no type of a reference", type_name(t)), "funcref or externref");
    return t;
  }
  Limits limits(uint64_t limit, const char* what) {
    uint32_t at = in_.offset();
    uint8_t flags = in_.byte();
    if (flags > 1) {
      in_.fail(at, fmt::format("limits of the form {} are not read", flags),
               "0 or 1: shared and 64-bit memories belong to later releases");
      return {};
    }
    Limits out{in_.u32(), {}};
    if (flags) out.most = in_.u32();
    if (out.least > limit || out.most.value_or(0) > limit)
      in_.fail(at, fmt::format("more than {} {}", limit, what));
    else if (out.most && *out.most < out.least)
      in_.fail(at, fmt::format("at least {} {} are more than the most, {}", out.least, what, *out.most));
    return out;
  }
  TableRow table_type() {
    ValueType element = reference_type();
    return {element, limits(~uint32_t(0), "elements")};
  }
  MemoryRow memory_type() { return {limits(page_limit, "pages")}; }
  GlobalRow global_type() {
    ValueType t = value_type();
    uint32_t at = in_.offset();
    uint8_t changes = in_.byte();
    if (changes > 1) in_.fail(at, fmt::format("{} does not say whether a global changes", changes), "0 or 1");
    return {t, changes == 1};
  }
  Constant constant(ValueType wanted);
  Constant constant_of(uint8_t code, uint32_t at);
  void name_function(uint32_t f) {
    out_.declared.resize(p_.functions.size());
    if (f < p_.functions.size()) out_.declared[f] = 1;
  }

  // ---- sections -----------------------------------------------------------------------------------------
  void custom() {
    std::string_view name = in_.name();
    if (name == "name") names_ = in_;
    std::string_view content = in_.bytes(in_.left());
    if (name == ".debug_line") out_.line_tables.line = content;
    if (name == ".debug_line_str") out_.line_tables.line_str = content;
    if (name == ".debug_str") out_.line_tables.str = content;
  }
  void types();
  void imports();
  void import_one();
  void functions() {
    for (uint32_t n = in_.count("functions"); n > 0 && in_.good(); --n)
      add_function(below(p_.types.size(), "type"));
  }
  void add_function(uint32_t type) {
    if (!in_.good()) return;
    const FunctionType& t = p_.types[type];
    if (!out_.spend(t.parameters.size() + t.results.size()))
      in_.fail("the functions have more parameters, together, than a file of this size may have");
    p_.functions.push_back({type});
  }
  void tables() {
    for (uint32_t n = in_.count("tables"); n > 0 && in_.good(); --n) p_.tables.push_back(table_type());
  }
  void memories() {
    for (uint32_t n = in_.count("memories"); n > 0 && in_.good(); --n) p_.memories.push_back(memory_type());
  }
  void globals() {
    for (uint32_t n = in_.count("globals"); n > 0 && in_.good(); --n) {
      GlobalRow g = global_type();
      out_.global_values.push_back(constant(g.type));
      p_.globals.push_back(g);
    }
  }
  void exports();
  void start() {
    uint32_t at = in_.offset();
    out_.start = below(p_.functions.size(), "function");
    if (in_.good() && p_.type_of(*out_.start) != FunctionType{})
      in_.fail(at, fmt::format("the start function is of type {}", p_.type_of(*out_.start).text()),
               "a function without parameters and results");
  }
  void elements();
  ElementSegment element_segment();
  void count() { out_.data_count = in_.u32(); }
  void code();
  void data();
  void check_whole();

  In in_;
  Sections& out_;
  Program& p_;
  std::optional<In> names_;
};

void SectionReader::types() {
  for (uint32_t n = in_.count("types"); n > 0 && in_.good(); --n) {
    uint32_t at = in_.offset();
    if (uint8_t form = in_.byte(); form != 0x60)
      in_.fail(at, fmt::format("0x{:02x} begins no type of a function", form), "0x60");
    FunctionType type;
    for (auto* list : {&type.parameters, &type.results}) {
      uint32_t length = in_.count("types of values");
      if (length > parameter_limit)
        in_.fail(at, fmt::format("{} parameters or results", length),
                 fmt::format("at most {}", parameter_limit));
      for (; length > 0 && in_.good(); --length) list->push_back(value_type());
    }
    p_.types.push_back(std::move(type));
  }
}

void SectionReader::imports() {
  for (uint32_t n = in_.count("imports"); n > 0 && in_.good(); --n) import_one();
  out_.imported_functions = static_cast<uint32_t>(p_.functions.size());
}

void SectionReader::import_one() {
  Import i;
  i.module = in_.name(), i.name = in_.name();
  uint32_t at = in_.offset();
  uint8_t kind = in_.byte();
  if (kind > 3) return in_.fail(at, fmt::format("nothing of kind {} is imported", kind), "0 to 3");
  i.kind = static_cast<Kind>(kind);
  auto add = [&](auto& rows, auto row) {
    row.imported = true;
    i.index = static_cast<uint32_t>(rows.size());
    rows.push_back(row);
  };
  switch (i.kind) {
    case Kind::Function:
      i.index = static_cast<uint32_t>(p_.functions.size());
      add_function(below(p_.types.size(), "type"));
      if (in_.good()) p_.functions.back().imported = true;
      break;
    case Kind::Table: add(p_.tables, table_type()); break;
    case Kind::Memory: add(p_.memories, memory_type()); break;
    case Kind::Global: add(p_.globals, global_type()); break;
  }
  p_.imports.push_back(std::move(i));
}

void SectionReader::exports() {
  std::unordered_set<std::string_view> names;
  for (uint32_t n = in_.count("exports"); n > 0 && in_.good(); --n) {
    uint32_t at = in_.offset();
    std::string_view name = in_.name();
    if (!names.insert(name).second) in_.fail(at, fmt::format("two exports are called '{}'", name));
    at = in_.offset();
    uint8_t kind = in_.byte();
    if (kind > 3) return in_.fail(at, fmt::format("nothing of kind {} is exported", kind), "0 to 3");
    size_t there[] = {p_.functions.size(), p_.tables.size(), p_.memories.size(), p_.globals.size()};
    auto k = static_cast<Kind>(kind);
    uint32_t index = below(there[kind], std::string(kind_name(k)).c_str());
    if (!in_.good()) return;
    if (k == Kind::Function) name_function(index);
    p_.exports.push_back({std::string(name), k, index});
  }
}

Constant SectionReader::constant_of(uint8_t code, uint32_t at) {
  using enum ValueType;
  switch (code) {
    case 0x41: return {Constant::Kind::Number, I32, static_cast<uint32_t>(in_.s32())};
    case 0x42: return {Constant::Kind::Number, I64, static_cast<uint64_t>(in_.s64())};
    case 0x43: return {Constant::Kind::Number, F32, in_.fixed<uint32_t>()};
    case 0x44: return {Constant::Kind::Number, F64, in_.fixed<uint64_t>()};
    case 0xd0: return {Constant::Kind::Null, reference_type()};
    case 0xd2: {
      Constant c{Constant::Kind::Function, FuncRef, 0, 0, below(p_.functions.size(), "function")};
      name_function(c.index);
      return c;
    }
    case 0x23: {
      uint32_t index = below(p_.globals.size(), "global");
      if (in_.good() && (!p_.globals[index].imported || p_.globals[index].is_mutable))
        in_.fail(at, fmt::format("global {} is not constant, or defined by this module", index),
                 "an imported global that does not change");
      return {Constant::Kind::Global, in_.good() ? p_.globals[index].type : I32, 0, 0, index};
    }
    case 0xfd: {
      if (in_.u32() != 12) break;
      uint64_t low = in_.fixed<uint64_t>(), high = in_.fixed<uint64_t>();
      return {Constant::Kind::Number, V128, low, high};
    }
    default: break;
  }
  in_.fail(at, fmt::format("instruction 0x{:02x} is not constant", code),
           "a constant, ref.null, ref.func or global.get");
  return {};
}

Constant SectionReader::constant(ValueType wanted) {
  uint32_t at = in_.offset();
  Constant out = constant_of(in_.byte(), at);
  if (in_.good() && out.type != wanted)
    in_.fail(at, fmt::format("a constant of type {}", type_name(out.type)), std::string(type_name(wanted)));
  at = in_.offset();
  if (in_.byte() != 0x0b) in_.fail(at, "a constant expression has more than one instruction", "'end'");
  return out;
}

// Specification, section 5.5.12: bit 0: not active; bit 1: a table or `declared`; bit 2: expressions.
ElementSegment SectionReader::element_segment() {
  ElementSegment out;
  uint32_t at = out.at = in_.offset(), flags = in_.u32();
  if (flags > 7) in_.fail(at, fmt::format("elements of the form {} are not read", flags), "0 to 7");
  bool expressions = flags & 4;
  if (flags & 1)
    out.mode = flags & 2 ? ElementSegment::Mode::Declared : ElementSegment::Mode::Passive;
  else {
    at = in_.offset();
    out.table = flags & 2 ? in_.u32() : 0;
    if (in_.good() && out.table >= p_.tables.size())
      in_.fail(at, fmt::format("there is no table {}", out.table));
    out.offset = constant(ValueType::I32);
  }
  if (flags & 3) {
    at = in_.offset();
    if (expressions)
      out.type = reference_type();
    else if (uint8_t kind = in_.byte(); kind != 0)
      in_.fail(at, fmt::format("elements of kind {} are not read", kind), "0: functions");
  }
  if (in_.good() && out.mode == ElementSegment::Mode::Active && p_.tables[out.table].element != out.type)
    in_.fail(at, fmt::format("elements of type {} for a table of {}", type_name(out.type),
                             type_name(p_.tables[out.table].element)));
  for (uint32_t n = in_.count("elements"); n > 0 && in_.good(); --n) {
    if (expressions)
      out.items.push_back(constant(out.type));
    else {
      uint32_t f = below(p_.functions.size(), "function");
      name_function(f);
      out.items.push_back({Constant::Kind::Function, ValueType::FuncRef, 0, 0, f});
    }
  }
  return out;
}

void SectionReader::elements() {
  for (uint32_t n = in_.count("element segments"); n > 0 && in_.good(); --n)
    out_.elements.push_back(element_segment());
}

void SectionReader::code() {
  out_.code_start = in_.offset();
  uint32_t at = in_.offset(), n = in_.count("functions");
  size_t wanted = p_.functions.size() - out_.imported_functions;
  if (in_.good() && n != wanted)
    in_.fail(at, fmt::format("code for {}, but {} are declared", counted(n, "function"), wanted));
  for (; n > 0 && in_.good(); --n) {
    uint32_t size = in_.count("bytes of code"), from = in_.offset();
    out_.bodies.push_back({in_.bytes(size), from});
  }
}

void SectionReader::data() {
  uint32_t at = in_.offset(), n = in_.count("data segments");
  if (in_.good() && out_.data_count && *out_.data_count != n)
    in_.fail(at, fmt::format("{}, but {} are announced", counted(n, "data segment"), *out_.data_count));
  for (; n > 0 && in_.good(); --n) {
    DataSegment d;
    d.at = at = in_.offset();
    uint32_t flags = in_.u32();
    if (flags > 2) in_.fail(at, fmt::format("data of the form {} are not read", flags), "0 to 2");
    d.active = flags != 1;
    if (d.active) {
      uint32_t memory = flags == 2 ? in_.u32() : 0;
      if (in_.good() && memory >= p_.memories.size())
        in_.fail(at, fmt::format("there is no memory {}", memory));
      d.offset = constant(ValueType::I32);
    }
    d.bytes = in_.bytes(in_.count("bytes"));
    out_.data.push_back(d);
  }
}

void SectionReader::check_whole() {
  size_t wanted = p_.functions.size() - out_.imported_functions;
  if (out_.bodies.size() != wanted)
    in_.fail(fmt::format("there is no code for {}", counted(wanted, "declared function")), "a code section");
  else if (p_.memories.size() > 1)
    in_.fail(fmt::format("there are {} memories", p_.memories.size()), "at most one, in this release");
  else if (out_.data_count.value_or(0) != out_.data.size() && out_.data_count)
    in_.fail(fmt::format("{} are announced, but there is none", counted(*out_.data_count, "data segment")));
  out_.declared.resize(p_.functions.size());
  if (in_.good() && names_) read_names(*names_, out_);
}

}  // namespace

std::string Sections::function_text(uint32_t function) const {
  std::string out = fmt::format("function {}", function);
  std::string_view name = program.functions[function].name;
  for (const Export& e : program.exports)
    if (name.empty() && e.kind == Kind::Function && e.index == function) name = e.name;
  return name.empty() ? out : fmt::format("{} '{}'", out, name);
}

void read_sections(std::string_view bytes, Sections& out, std::vector<Mistake>& problems) {
  out.budget = 200'000 + 16 * uint64_t(bytes.size());
  Mistake wrong;
  if (bytes.size() > 0x7fffffff)
    wrong = {0, "the file is larger than 2 GiB", ""};
  else if (!is_wasm(bytes))
    wrong = {0, "the bytes do not begin as a module does", "\\0asm"};
  else if (bytes.size() < 8 || bytes.substr(4, 4) != std::string_view("\1\0\0\0", 4))
    wrong = {4, "the module is of another version", "version 1"};
  else
    wrong = SectionReader(bytes, out).read();
  if (!wrong.message.empty()) problems.push_back(std::move(wrong));
}

}  // namespace porphyry::wasm
