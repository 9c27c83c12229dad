// Instances on the processor.
#include <fmt/format.h>

#include <csignal>

#include "bridges.h"
#include "checked_imports.h"
#include "porphyry/host/instance.h"
#include "porphyry/jit/apart.h"
#include "protect.h"
#include "storage.h"

namespace porphyry::wasm {
namespace {

void* externals(std::string_view name) {
  if (name == storage_claim) return reinterpret_cast<void*>(porphyry_wasm_claim);
  if (name == storage_extend) return reinterpret_cast<void*>(porphyry_wasm_extend);
  if (name == storage_release) return reinterpret_cast<void*>(porphyry_wasm_release);
  return usual_externals(name);
}

struct AlignedFree {
  void operator()(uint8_t* p) const { ::operator delete[](p, std::align_val_t(64)); }
};

class NativeInstance final : public Instance {
 public:
  NativeInstance(std::shared_ptr<const NativeCode> code, const InstanceOptions& options)
      : Instance(code->loaded()), code_(std::move(code)), options_(options) {
    bytes_.reset(new (std::align_val_t(64)) uint8_t[program().instance_bytes]());
  }
  ~NativeInstance() override {
    if (code_) enter_own(program().tear_down, nullptr);
  }

  // What the array of imports has, in order, and then the start.
  Result<std::unique_ptr<Instance>> begin(std::vector<CheckedImport> imports,
                                          std::unique_ptr<NativeInstance> self) {
    imports_ = std::move(imports);
    std::vector<void*> addresses;
    for (size_t k = 0; k < imports_.size(); ++k)
      addresses.push_back(address(imports_[k], program().imports[k]));
    CallResult run = enter_own(program().set_up, addresses.data());
    if (run.end != CallResult::End::Result) return complaint(std::move(run.message));
    return std::unique_ptr<Instance>(std::move(self));
  }

  CallResult call_function(uint32_t function, std::span<const Datum> arguments) override {
    const FunctionRow& row = program().functions[function];
    const FunctionType& type = program().types[row.type];
    std::vector<FrameSlot> frame(type.parameters.size() + type.results.size());
    for (size_t k = 0; k < type.parameters.size() && k < arguments.size(); ++k)
      frame[k] = {arguments[k].bits, arguments[k].high};
    struct Entry {
      Bridges::Enter enter;
      const void* code;
      void* instance;
      FrameSlot* frame;
    } entry{code_->bridges().enter(row.type), code_->function(function), bytes_.get(), frame.data()};
    CallResult out = run(
        [](void* e) {
          auto& it = *static_cast<Entry*>(e);
          it.enter(it.code, it.instance, it.frame);
        },
        &entry);
    if (out.end != CallResult::End::Result) return out;
    for (size_t k = type.parameters.size(); k < frame.size(); ++k) {
      Datum d{frame[k].low, frame[k].high};
      if (type.results[k - type.parameters.size()] != ValueType::V128) d.high = 0;
      if (ir_type(type.results[k - type.parameters.size()]).total_bits() == 32) d.bits &= 0xffffffff;
      out.results.push_back(d);
    }
    return out;
  }

  std::span<uint8_t> memory() override {
    if (program().memories.empty()) return {};
    const Record& r = *memory_record();
    return {reinterpret_cast<uint8_t*>(r.words[0]), r.words[1]};
  }
  bool grow_memory(uint32_t pages) override {
    return !program().memories.empty() && wasm::grow(*memory_record(), pages);
  }

  void* address_of(const Export& what) override {
    switch (what.kind) {
      case Kind::Function: return at(program().functions[what.index].record);
      case Kind::Table: return place(program().tables[what.index]);
      case Kind::Memory: return place(program().memories[what.index]);
      case Kind::Global: return place(program().globals[what.index]);
    }
    return nullptr;
  }

  const NativeCode& code() const { return *code_; }
  uint8_t* bytes() const { return bytes_.get(); }

