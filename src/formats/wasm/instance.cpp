#include "instance.h"

#include "porphyry/base/rounding.h"
#include "porphyry/ir/link.h"

namespace porphyry::wasm {
namespace {

using types::i64, types::ptr;
constexpr uint32_t record_bytes = 24, global_bytes = 16;

// The number of an element in a segment: see runtime.por.
uint64_t element_number(const Constant& c, const Program& p) {
  switch (c.kind) {
    case Constant::Kind::Function: return uint64_t(p.functions[c.index].record) << 2 | 1;
    case Constant::Kind::Global: return uint64_t(p.globals[c.index].place) << 2 | 3;
    default: return 0;
  }
}

// Writes set_up and tear_down, in one walk each.
class SetUp {
 public:
  SetUp(Sections& sections, const Context& context, Runtime& runtime)
      : s_(sections),
        p_(sections.program),
        module_(context.module),
        size_kind_(context.size_kind),
        runtime_(runtime) {}

  Symbol write_set_up() {
    Symbol out = begin("instance.set_up", {ptr, ptr});
    imports_ = parameter(1, "imports");
    take_imports();
    if (own_records_ > 0) fill_records();
    make_tables();
    make_memories();
    for (size_t k = 0; k < s_.global_values.size(); ++k) {
      const GlobalRow& g = p_.globals[p_.globals.size() - s_.global_values.size() + k];
      set(constant(s_.global_values[k]), g.place);
    }
    for (const ElementSegment& e : s_.elements) put_elements(e);
    for (const DataSegment& d : s_.data) put_data(d);
    if (s_.start) start();
    pen_->return_values({});
    return out;
  }

  Symbol write_tear_down() {
    Symbol out = begin("instance.tear_down", {ptr});
    for (const auto& m : p_.memories) give_back(m.place, m.imported);
    for (const auto& t : p_.tables) give_back(t.place, t.imported);
    pen_->return_values({});
    return out;
  }

  Symbol write_grow_memory() {
    Symbol out = begin("instance.grow_memory", {ptr, Type::integer(32)}, {Type::integer(32)});
    const MemoryRow& m = p_.memories[0];
    Value record = m.imported ? get(ptr, m.place) : at(m.place);
    pen_->return_values(pen_->call(runtime_["memory.grow"], {record, parameter(1, "pages")}));
    return out;
  }

  void count_records(uint32_t first, uint32_t count) { first_record_ = first, own_records_ = count; }

 private:
  Symbol begin(std::string_view name, std::vector<Type> parameters, std::vector<Type> results = {}) {
    Symbol out = module_.add_function(free_name(module_, name), {std::move(parameters), std::move(results)});
    function_ = out;
    pen_.emplace(module_, module_.function(out));
    pen_->at_end(f().add_block());
    instance_ = parameter(0, "instance");
    return out;
  }
  Function& f() { return module_.function(function_); }
  Value parameter(size_t k, std::string_view name) {
    Value v = f().parameters()[k];
    f().set_name(v, module_.realm().name(name));
    return v;
  }
  Value wide(uint64_t n) { return f().constant(i64, n); }
  Value at(uint32_t place) { return pen_->at(instance_, {}, 1, place); }
  Value get(Type t, uint32_t place) { return pen_->load(t, instance_, {}, 1, place); }
  void set(Value v, uint32_t place) { pen_->store(v, instance_, {}, 1, place); }
  void trap_if(Value condition) { trap_where(*pen_, condition); }
  Value constant(const Constant& c);
  void take_imports();
  void fill_records();
  void make_tables();
  void make_memories();
  void claim(uint32_t place, uint64_t bytes, uint64_t capacity, uint64_t count, uint64_t most);
  void put_elements(const ElementSegment& e);
  void put_data(const DataSegment& d);
  void start();
  void give_back(uint32_t place, bool imported) {
    if (!imported) pen_->call(runtime_[storage_release], {get(ptr, place)});
  }
  // Of a record's field, wherever the record is.
  Value field(Type t, uint32_t place, bool imported, int64_t offset, KindPath kind = {}) {
    Value record = imported ? get(ptr, place) : instance_;
    return pen_->load(t, record, {.offset = imported ? offset : place + offset, .kind = kind});
  }

