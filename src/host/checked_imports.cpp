#include "checked_imports.h"

#include <fmt/format.h>

#include "porphyry/host/instance.h"

namespace porphyry::wasm {
namespace {

// A type as messages have it, and enough to compare.
struct ExternType {
  Kind kind;
  FunctionType function = {};
  ValueType value = ValueType::Unknown;  // of a table's elements, of a global
  bool is_mutable = false;
  Limits limits = {};

  std::string text() const {
    auto range = [&](const char* what) {
      return fmt::format("{}{} {}", limits.least,
                         limits.most ? fmt::format(" to {}", *limits.most) : " or more", what);
    };
    switch (kind) {
      case Kind::Function: return "function " + function.text();
      case Kind::Table: return fmt::format("table of {} {}", range("elements of"), type_name(value));
      case Kind::Memory: return "memory of " + range("pages");
      case Kind::Global: return fmt::format("{}global of {}", is_mutable ? "mutable " : "", type_name(value));
    }
    return "";
  }
};

ExternType type_of(const Program& p, Kind kind, uint32_t index) {
  switch (kind) {
    case Kind::Function: return {kind, p.type_of(index)};
    case Kind::Table: return {kind, {}, p.tables[index].element, false, p.tables[index].limits};
    case Kind::Memory: return {kind, {}, ValueType::Unknown, false, p.memories[index].limits};
    case Kind::Global: return {kind, {}, p.globals[index].type, p.globals[index].is_mutable};
  }
  return {kind};
}

ExternType type_of(const Imports::Item& item) {
  struct Visit {
    ExternType operator()(const Imports::Function& f) const { return {Kind::Function, f.type}; }
    ExternType operator()(const std::shared_ptr<HostMemory>& m) const {
      Limits now = m->limits();
      now.least = static_cast<uint32_t>(m->bytes().size() / page_bytes);
      return {Kind::Memory, {}, ValueType::Unknown, false, now};
    }
    ExternType operator()(const std::shared_ptr<HostTable>& t) const {
      Limits now = t->limits();
      now.least = static_cast<uint32_t>(t->record()->words[1]);
      return {Kind::Table, {}, t->element(), false, now};
    }
    ExternType operator()(const std::shared_ptr<HostGlobal>& g) const {
      return {Kind::Global, {}, g->type, g->is_mutable};
    }
    ExternType operator()(const Imports::OfInstance& e) const {
      ExternType out = type_of(e.instance->program(), e.what.kind, e.what.index);
      if (auto* record = static_cast<const Record*>(e.instance->address_of(e.what));
          record && e.what.kind == Kind::Table)
        out.limits.least = static_cast<uint32_t>(record->words[1]);
      else if (record && e.what.kind == Kind::Memory)
        out.limits.least = static_cast<uint32_t>(record->words[1] / page_bytes);
      return out;
    }
  };
  return std::visit(Visit(), item);
}

bool fits(const ExternType& given, const ExternType& wanted) {
  if (given.kind != wanted.kind || given.function != wanted.function || given.value != wanted.value ||
      given.is_mutable != wanted.is_mutable || given.limits.least < wanted.limits.least)
    return false;
  return !wanted.limits.most || (given.limits.most && *given.limits.most <= *wanted.limits.most);
}

CheckedImport taken(const Imports::Item& item) {
  CheckedImport out;
  if (auto* f = std::get_if<Imports::Function>(&item)) out.function = *f;
  if (auto* m = std::get_if<std::shared_ptr<HostMemory>>(&item)) out.memory = *m;
  if (auto* t = std::get_if<std::shared_ptr<HostTable>>(&item)) out.table = *t;
  if (auto* g = std::get_if<std::shared_ptr<HostGlobal>>(&item)) out.global = *g;
  if (auto* e = std::get_if<Imports::OfInstance>(&item)) out.instance = e->instance, out.what = e->what;
  return out;
}

}  // namespace

Result<std::vector<CheckedImport>> check_imports(const Program& program, const Imports& imports) {
  std::vector<CheckedImport> out;
  std::vector<std::string> wrong;
  for (const Import& i : program.imports) {
    const std::string name = i.module + "." + i.name;
    ExternType wanted = type_of(program, i.kind, i.index);
    const Imports::Item* item = imports.find(i.module, i.name);
    if (!item && i.kind == Kind::Function && imports.missing_functions_trap) {
      CheckedImport trap;
      trap.function = {wanted.function, [name](HostFunctionCall& call) {
                         call.trap = "the imported function '" + name + "' is not given";
                         return false;
                       }};
      out.push_back(std::move(trap));
    } else if (!item) {
      wrong.push_back(fmt::format("  {}, a {}: nothing gives it", name, wanted.text()));
    } else if (ExternType given = type_of(*item); !fits(given, wanted)) {
      wrong.push_back(fmt::format("  {}, a {}: what is given is a {}", name, wanted.text(), given.text()));
    } else {
      out.push_back(taken(*item));
    }
  }
  if (wrong.empty()) return out;
  return complaint(fmt::format("{} missing, or of another type:\n{}",
                               counted(wrong.size(), "import is", "imports are"), fmt::join(wrong, "\n")));
}

}  // namespace porphyry::wasm