 protected:
  uint8_t* global_cell(uint32_t global) override {
    return static_cast<uint8_t*>(place(program().globals[global]));
  }

 private:
  uint8_t* at(uint32_t place) const { return bytes_.get() + place; }
  template <class Row>
  void* place(const Row& row) const {
    return row.imported ? *reinterpret_cast<void**>(at(row.place)) : at(row.place);
  }
  Record* memory_record() const { return static_cast<Record*>(place(program().memories[0])); }
  const void* function_address(Symbol s) const {
    return code_->jit().address(program().module->symbol_name(s));
  }
  void* address(CheckedImport& i, const Import& as);
  CallResult enter_own(Symbol function, void* argument) {
    struct Entry {
      void (*code)(void*, void*);
      void *instance, *argument;
    } entry{reinterpret_cast<void (*)(void*, void*)>(const_cast<void*>(function_address(function))),
            bytes_.get(), argument};
    return run(
        [](void* e) {
          auto& it = *static_cast<Entry*>(e);
          it.code(it.instance, it.argument);
        },
        &entry);
  }
  CallResult run(void (*enter)(void*), void* what);
  CallResult stopped(const Stop& stop);

  std::shared_ptr<const NativeCode> code_;
  InstanceOptions options_;
  std::unique_ptr<uint8_t[], AlignedFree> bytes_;
  std::vector<CheckedImport> imports_;
  struct Made {  // for a function of the host
    HostContext context;
    Record record;
  };
  std::vector<std::unique_ptr<Made>> made_;
};

void* NativeInstance::address(CheckedImport& i, const Import& as) {
  if (i.is_function()) {
    made_.push_back(std::make_unique<Made>());
    Made& m = *made_.back();
    m.context = {this, &i.function};
    m.record.words[0] =
        reinterpret_cast<uintptr_t>(code_->bridges().to_host(program().functions[as.index].type));
    m.record.words[1] = reinterpret_cast<uintptr_t>(&m.context);
    m.record.words[2] = type_number(i.function.type);
    return &m.record;
  }
  if (i.memory) return i.memory->record();
  if (i.table) return i.table->record();
  if (i.global) return i.global->words;
  return i.instance->address_of(i.what);
}

CallResult NativeInstance::run(void (*enter)(void*), void* what) {
  host_stop() = {};
  Stop stop = run_protected(code_->target(), options_.time_limit_seconds, enter, what);
  if (stop.signal == 0) return {};
  return stopped(stop);
}

CallResult NativeInstance::stopped(const Stop& stop) {
  CallResult out;
  out.end = CallResult::End::Trap;
  if (stop.signal == SIGALRM) {
    out.end = CallResult::End::Unfinished;
    out.message = fmt::format("the run took more than {} s", options_.time_limit_seconds);
    return out;
  }
  if (host_stop().is_set) {
    out.exit_code = host_stop().exit_code.value_or(0);
    if (host_stop().exit_code) out.end = CallResult::End::Exit;
    out.message = host_stop().exit_code ? fmt::format("the program ended itself with code {}", out.exit_code)
                                        : host_stop().message;
    return out;
  }
  const NativeCode& code = *owner_of(stop.at);  // perhaps that of another instance
  auto where = code.jit().locate(stop.at);
  Position position = where ? where->row : Position();
  std::string function = where ? where->function : "";
  bool access = stop.signal == SIGSEGV || stop.signal == SIGBUS;
  out.message = access && is_end_of_stack(stop.address)
                    ? fmt::format("the stack is exhausted, in '{}'", function)
                    : trap_text(*code.loaded(), position, function);
  return out;
}

}  // namespace

NativeCode::NativeCode(const machine::Target& target) : target_(target) {}
NativeCode::~NativeCode() = default;

Result<std::shared_ptr<const NativeCode>> NativeCode::compile(std::shared_ptr<LoadedProgram> loaded,
                                                              const machine::Target& target,
                                                              const machine::LowerOptions& options) {
  std::shared_ptr<NativeCode> out(new NativeCode(target));
  out->loaded_ = std::move(loaded);
  auto jit = Jit::compile(*out->loaded_->program.module, target, options, externals);
  if (!jit) return jit.why();
  out->jit_ = std::move(*jit);
  auto bridges = Bridges::compile(out->loaded_->program, target);
  if (!bridges) return bridges.why();
  out->bridges_ = std::move(*bridges);
  for (const FunctionRow& f : out->loaded_->program.functions)
    out->functions_.push_back(f.symbol.exists()
                                  ? out->jit_->address(out->loaded_->program.module->symbol_name(f.symbol))
                                  : nullptr);
  for (const Jit* code : {static_cast<const Jit*>(out->jit_.get()), &out->bridges_->jit()})
    out->protected_.push_back(std::make_unique<ProtectedCode>(*code, *out));
  return std::shared_ptr<const NativeCode>(std::move(out));
}

Result<std::unique_ptr<Instance>> make_instance(std::shared_ptr<const NativeCode> code,
                                                const Imports& imports, const InstanceOptions& options) {
  auto checked = check_imports(code->loaded()->program, imports);
  if (!checked) return checked.why();
  // Code without comparisons reaches as far as an offset may lead.
  if (code->loaded()->program.guarded)
    for (const CheckedImport& i : *checked)
      if (i.instance && i.what.kind == Kind::Memory) {
        auto* record = static_cast<const Record*>(i.instance->address_of(i.what));
        if (!record || reserved_bytes(reinterpret_cast<void*>(record->words[0])) < guarded_bytes)
          return complaint("the memory '" + i.what.name + "' of another instance has no pages that guard it",
                           "an instance of a program that was read as 'guarded'");
      }
  auto instance = std::make_unique<NativeInstance>(std::move(code), options);
  NativeInstance& it = *instance;
  return it.begin(std::move(*checked), std::move(instance));
}

CallResult simulate_call(Instance& instance, std::string_view name, std::span<const Datum> arguments,
                         const simulate::RunOptions& options) {
  auto& native = dynamic_cast<NativeInstance&>(instance);
  CallResult out;
  const Program& p = instance.program();
  const Export* e = p.find_export(name);
  out.end = CallResult::End::Trap;
  if (!e || e->kind != Kind::Function)
    return out.message = fmt::format("no function is exported as '{}'", name), out;
  const FunctionType& type = p.type_of(e->index);
  auto runner = simulate::Runner::make(
      native.code().jit(), p.module->symbol_name(p.functions[e->index].symbol), native.code().target());
  if (!runner) return out.message = runner.why()[0].message, out;
  (*runner)->allow({native.bytes(), p.instance_bytes});
  if (!instance.memory().empty()) (*runner)->allow(instance.memory());
  for (const TableRow& t : p.tables) {
    auto* record = reinterpret_cast<const Record*>(
        t.imported ? *reinterpret_cast<uint8_t**>(native.bytes() + t.place) : native.bytes() + t.place);
    if (record->words[1])
      (*runner)->allow({reinterpret_cast<uint8_t*>(record->words[0]), 8 * record->words[1]});
  }
  std::vector<uint64_t> words = words_of(arguments, type.parameters);
  words.insert(words.begin(), reinterpret_cast<uintptr_t>(native.bytes()));
  simulate::RunOutcome run = (*runner)->run(words, options);
  if (run.end == simulate::RunOutcome::End::Result) {
    out.end = CallResult::End::Result;
    out.results = values_of(run.results, type.results);
    return out;
  }
  if (run.end == simulate::RunOutcome::End::TooLong) out.end = CallResult::End::Unfinished;
  out.message = run.message + place_text(native.code().jit(), run.at);
  return out;
}

}  // namespace porphyry::wasm