  Sections& s_;
  Program& p_;
  Module& module_;
  KindPath size_kind_;  // of a memory's size, once there is one
  Runtime& runtime_;
  Symbol function_;
  std::optional<Pen> pen_;
  Value instance_, imports_;
  uint32_t first_record_ = 0, own_records_ = 0;
};

Value SetUp::constant(const Constant& c) {
  Type t = ir_type(c.type);
  switch (c.kind) {
    case Constant::Kind::Number: {
      if (!t.has_lanes()) return f().constant(t, c.bits);
      uint64_t lanes[] = {c.bits & 0xffffffff, c.bits >> 32, c.high & 0xffffffff, c.high >> 32};
      return f().constant_lanes(t, lanes);
    }
    case Constant::Kind::Global: return pen_->load(t, get(ptr, p_.globals[c.index].place));
    case Constant::Kind::Null: return pen_->null();
    case Constant::Kind::Function: return at(p_.functions[c.index].record);
  }
  return {};
}

// Records of functions are copied, as each call reads them; of all others the address is kept.
void SetUp::take_imports() {
  for (size_t k = 0; k < p_.imports.size(); ++k) {
    const Import& i = p_.imports[k];
    Value from = pen_->load(ptr, imports_, {}, 1, static_cast<int64_t>(8 * k));
    switch (i.kind) {
      case Kind::Function: {
        uint32_t place = p_.functions[i.index].record;
        set(pen_->load(ptr, from), place);
        set(pen_->load(ptr, from, {}, 1, 8), place + 8);
        set(pen_->load(i64, from, {}, 1, 16), place + 16);
        break;
      }
      case Kind::Table: set(from, p_.tables[i.index].place); break;
      case Kind::Memory: set(from, p_.memories[i.index].place); break;
      case Kind::Global: set(from, p_.globals[i.index].place); break;
    }
  }
}

void SetUp::fill_records() {
  DataItem rows{.is_const = true, .align = 8};
  for (const FunctionRow& row : p_.functions) {
    if (row.imported || row.record == no_place) continue;
    rows.pieces.push_back({.kind = DataPiece::Kind::Addresses, .symbols = {row.symbol}});
    rows.pieces.push_back(
        {.kind = DataPiece::Kind::Numbers, .type = i64, .numbers = {type_number(p_.types[row.type])}});
  }
  Symbol data = module_.add_data(free_name(module_, "functions"), std::move(rows));
  module_[data].is_local = true;
  pen_->call(runtime_["functions.init"],
             {instance_, at(first_record_), pen_->address_of(data), wide(own_records_)});
}

// What the host gives, into a record.
void SetUp::claim(uint32_t place, uint64_t bytes, uint64_t capacity, uint64_t count, uint64_t most) {
  Value given = pen_->call(runtime_[storage_claim], {wide(bytes), wide(capacity)})[0];
  trap_if(pen_->eq(given, pen_->null()));
  set(given, place);
  set(wide(count), place + 8);
  set(wide(most), place + 16);
}

void SetUp::make_tables() {
  for (const TableRow& t : p_.tables) {
    if (t.imported) continue;
    uint64_t most = std::min<uint64_t>(t.limits.most.value_or(element_limit),
                                       std::max<uint64_t>(element_limit, t.limits.least));
    claim(t.place, 8 * uint64_t(t.limits.least), 8 * most, t.limits.least, most);
  }
}

void SetUp::make_memories() {
  for (const MemoryRow& m : p_.memories) {
    if (m.imported) continue;
    uint64_t bytes = m.limits.least * page_bytes, most = most_pages(m.limits);
    claim(m.place, bytes, p_.guarded ? guarded_bytes : most * page_bytes, bytes, most);
  }
}

void SetUp::put_elements(const ElementSegment& e) {
  if (e.mode == ElementSegment::Mode::Declared) return;
  if (e.mode == ElementSegment::Mode::Passive) return set(wide(e.items.size()), e.place);
  pen_->from(1, e.at, 1);
  const TableRow& t = p_.tables[e.table];
  Value to = pen_->widen_u(i64, constant(e.offset)), end = pen_->add(to, wide(e.items.size()));
  trap_if(pen_->gt_u(end, field(i64, t.place, t.imported, 8)));
  Value elements = field(ptr, t.place, t.imported, 0);
  pen_->call(runtime_["table.init"],
             {instance_, elements, to, pen_->address_of(e.data), wide(0), wide(e.items.size())});
}

void SetUp::put_data(const DataSegment& d) {
  if (!d.active) return set(wide(d.bytes.size()), d.place);
  pen_->from(1, d.at, 1);
  const MemoryRow& m = p_.memories[0];
  Value to = pen_->widen_u(i64, constant(d.offset)), end = pen_->add(to, wide(d.bytes.size()));
  trap_if(pen_->gt_u(end, field(i64, m.place, m.imported, 8, size_kind_)));
  Value target = pen_->at(field(ptr, m.place, m.imported, 0), to);
  pen_->copy(target, pen_->address_of(d.data), wide(d.bytes.size()));
}

void SetUp::start() {
  const FunctionRow& row = p_.functions[*s_.start];
  if (row.imported)
    pen_->call_through(get(ptr, row.record), {get(ptr, row.record + 8)}, {});
  else
    pen_->call(row.symbol, {instance_});
}

}  // namespace

void lay_out(Sections& s) {
  Program& p = s.program;
  uint64_t at = 0;
  auto take = [&](uint32_t& place, uint64_t bytes, uint64_t align = 8) {
    at = round_up<uint64_t>(at, align);
    place = static_cast<uint32_t>(at);
    at += bytes;
  };
  for (GlobalRow& g : p.globals) take(g.place, g.imported ? 8 : global_bytes, g.imported ? 8 : global_bytes);
  for (MemoryRow& m : p.memories) take(m.place, m.imported ? 8 : record_bytes);
  for (TableRow& t : p.tables) take(t.place, t.imported ? 8 : record_bytes);
  for (size_t k = 0; k < p.functions.size(); ++k)  // imported ones come first
    if (p.functions[k].imported || s.declared[k]) take(p.functions[k].record, record_bytes);
  for (ElementSegment& e : s.elements) take(e.place, 8);
  for (DataSegment& d : s.data) take(d.place, 8);
  p.instance_bytes = static_cast<uint32_t>(round_up<uint64_t>(std::max<uint64_t>(at, 16), 16));
}

void add_segments(Sections& s, Module& module) {
  auto add = [&](const char* name, DataItem item) {
    Symbol out =
        module.add_data(free_name(module, name + std::to_string(module.symbol_count())), std::move(item));
    module[out].is_local = true;
    return out;
  };
  for (DataSegment& d : s.data) {
    DataItem item{.is_const = true};
    if (d.bytes.empty())
      item.pieces.push_back({.kind = DataPiece::Kind::Zero, .zero_bytes = 1});
    else
      item.pieces.push_back({.kind = DataPiece::Kind::Bytes, .bytes = std::string(d.bytes)});
    d.data = add("data.", std::move(item));
  }
  for (ElementSegment& e : s.elements) {
    if (e.mode == ElementSegment::Mode::Declared && e.items.empty()) continue;
    DataPiece numbers{.kind = DataPiece::Kind::Numbers, .type = i64};
    for (const Constant& c : e.items) numbers.numbers.push_back(element_number(c, s.program));
    if (e.items.empty()) numbers.numbers.push_back(0);
    e.data = add("elements.", {.is_const = true, .align = 8, .pieces = {std::move(numbers)}});
  }
}

void add_set_up(Sections& s, const Context& context, Runtime& runtime) {
  SetUp writer(s, context, runtime);
  uint32_t first = no_place, count = 0;
  for (const FunctionRow& row : s.program.functions)
    if (!row.imported && row.record != no_place) first = std::min(first, row.record), ++count;
  writer.count_records(first, count);
  s.program.set_up = writer.write_set_up();
  s.program.tear_down = writer.write_tear_down();
  if (!s.program.memories.empty()) s.program.grow_memory = writer.write_grow_memory();
}

}  // namespace porphyry::wasm
