// Instances in the evaluator. What the host gives becomes part of a copy of the module: an external function
// for each imported function, data for all else, and data of addresses for the array of imports, so that
// every pointer comes from somewhere. Memory that the program asks for is ours, handed to the evaluator.
#include <fmt/format.h>

#include <cstring>
#include <list>

#include "checked_imports.h"
#include "porphyry/host/instance.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/link.h"
#include "porphyry/ir/pen.h"

namespace porphyry::wasm {
namespace {

using types::ptr, types::i64;

DataPiece numbers(Type t, std::vector<uint64_t> all) {
  return {.kind = DataPiece::Kind::Numbers, .type = t, .numbers = std::move(all)};
}
DataPiece leading_to(Symbol s) { return {.kind = DataPiece::Kind::Addresses, .symbols = {s}}; }
DataPiece zeros(uint64_t bytes) { return {.kind = DataPiece::Kind::Zero, .zero_bytes = bytes}; }

class EvaluatedInstance final : public Instance {
 public:
  EvaluatedInstance(std::shared_ptr<LoadedProgram> loaded, std::vector<CheckedImport> imports,
                    const EvaluatorOptions& options)
      : Instance(std::move(loaded)), imports_(std::move(imports)), module_(clone(*program().module)) {
    bytes_.resize(program().instance_bytes);
    Symbol array = add_imports();
    set_up_ = add_set_up(array);
    evaluator_ = std::make_unique<Evaluator>(*module_, options);
    instance_ = evaluator_->attach(bytes_, "the instance");
    provide();
  }

  CallResult set_up() {
    std::vector<Datum> arguments{instance_};
    for (const Lent& l : lent_) arguments.push_back(attach(l.bytes, "what the host gives"));
    return run(set_up_, arguments);
  }

  CallResult call_function(uint32_t function, std::span<const Datum> arguments) override {
    const FunctionRow& row = program().functions[function];
    std::vector<Datum> all{instance_};
    const FunctionType& type = program().types[row.type];
    for (size_t k = 0; k < type.parameters.size(); ++k) {
      const Datum d = k < arguments.size() ? arguments[k] : Datum{};
      if (type.parameters[k] != ValueType::V128)
        all.push_back(d);
      else
        for (uint64_t w : lane_words(d)) all.push_back({w});
    }
    CallResult out = run(row.symbol, all);
    if (out.end == CallResult::End::Result) out.results = packed(out.results, type.results);
    return out;
  }

  std::span<uint8_t> memory() override {
    if (program().memories.empty()) return {};
    const uint8_t* record = memory_record();
    uint64_t at, size;
    std::memcpy(&at, record, 8), std::memcpy(&size, record + 8, 8);
    for (Piece& p : pieces_)
      if (p.where.bits == at) return p.bytes.first(size);
    return {};
  }
  bool grow_memory(uint32_t pages) override {
    if (!program().grow_memory.exists()) return false;
    const Datum arguments[] = {instance_, {pages}};
    CallResult grown = run(program().grow_memory, arguments);
    return grown.end == CallResult::End::Result && static_cast<int32_t>(grown.results[0].bits) >= 0;
  }
  void* address_of(const Export&) override { return nullptr; }

 protected:
  uint8_t* global_cell(uint32_t global) override {
    if (!program().globals[global].imported) return bytes_.data() + program().globals[global].place;
    for (size_t k = 0; k < imports_.size(); ++k)
      if (imports_[k].global && program().imports[k].index == global)
        return reinterpret_cast<uint8_t*>(imports_[k].global->words);
    return nullptr;
  }

 private:
  struct Piece {
    std::span<uint8_t> bytes;
    Datum where;
    std::vector<uint8_t> own = {};  // what the bytes are of, unless the host's
  };
  // Bytes of the host's, whose address goes into a data item before anything runs.
  struct Lent {
    std::span<uint8_t> bytes;
    Symbol item = {};  // nothing: the array of imports
    uint64_t offset = 0;
  };
  Datum attach(std::span<uint8_t> bytes, const char* name) {
    pieces_.push_back({bytes, evaluator_->attach(bytes, name)});
    return pieces_.back().where;
  }

