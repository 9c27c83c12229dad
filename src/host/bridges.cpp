#include "bridges.h"

#include <fmt/format.h>

#include "porphyry/host/instance.h"
#include "porphyry/ir/pen.h"

namespace porphyry::wasm {
namespace {

constexpr int64_t slot_bytes = sizeof(FrameSlot);

// Called by what `to_host` gives. False is a trap, which that code brings about: no frame of the host is left
// then.
extern "C" bool porphyry_wasm_call_host(const HostContext* context, FrameSlot* frame) {
  const FunctionType& type = context->function->type;
  std::vector<Datum> arguments(type.parameters.size()), results(type.results.size());
  for (size_t k = 0; k < arguments.size(); ++k) arguments[k] = {frame[k].low, frame[k].high};
  HostFunctionCall call{*context->instance, arguments, results};
  bool good = context->function->run(call);
  for (size_t k = 0; k < results.size(); ++k)
    frame[arguments.size() + k] = {results[k].bits, results[k].high};
  if (!good) host_stop() = {true, std::move(call.trap), call.exit_code};
  return good;
}

std::vector<Value> take(Pen& pen, Value frame, const std::vector<ValueType>& types, size_t first) {
  std::vector<Value> out;
  for (size_t k = 0; k < types.size(); ++k)
    out.push_back(pen.load(ir_type(types[k]), frame, {}, 1, slot_bytes * static_cast<int64_t>(first + k)));
  return out;
}
void leave(Pen& pen, Value frame, std::span<const Value> values, size_t first) {
  for (size_t k = 0; k < values.size(); ++k)
    pen.store(values[k], frame, {}, 1, slot_bytes * static_cast<int64_t>(first + k));
}
std::vector<Type> ir_types(const std::vector<ValueType>& types) {
  std::vector<Type> out;
  for (ValueType t : types) out.push_back(ir_type(t));
  return out;
}

void add_enter(Module& module, const std::string& name, const FunctionType& type) {
  const Type ptr = Type::pointer();
  Function& f = module.function(module.add_function(name, {{ptr, ptr, ptr}, {}}));
  Pen pen(module, f);
  pen.at_end(f.add_block());
  Value code = f.parameters()[0], context = f.parameters()[1], frame = f.parameters()[2];
  std::vector<Value> arguments = take(pen, frame, type.parameters, 0);
  arguments.insert(arguments.begin(), context);
  std::vector<Value> results = pen.call_through(code, arguments, ir_types(type.results));
  leave(pen, frame, results, type.parameters.size());
  pen.return_values({});
}

void add_to_host(Module& module, const std::string& name, const FunctionType& type, Symbol host) {
  std::vector<Type> parameters = ir_types(type.parameters);
  parameters.insert(parameters.begin(), Type::pointer());
  Function& f = module.function(module.add_function(name, {parameters, ir_types(type.results)}));
  Pen pen(module, f);
  pen.at_end(f.add_block());
  size_t slots = std::max<size_t>(type.parameters.size() + type.results.size(), 1);
  Value frame = pen.reserve(slots * sizeof(FrameSlot), 16);
  std::span<const Value> given = f.parameters();
  // Whole slots are written, so that the host reads no stale halves.
  for (size_t k = 0; k < type.parameters.size(); ++k)
    if (type.parameters[k] != ValueType::V128)
      for (int64_t half : {0, 8})
        pen.store(pen.i64(0), frame, {}, 1, slot_bytes * static_cast<int64_t>(k) + half);
  leave(pen, frame, given.subspan(1), 0);
  Value good = pen.call(host, {f.parameters()[0], frame})[0];
  Block done = f.add_block(), stopped = f.add_block();
  pen.when(good, done, {}, stopped, {});
  pen.at_end(stopped).trap();
  pen.at_end(done);
  pen.return_values(take(pen, frame, type.results, type.parameters.size()));
}

}  // namespace

HostStop& host_stop() {
  thread_local HostStop it;
  return it;
}

Result<std::unique_ptr<Bridges>> Bridges::compile(const Program& program, const machine::Target& target) {
  auto out = std::make_unique<Bridges>();
  Module module(out->realm_, "bridges");
  Symbol host = module.add_extern_function("host", {{Type::pointer(), Type::pointer()}, {Type::boolean()}});
  std::vector<uint8_t> used(program.types.size());
  for (const FunctionRow& f : program.functions) used[f.type] = 1;
  for (size_t k = 0; k < used.size(); ++k) {
    if (!used[k]) continue;
    add_enter(module, fmt::format("enter {}", k), program.types[k]);
    add_to_host(module, fmt::format("host {}", k), program.types[k], host);
  }
  auto jit = Jit::compile(module, target, {}, [](std::string_view name) -> void* {
    return name == "host" ? reinterpret_cast<void*>(porphyry_wasm_call_host) : nullptr;
  });
  if (!jit) return jit.why();
  out->jit_ = std::move(*jit);
  for (size_t k = 0; k < used.size(); ++k)
    out->pairs_.push_back({reinterpret_cast<Enter>(out->jit_->address(fmt::format("enter {}", k))),
                           out->jit_->address(fmt::format("host {}", k))});
  return out;
}

}  // namespace porphyry::wasm
