// The sections, then each function's code, then what fills an instance. Functions are independent: of each
// wrong one the first mistake is told.
#include <fmt/format.h>

#include <atomic>
#include <thread>

#include "body.h"
#include "instance.h"
#include "porphyry/ir/link.h"
#include "runtime.h"

namespace porphyry::wasm {
namespace {

constexpr size_t mistake_limit = 100;  // enough to act on

// Names are what the module exports a function as, else what its name section says.
void add_functions(Sections& s, const Context& context) {
  Program& p = s.program;
  Module& module = context.module;
  std::vector<std::string_view> names(p.functions.size());
  std::vector<uint8_t> exported(p.functions.size());
  for (size_t k = 0; k < names.size(); ++k) names[k] = p.functions[k].name;
  for (const Export& e : p.exports)
    if (e.kind == Kind::Function && !exported[e.index]) exported[e.index] = 1, names[e.index] = e.name;
  auto add = [&](size_t k, std::string_view name) {
    std::string plain =
        name.empty() || name.find('\0') != name.npos ? fmt::format("f{}", k) : std::string(name);
    FunctionRow& row = p.functions[k];
    row.symbol = module.add_function(free_name(module, plain), context.signatures[row.type]);
    module[row.symbol].is_local = !exported[k];
  };
  // What is exported has the first choice of names.
  for (bool turn : {true, false})
    for (size_t k = 0; k < names.size(); ++k)
      if (bool(exported[k]) == turn && (!p.functions[k].imported || exported[k])) add(k, names[k]);
}

// An imported function that is exported again.
void pass_on(const FunctionRow& row, const Context& context) {
  Function& f = context.module.function(row.symbol);
  Pen pen(context.module, f);
  pen.at_end(f.add_block());
  std::span<const Value> given = f.parameters();
  std::vector<Value> arguments(given.begin(), given.end());
  Value code = pen.load(Type::pointer(), given[0], {}, 1, row.record);
  arguments[0] = pen.load(Type::pointer(), given[0], {}, 1, row.record + 8);
  pen.return_values(pen.call_through(code, arguments, context.signatures[row.type].results));
}

std::vector<Signature> signatures_of(const Program& p) {
  std::vector<Signature> out;
  for (const FunctionType& t : p.types) {
    Signature s{{Type::pointer()}, {}};
    for (ValueType v : t.parameters) s.parameters.push_back(ir_type(v));
    for (ValueType v : t.results) s.results.push_back(ir_type(v));
    out.push_back(std::move(s));
  }
  return out;
}

Diagnostic diagnostic(const std::string& file, const Mistake& m, const std::string& function = {}) {
  Diagnostic d;
  d.file = file;
  d.message = fmt::format("byte {} ({:#x}){}: {}", m.offset, m.offset,
                          function.empty() ? "" : ", " + function, m.message);
  d.expected = m.expected;
  return d;
}

std::string module_name(const Sections& s, const std::string& file) {
  if (!s.name.empty() && s.name.find('\0') == s.name.npos) return std::string(s.name);
  std::string base = file.substr(file.rfind('/') == file.npos ? 0 : file.rfind('/') + 1);
  base = base.substr(0, base.rfind('.'));
  return base.empty() ? "module" : base;
}

}  // namespace

bool is_wasm(std::string_view bytes) { return bytes.starts_with(std::string_view("\0asm", 4)); }

namespace {

// What became of a function.
struct Done {
  Wanted wanted;
  std::optional<Mistake> mistake;
};

// Every function with code, on so many threads, each in its own tables.
std::vector<Done> read_bodies(Sections& s, const Context& context, unsigned threads) {
  std::vector<Done> out(s.bodies.size());
  std::atomic<size_t> next = 0;
  std::atomic<size_t> wrong = 0;
  auto work = [&] {
    BodyReader reader(context, s);
    for (size_t k; (k = next++) < out.size() && wrong < mistake_limit;) {
      out[k].mistake = reader.read(s.imported_functions + static_cast<uint32_t>(k), out[k].wanted);
      wrong += out[k].mistake.has_value();
    }
  };
  std::vector<std::jthread> workers;
  for (unsigned k = 1; k < threads; ++k) workers.emplace_back(work);
  work();
  workers.clear();
  return out;
}

unsigned threads_for(const Sections& s, const ReadOptions& options) {
  size_t code = 0;
  for (const Body& b : s.bodies) code += b.code.size();
  constexpr size_t worth_a_thread = 8 << 10;
  // Names are made while functions are read, and the realm is not for several threads.
  if (!s.local_names.empty()) return 1;
  unsigned most = options.threads ? options.threads : std::max(1u, std::thread::hardware_concurrency());
  return static_cast<unsigned>(std::min<size_t>(most, 1 + code / worth_a_thread));
}

// Positions and routines that a function wants of the module.
void put_into(const Context& context, Function& f, const Wanted& wanted, Runtime& runtime) {
  Module& module = context.module;
  const Lines& lines = context.lines;
  const std::vector<uint32_t>& offsets = wanted.offsets;
  Position first = module.add_positions(offsets.size(), [&](size_t k) {
    return PositionRow{1, offsets[k], 1};
  });
  if (lines.rows.empty()) {
    f.map_positions([&](Position p) { return Position(p.index + first.index); });
  } else {
    std::vector<Position> at_lines;
    for (size_t k = 0; k < offsets.size(); ++k) {
      Position p(first.index + k);
      if (const LineRow* l = lines.find(offsets[k] - context.sections.code_start))
        p = module.add_position({l->file + 2, l->line, std::max(l->column, 1u), {}, p});
      at_lines.push_back(p);
    }
    f.map_positions([&](Position p) { return at_lines[p.index]; });
  }
  for (const Wanted::Call& c : wanted.calls) f.set_detail(c.at, runtime[c.routine].index);
}

}  // namespace

// Memories are never given back: what is checked against an old size holds for a later one. And they stay
// within their limits, so that small addresses need no check and offsets from checked ones do not wrap.
static KindPath size_kind(Realm& realm, Module& module, std::span<const MemoryRow> memories) {
  KindRow bytes{
      .name = realm.name("bytes"), .tree = module.kinds.add_tree(realm.name("memory")), .grows = true};
  if (!memories.empty()) {
    bytes.least = memories[0].limits.least * page_bytes;
    // One that comes from elsewhere may be larger than what is said here, when nothing is.
    bool unlimited = memories[0].imported && !memories[0].limits.most;
    bytes.most = (unlimited ? page_limit : most_pages(memories[0].limits)) * page_bytes;
  }
  return module.kinds.path(module.kinds.add_kind(bytes));
}

Result<Program> read_wasm(Realm& realm, const std::string& name, std::string_view bytes,
                          const ReadOptions& options) {
  std::vector<Mistake> mistakes;
  Sections s;
  read_sections(bytes, s, mistakes);
  if (!mistakes.empty()) return diagnostic(name, mistakes[0]);
  Program& p = s.program;
  p.module = std::make_unique<Module>(realm, module_name(s, name));
  p.guarded = options.guarded;
  Module& module = *p.module;
  module.sources.push_back({1, name.substr(name.rfind('/') == name.npos ? 0 : name.rfind('/') + 1)});
  const Lines lines = read_lines(s.line_tables);
  for (uint32_t k = 0; k < lines.files.size(); ++k)
    if (module.sources.size() < 100'000) module.sources.push_back({k + 2, lines.files[k]});
  lay_out(s);
  Context context{s,
                  module,
                  options,
                  signatures_of(p),
                  realm.name("instance"),
                  lines,
                  size_kind(realm, module, s.program.memories)};
  add_functions(s, context);
  add_segments(s, module);
  std::vector<Done> done = read_bodies(s, context, threads_for(s, options));
  Diagnostics problems;
  for (uint32_t k = 0; k < done.size() && problems.size() < mistake_limit; ++k)
    if (done[k].mistake)
      problems.push_back(diagnostic(name, *done[k].mistake, s.function_text(s.imported_functions + k)));
  if (!problems.empty()) return problems;
  size_t positions = 0;
  for (const Done& d : done) p.spared_checks += d.wanted.spared_checks;
  for (const Done& d : done) positions += d.wanted.offsets.size() * (lines.rows.empty() ? 1 : 2);
  module.expect_positions(positions);
  Runtime runtime(module);
  for (uint32_t k = 0; k < p.functions.size(); ++k) {
    const FunctionRow& row = p.functions[k];
    if (!row.imported)
      put_into(context, module.function(row.symbol), done[k - s.imported_functions].wanted, runtime);
    else if (row.symbol.exists())
      pass_on(row, context);
  }
  add_set_up(s, context, runtime);
  return std::move(s.program);
}

}  // namespace porphyry::wasm
