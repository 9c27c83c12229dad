// Instances of programs from WebAssembly: made, called, their memory seen.
//
//   auto program = wasm::load_program("frost.wasm", bytes, {.guarded = true});
//   auto code = wasm::NativeCode::compile(*program, *native_target(), {});
//   auto instance = wasm::make_instance(*code, imports);
//   if (!instance) …                                  // all that is missing or of another type
//   auto wet_bulb = (*instance)->function<float(float, float)>("wet_bulb");
//   Result<float> t = (*wet_bulb)(3.5f, 0.4f);        // a trap is a diagnostic
//
// On the processor, instances share the code and nothing else: each may be used by another thread, one thread
// at a time. The evaluator runs an instance of its own.
#pragma once

#include "porphyry/host/imports.h"
#include "porphyry/jit/jit.h"
#include "porphyry/simulate/run.h"

namespace porphyry::wasm {

// A program with its realm and the bytes it was read from, which messages look into.
struct LoadedProgram {
  std::string bytes;
  Realm realm;
  Program program;
};
Result<std::shared_ptr<LoadedProgram>> load_program(const std::string& name, std::string bytes,
                                                    const ReadOptions& options = {});

// What a trap at a position of the program's module says.
std::string trap_text(const LoadedProgram& loaded, Position at, std::string_view function);

struct CallResult {
  enum class End : uint8_t {
    Result,
    Trap,
    Exit,       // the program asked its host to end it: see exit_code
    Unfinished  // out of steps, memory or time
  } end = End::Result;
  std::vector<Datum> results;
  std::string message;  // why, unless a result: "an access outside of the memory (i32.load), in 'f' at …"
  uint32_t exit_code = 0;
};

template <class F>
class TypedFunction;

class Instance {
 public:
  virtual ~Instance() = default;
  const Program& program() const { return loaded_->program; }
  const LoadedProgram& loaded() const { return *loaded_; }

  // The exported function. The arguments must be as many as it takes. A name that is no function's is a trap
  // that says so.
  CallResult call(std::string_view name, std::span<const Datum> arguments);
  // By number.
  virtual CallResult call_function(uint32_t function, std::span<const Datum> arguments) = 0;
  // Checked against the function's type.
  template <class F>
  Result<TypedFunction<F>> function(std::string_view name);

  // The bytes of the program's memory; empty when it has none. Valid until the next call or growth.
  virtual std::span<uint8_t> memory() = 0;
  // By so many pages; false when it may not be, or cannot.
  virtual bool grow_memory(uint32_t pages) = 0;
  // The value of an exported global, and another one for it; nothing, or false, for a name that has none or
  // (second) one that does not change.
  std::optional<Datum> global(std::string_view name);
  bool set_global(std::string_view name, const Datum& value);

  // For importing: the address of a function's record, of a table's or memory's, or a global's cell. Null
  // where instances cannot share.
  virtual void* address_of(const Export& what) = 0;

 protected:
  explicit Instance(std::shared_ptr<LoadedProgram> loaded) : loaded_(std::move(loaded)) {}
  virtual uint8_t* global_cell(uint32_t global) = 0;

  std::shared_ptr<LoadedProgram> loaded_;
};

// A program compiled for this processor, for any number of instances.
class NativeCode {
 public:
  // The program must be one that this may keep; it is legalized in a copy.
  static Result<std::shared_ptr<const NativeCode>> compile(std::shared_ptr<LoadedProgram> loaded,
                                                           const machine::Target& target,
                                                           const machine::LowerOptions& options = {});
  ~NativeCode();
  const Jit& jit() const { return *jit_; }
  const machine::Target& target() const { return target_; }
  const std::shared_ptr<LoadedProgram>& loaded() const { return loaded_; }
  const class Bridges& bridges() const { return *bridges_; }
  // Its code; null for one that is imported and not exported again.
  const void* function(uint32_t number) const { return functions_[number]; }

 private:
  explicit NativeCode(const machine::Target& target);
  const machine::Target& target_;
  std::shared_ptr<LoadedProgram> loaded_;
  std::unique_ptr<Jit> jit_;
  std::unique_ptr<class Bridges> bridges_;
  std::vector<const void*> functions_;
  std::vector<std::unique_ptr<class ProtectedCode>> protected_;
};

struct InstanceOptions {
  double time_limit_seconds =
      0;  // of each call; 0: none. With one, one thread of a process may call at a time
};

// Runs the start function, too: a trap there is a diagnostic. What is missing, or of another type, is told at
// once.
Result<std::unique_ptr<Instance>> make_instance(std::shared_ptr<const NativeCode> code,
                                                const Imports& imports, const InstanceOptions& options = {});

// In the evaluator, on the module as it is. The host's memories and globals are used as they are, but a
// memory that grows moves away from the host's; tables are copies. What other instances export cannot be
// imported.
Result<std::unique_ptr<Instance>> make_evaluated_instance(std::shared_ptr<LoadedProgram> loaded,
                                                          const Imports& imports,
                                                          const EvaluatorOptions& options = {});

// In the simulator, on the instance's memory: for functions that call no host and need no more memory.
CallResult simulate_call(Instance& native, std::string_view name, std::span<const Datum> arguments,
                         const simulate::RunOptions& options = {});

template <class R, class... A>
class TypedFunction<R(A...)> {
 public:
  TypedFunction(Instance& instance, uint32_t function) : instance_(&instance), function_(function) {}
  // A trap, or the program's end, is a diagnostic.
  Result<std::conditional_t<std::is_void_v<R>, std::monostate, R>> operator()(A... arguments) const {
    const Datum given[sizeof...(A) + 1] = {to_datum<A>(arguments)...};
    CallResult run = instance_->call_function(function_, std::span(given, sizeof...(A)));
    if (run.end != CallResult::End::Result) return complaint(std::move(run.message));
    if constexpr (std::is_void_v<R>)
      return std::monostate();
    else
      return from_datum<R>(run.results[0]);
  }

 private:
  Instance* instance_;
  uint32_t function_;
};

template <class F>
Result<TypedFunction<F>> Instance::function(std::string_view name) {
  const Export* e = program().find_export(name);
  if (!e || e->kind != Kind::Function)
    return complaint("no function is exported as '" + std::string(name) + "'");
  const FunctionType& is = program().type_of(e->index);
  FunctionType wanted = detail::Callable<F>::type();
  if (is != wanted)
    return complaint("'" + std::string(name) + "' is of type " + is.text() + ", not " + wanted.text());
  return TypedFunction<F>(*this, e->index);
}

}  // namespace porphyry::wasm
