// What all instances have in common.
#include "porphyry/host/instance.h"

#include <fmt/format.h>

#include <cstring>

namespace porphyry::wasm {

Result<std::shared_ptr<LoadedProgram>> load_program(const std::string& name, std::string bytes,
                                                    const ReadOptions& options) {
  auto out = std::make_shared<LoadedProgram>();
  out->bytes = std::move(bytes);
  auto program = read_wasm(out->realm, name, out->bytes, options);
  if (!program) return program.why();
  out->program = std::move(*program);
  return out;
}

CallResult Instance::call(std::string_view name, std::span<const Datum> arguments) {
  CallResult out;
  out.end = CallResult::End::Trap;
  const Export* e = program().find_export(name);
  if (!e || e->kind != Kind::Function) {
    out.message = fmt::format("no function is exported as '{}'", name);
    return out;
  }
  size_t wanted = program().type_of(e->index).parameters.size();
  if (arguments.size() != wanted) {
    out.message = fmt::format("'{}' takes {}, but {} given", name, counted(wanted, "argument"),
                              counted(arguments.size(), "is", "are"));
    return out;
  }
  return call_function(e->index, arguments);
}

std::optional<Datum> Instance::global(std::string_view name) {
  const Export* e = program().find_export(name);
  if (!e || e->kind != Kind::Global) return std::nullopt;
  Datum out;
  size_t bytes = ir_type(program().globals[e->index].type).bytes();
  const uint8_t* cell = global_cell(e->index);
  std::memcpy(&out.bits, cell, std::min<size_t>(bytes, 8));
  if (bytes > 8) std::memcpy(&out.high, cell + 8, bytes - 8);
  return out;
}

bool Instance::set_global(std::string_view name, const Datum& value) {
  const Export* e = program().find_export(name);
  if (!e || e->kind != Kind::Global || !program().globals[e->index].is_mutable) return false;
  size_t bytes = ir_type(program().globals[e->index].type).bytes();
  uint8_t* cell = global_cell(e->index);
  std::memcpy(cell, &value.bits, std::min<size_t>(bytes, 8));
  if (bytes > 8) std::memcpy(cell + 8, &value.high, bytes - 8);
  return true;
}

std::string trap_text(const LoadedProgram& loaded, Position at, std::string_view function) {
  const Module& m = *loaded.program.module;
  bool setting_up = function == m.symbol_name(loaded.program.set_up);
  if (setting_up && !at.exists()) return "there is no room for the memory or a table of an instance";
  if (setting_up)
    return fmt::format("a segment does not fit the memory or table, at byte {}", m.position(at).line);
  if (!at.exists()) return fmt::format("a trap, in '{}'", function);
  const PositionRow& row = m.position(at);
  uint32_t offset = row.merged_with.exists() ? m.position(row.merged_with).line : row.line;
  std::string place = row.merged_with.exists()
                          ? fmt::format("{}:{}:{}, ", m.sources[row.source - 1].name, row.line, row.column)
                          : "";
  return fmt::format("{} ({}), in '{}' at {}byte {}", trap_reason(loaded.bytes, offset),
                     instruction_name(loaded.bytes, offset), function, place, offset);
}

}  // namespace porphyry::wasm