  // Lanes one behind the other, as two halves.
  static std::vector<Datum> packed(const std::vector<Datum>& flat, const std::vector<ValueType>& types) {
    std::vector<Datum> out;
    size_t at = 0;
    for (ValueType t : types) {
      if (t != ValueType::V128) {
        out.push_back(flat[at++]);
        continue;
      }
      const uint64_t lanes[] = {flat[at].bits, flat[at + 1].bits, flat[at + 2].bits, flat[at + 3].bits};
      out.push_back(datum_of_lanes(lanes));
      at += 4;
    }
    return out;
  }

  const uint8_t* memory_record() const {
    const MemoryRow& m = program().memories[0];
    return m.imported ? evaluator_->data(imported_memory_).data() : bytes_.data() + m.place;
  }
  std::string fresh(const std::string& name) const { return free_name(*module_, name); }

  // The data that the array of imports is, or nothing.
  Symbol add_imports() {
    DataItem array{.align = 8};
    for (size_t k = 0; k < imports_.size(); ++k) {
      const CheckedImport& i = imports_[k];
      const std::string name = "host." + program().imports[k].module + "." + program().imports[k].name;
      DataItem record{.align = 16};
      if (i.is_function()) {
        Signature signature{{ptr}, {}};
        for (ValueType t : i.function.type.parameters) signature.parameters.push_back(ir_type(t));
        for (ValueType t : i.function.type.results) signature.results.push_back(ir_type(t));
        Symbol code = module_->add_extern_function(fresh(name), signature);
        functions_.push_back({code, k});
        record.pieces = {leading_to(code), zeros(8), numbers(i64, {type_number(i.function.type)})};
      } else if (i.memory) {
        record.pieces = {zeros(8), numbers(i64, {i.memory->bytes().size(), i.memory->record()->words[2]})};
      } else if (i.table) {
        const Record& r = *i.table->record();
        Symbol data =
            module_->add_data(fresh(name + ".elements"),
                              {.align = 16, .pieces = {zeros(std::max<uint64_t>(8 * r.words[1], 8))}});
        record.pieces = {leading_to(data), numbers(i64, {r.words[1], r.words[2]})};
      } else {
        lent_.push_back({{reinterpret_cast<uint8_t*>(i.global->words), sizeof i.global->words}, {}, 8 * k});
        array.pieces.push_back(zeros(8));
        continue;
      }
      Symbol item = module_->add_data(fresh(name + ".record"), std::move(record));
      if (i.memory) imported_memory_ = item, lent_.push_back({i.memory->bytes(), item});
      array.pieces.push_back(leading_to(item));
    }
    if (imports_.empty()) array.pieces.push_back(zeros(8));
    return module_->add_data(fresh("host.imports"), std::move(array));
  }

  Symbol add_set_up(Symbol array) {
    Symbol out = module_->add_function(fresh("host.set_up"), {std::vector<Type>(1 + lent_.size(), ptr), {}});
    Pen pen(*module_, module_->function(out));
    pen.at_end(pen.function().add_block());
    for (size_t k = 0; k < lent_.size(); ++k)
      pen.store(pen.function().parameters()[1 + k],
                pen.address_of(lent_[k].item.exists() ? lent_[k].item : array), {}, 1,
                static_cast<int64_t>(lent_[k].offset));
    pen.call(program().set_up, {pen.function().parameters()[0], pen.address_of(array)});
    pen.return_values({});
    return out;
  }

  void provide();
  bool call_host(size_t import, HostCall& call);
  CallResult run(Symbol function, std::span<const Datum> arguments);

  std::vector<CheckedImport> imports_;
  std::unique_ptr<Module> module_;
  std::vector<uint8_t> bytes_;
  std::vector<std::pair<Symbol, size_t>> functions_;  // external ones, and the import each stands for
  std::list<Piece> pieces_;
  std::vector<Lent> lent_;
  Symbol imported_memory_;  // its record
  Symbol set_up_;
  std::unique_ptr<Evaluator> evaluator_;
  Datum instance_;
  std::string host_trap_;
  std::optional<uint32_t> host_exit_;
};

void EvaluatedInstance::provide() {
  for (auto [symbol, import] : functions_)
    evaluator_->provide(symbol, [this, import = import](HostCall& call) { return call_host(import, call); });
  if (Symbol claim = module_->find(storage_claim); claim.exists())
    evaluator_->provide(claim, [this](HostCall& call) {
      uint64_t bytes = call.arguments[0].bits,
               room = std::max(bytes, std::min(2 * bytes, call.arguments[1].bits));
      if (room > uint64_t(1) << 32) return call.results[0] = {}, true;
      std::vector<uint8_t> own(std::max<uint64_t>(room, 1));
      call.results[0] = attach(own, "storage");
      pieces_.back().own = std::move(own);  // whose bytes stay where they are
      return true;
    });
  if (Symbol extend = module_->find(storage_extend); extend.exists())
    evaluator_->provide(extend, [this](HostCall& call) {
      call.results[0] = {0};
      for (const Piece& p : pieces_)
        if (p.where.bits == call.arguments[0].bits && call.arguments[1].bits <= p.bytes.size())
          call.results[0] = {1};
      return true;
    });
  if (Symbol release = module_->find(storage_release); release.exists())
    evaluator_->provide(release, [](HostCall&) { return true; });  // with the instance
}

bool EvaluatedInstance::call_host(size_t import, HostCall& call) {
  const Imports::Function& f = imports_[import].function;
  std::vector<Datum> flat(call.arguments.begin() + 1, call.arguments.end());
  std::vector<Datum> arguments = packed(flat, f.type.parameters), results(f.type.results.size());
  HostFunctionCall host{*this, arguments, results};
  bool good = f.run(host);
  for (size_t k = 0, at = 0; k < results.size(); ++k) {
    if (f.type.results[k] == ValueType::V128) {
      for (uint64_t w : lane_words(results[k])) call.results[at++] = {w};
    } else {
      call.results[at++] = results[k];
    }
  }
  if (!good) host_trap_ = std::move(host.trap), host_exit_ = host.exit_code;
  return good;
}

CallResult EvaluatedInstance::run(Symbol function, std::span<const Datum> arguments) {
  host_trap_.clear(), host_exit_.reset();
  Outcome is = evaluator_->call(function, arguments);
  CallResult out;
  if (is.end == Outcome::End::Result) {
    out.results = std::move(is.results);
    return out;
  }
  out.end = is.end == Outcome::End::Exhausted ? CallResult::End::Unfinished : CallResult::End::Trap;
  out.message = is.message;
  if (host_exit_) {
    out.end = CallResult::End::Exit, out.exit_code = *host_exit_;
    out.message = fmt::format("the program ended itself with code {}", *host_exit_);
  } else if (!host_trap_.empty()) {
    out.message = host_trap_;
  } else if (is.too_deep && !is.trace.empty()) {
    out.end = CallResult::End::Trap;
    out.message = fmt::format("the stack is exhausted, in '{}'", module_->symbol_name(is.trace[0].function));
  } else if (is.end == Outcome::End::Trap && !is.trace.empty()) {
    const Outcome::Call& at = is.trace[0];
    Position p = at.at.exists() ? module_->function(at.function).position(at.at) : Position();
    out.message = trap_text(*loaded_, p, module_->symbol_name(at.function));
  }
  return out;
}

}  // namespace

Result<std::unique_ptr<Instance>> make_evaluated_instance(std::shared_ptr<LoadedProgram> loaded,
                                                          const Imports& imports,
                                                          const EvaluatorOptions& options) {
  if (loaded->program.guarded)
    return complaint("the evaluator has no pages that guard a memory",
                     "a program that was read without 'guarded'");
  auto checked = check_imports(loaded->program, imports);
  if (!checked) return checked.why();
  for (const CheckedImport& i : *checked)
    if (i.instance)
      return complaint("an instance in the evaluator imports nothing from another one",
                       "imports from the host");
  auto out = std::make_unique<EvaluatedInstance>(std::move(loaded), std::move(*checked), options);
  CallResult run = out->set_up();
  if (run.end != CallResult::End::Result) return complaint(std::move(run.message));
  return std::unique_ptr<Instance>(std::move(out));
}

}  // namespace porphyry::wasm
