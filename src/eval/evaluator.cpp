#include "porphyry/eval/evaluator.h"

#include <fmt/format.h>

#include <cstring>
#include <unordered_map>

#include "memory.h"
#include "plan.h"
#include "porphyry/ir/compute.h"

namespace porphyry {

using eval::Jump;
using eval::Memory;
using eval::Plan;
using eval::Step;

class Evaluator::Machine {
 public:
  Machine(const Module& module, EvaluatorOptions options)
      : module_(module), options_(options), memory_(options.seed, options.memory_limit) {
    place_data();
  }

  Datum attach(std::span<uint8_t> bytes, std::string name, bool writable) {
    uint32_t id = memory_.attach(bytes, std::move(name), writable);
    memory_.reveal(id);
    return {memory_.address(id), id};
  }
  void provide(Symbol external, HostFunction host) { hosts_[external.index] = std::move(host); }
  std::span<const uint8_t> data(Symbol item) { return memory_.bytes(symbol_objects_[item.index]); }

  Outcome call(Symbol function, std::span<const Datum> arguments) {
    out_ = {};
    frames_.clear();
    slots_.clear();
    if (module_.is_function(function)) {
      enter(function, arguments);
      run();
    } else {
      frames_.push_back({function, nullptr, 0, 0, {}});
      end(Outcome::End::Fault,
          fmt::format("'{}' is external: it has no body to run", module_.symbol_name(function)));
    }
    while (!frames_.empty()) leave();
    return std::move(out_);
  }

 private:
  struct Frame {
    Symbol function;
    const Plan* plan;
    uint32_t step;
    size_t base;                                            // of its slots
    std::vector<std::pair<Instruction, uint32_t>> objects;  // made by reserve
  };

  void place_data() {
    for (size_t k = 0; k < module_.symbol_count(); ++k) {
      const SymbolRow& row = module_[Symbol(k)];
      bool is_data = row.kind == SymbolKind::Data;
      symbol_objects_.push_back(memory_.make(is_data ? row.data.size() : 0, is_data ? row.data.align : 16,
                                             std::string(module_.text(row.name))));
    }
    for (size_t k = 0; k < module_.symbol_count(); ++k) {
      const SymbolRow& row = module_[Symbol(k)];
      if (row.kind != SymbolKind::Data) continue;
      uint32_t object = symbol_objects_[k];
      std::vector<uint8_t> image = row.data.image();
      if (!image.empty()) std::memcpy(memory_.bytes(object).data(), image.data(), image.size());
      uint64_t base = memory_.address(object);
      for (auto [offset, symbol] : row.data.references())
        memory_.store({base, object}, base + offset, Type::pointer(), 1, symbol_address(symbol));
      if (row.data.is_const) memory_.make_constant(object);
    }
  }

  Datum symbol_address(Symbol s) const {
    return {memory_.address(symbol_objects_[s.index]), symbol_objects_[s.index]};
  }

  const Plan& plan(Symbol function) {
    auto& known = plans_[function.index];
    if (!known) known = std::make_unique<Plan>(eval::make_plan(module_.function(function)));
    return *known;
  }

  void enter(Symbol function, std::span<const Datum> arguments) {
    const Plan& p = plan(function);
    size_t base = slots_.size();
    slots_.resize(base + p.slot_count);
    std::copy(p.constants.begin(), p.constants.end(), slots_.begin() + static_cast<ptrdiff_t>(base));
    for (size_t k = 0; k < arguments.size(); ++k) slots_[base + p.parameters[k]] = arguments[k];
    frames_.push_back({function, &p, 0, base, {}});
  }

  void leave() {
    for (auto [instruction, object] : frames_.back().objects) memory_.end_life(object);
    if (frames_.back().plan) slots_.resize(frames_.back().base);
    frames_.pop_back();
  }

  // Ends the run; the trace is taken from the frames.
  void end(Outcome::End how, std::string message) {
    out_.end = how;
    out_.message = std::move(message);
    for (size_t k = frames_.size(); k-- > 0 && out_.trace.size() < 64;) {
      const Frame& f = frames_[k];
      out_.trace.push_back({f.function, f.plan ? f.plan->steps[f.step].origin : Instruction()});
    }
    running_ = false;
  }

  void run();
  bool simple(const Step& s, Datum* slots);
  void general(const Step& s, Datum* slots);
  void jump(Frame& frame, const Jump& j);
  void memory_step(const Step& s, Datum* slots);
  void reserve(Frame& frame, const Step& s, Datum* slots);
  void call_step(const Step& s);
  void return_step(const Step& s);

  const Function& body() const { return module_.function(frames_.back().function); }

  const Module& module_;
  EvaluatorOptions options_;
  Memory memory_;
  std::vector<uint32_t> symbol_objects_;
  std::unordered_map<uint32_t, HostFunction> hosts_;
  std::unordered_map<uint32_t, std::unique_ptr<Plan>> plans_;
  std::vector<Frame> frames_;
  std::vector<Datum> slots_;
  std::vector<Datum> moved_;  // arguments on their way over an edge or into a call
  Outcome out_;
  bool running_ = false;
};

void Evaluator::Machine::run() {
  running_ = true;
  while (running_) {
    Frame& frame = frames_.back();
    const Step& s = frame.plan->steps[frame.step];
    Datum* slots = slots_.data() + frame.base;
    if (++out_.steps > options_.step_limit)
      return end(Outcome::End::Exhausted,
                 fmt::format("the run took more than {} steps", options_.step_limit));
    switch (s.op) {
      case Op::Go: jump(frame, frame.plan->jumps[s.jump]); continue;
      case Op::When: jump(frame, frame.plan->jumps[s.jump + (slots[s.slots[0]].bits & 1 ? 0 : 1)]); continue;
      case Op::Trap: return end(Outcome::End::Trap, "trap");
      case Op::Load:
      case Op::Store:
      case Op::At: memory_step(s, slots); break;
      case Op::Reserve: reserve(frame, s, slots); break;
      case Op::AddressOf: slots[s.out] = symbol_address(body().symbol(s.origin)); break;
      case Op::Call: call_step(s); continue;
      case Op::Return: return_step(s); continue;
      case Op::Pick: slots[s.out] = slots[s.slots[slots[s.slots[0]].bits & 1 ? 1 : 2]]; break;
      default:
        if (!s.simple || !simple(s, slots)) general(s, slots);
    }
    if (running_) ++frame.step;
  }
}

// The operations that programs spend their time in, without the detour over 128 bits.
bool Evaluator::Machine::simple(const Step& s, Datum* slots) {
  uint64_t a = slots[s.slots[0]].bits, b = slots[s.slots[1]].bits;
  unsigned spare = 64 - s.operand.bits();
  uint64_t mask = ~uint64_t(0) >> spare;
  auto sign = [spare](uint64_t v) { return static_cast<int64_t>(v << spare) >> spare; };
  uint64_t r;
  switch (s.op) {
    case Op::Add: r = (a + b) & mask; break;
    case Op::Sub: r = (a - b) & mask; break;
    case Op::Mul: r = (a * b) & mask; break;
    case Op::And: r = a & b; break;
    case Op::Or: r = a | b; break;
    case Op::Xor: r = a ^ b; break;
    case Op::Eq: r = a == b; break;
    case Op::Ne: r = a != b; break;
    case Op::LtU: r = a < b; break;
    case Op::LeU: r = a <= b; break;
    case Op::GtU: r = a > b; break;
    case Op::GeU: r = a >= b; break;
    case Op::LtS: r = sign(a) < sign(b); break;
    case Op::LeS: r = sign(a) <= sign(b); break;
    case Op::GtS: r = sign(a) > sign(b); break;
    case Op::GeS: r = sign(a) >= sign(b); break;
    case Op::WidenU: r = a; break;
    case Op::WidenS:
      r = static_cast<uint64_t>(sign(a)) & static_cast<uint64_t>(mask_of(s.result.bits()));
      break;
    case Op::Narrow: r = a & static_cast<uint64_t>(mask_of(s.result.bits())); break;
    default: return false;
  }
  slots[s.out] = {r, 0};
  return true;
}

void Evaluator::Machine::general(const Step& s, Datum* slots) {
  if (s.op == Op::Bits) {
    Datum v = slots[s.slots[0]];
    if (s.operand.is_pointer() && v.object) memory_.reveal(v.object);
    slots[s.out] = {v.bits, s.result.is_pointer() ? memory_.revealed_at(v.bits) : 0};
    return;
  }
  Word arguments[3];
  unsigned count = info(s.op).arity();
  for (unsigned k = 0; k < count; ++k) arguments[k] = slots[s.slots[k]].bits;
  Computed c = compute(s.op, s.operand, s.result, {arguments, count});
  if (c.trapped) return end(Outcome::End::Trap, fmt::format("{} by zero or out of range", info(s.op).name));
  slots[s.out] = {static_cast<uint64_t>(c.bits), 0};
}

void Evaluator::Machine::jump(Frame& frame, const Jump& j) {
  const uint32_t* pairs = frame.plan->lists.data() + j.first;
  Datum* slots = slots_.data() + frame.base;
  moved_.resize(j.count);
  for (uint32_t k = 0; k < j.count; ++k) moved_[k] = slots[pairs[2 * k]];
  for (uint32_t k = 0; k < j.count; ++k) slots[pairs[2 * k + 1]] = moved_[k];
  frame.step = j.step;
}

void Evaluator::Machine::memory_step(const Step& s, Datum* slots) {
  const Address& a = body().address(s.origin);
  unsigned base = s.op == Op::Store ? 1 : 0;
  Datum pointer = slots[s.slots[base]];
  uint64_t address = pointer.bits + static_cast<uint64_t>(a.offset);
  if (a.indexed) address += slots[s.slots[base + 1]].bits * static_cast<uint64_t>(a.scale);
  if (s.op == Op::At) {
    slots[s.out] = {address, pointer.object};
    return;
  }
  std::string fault = s.op == Op::Load
                          ? memory_.load(pointer, address, s.result, a.align, slots[s.out])
                          : memory_.store(pointer, address, s.operand, a.align, slots[s.slots[0]]);
  if (!fault.empty()) end(Outcome::End::Fault, std::move(fault));
}

void Evaluator::Machine::reserve(Frame& frame, const Step& s, Datum* slots) {
  const ReserveShape& shape = body().reserve_shape(s.origin);
  Name name = body().name(body().result(s.origin));
  uint32_t id = memory_.make(shape.bytes, shape.align,
                             name.exists() ? std::string(module_.text(name)) : "reserved bytes");
  if (memory_.exhausted())
    return end(Outcome::End::Exhausted,
               fmt::format("the run used more than {} bytes of memory", options_.memory_limit));
  for (auto& [instruction, object] : frame.objects) {
    if (instruction != s.origin) continue;
    memory_.end_life(object);
    object = id;
    id = 0;
  }
  if (id) frame.objects.push_back({s.origin, id});
  for (auto& [instruction, object] : frame.objects)
    if (instruction == s.origin) slots[s.out] = {memory_.address(object), object};
}

void Evaluator::Machine::call_step(const Step& s) {
  Frame& frame = frames_.back();
  Symbol callee = body().symbol(s.origin);
  moved_.clear();
  for (uint32_t k = 0; k < s.count; ++k) moved_.push_back(slots_[frame.base + frame.plan->lists[s.list + k]]);
  if (module_.is_function(callee)) {
    if (frames_.size() >= options_.frame_limit)
      return end(Outcome::End::Exhausted,
                 fmt::format("more than {} calls inside calls", options_.frame_limit));
    return enter(callee, moved_);
  }
  auto host = hosts_.find(callee.index);
  if (host == hosts_.end())
    return end(Outcome::End::Fault,
               fmt::format("no host function is provided for '{}'", module_.symbol_name(callee)));
  std::vector<Datum> results(module_.signature(callee)->results.size());
  if (!host->second(moved_, results))
    return end(Outcome::End::Trap, fmt::format("a trap in '{}'", module_.symbol_name(callee)));
  std::copy(results.begin(), results.end(), slots_.begin() + static_cast<ptrdiff_t>(frame.base + s.out));
  ++frame.step;
}

void Evaluator::Machine::return_step(const Step& s) {
  Frame& frame = frames_.back();
  moved_.clear();
  for (uint32_t k = 0; k < s.count; ++k) moved_.push_back(slots_[frame.base + frame.plan->lists[s.list + k]]);
  leave();
  if (frames_.empty()) {
    out_.results = moved_;
    running_ = false;
    return;
  }
  Frame& caller = frames_.back();
  uint32_t out = caller.plan->steps[caller.step].out;
  std::copy(moved_.begin(), moved_.end(), slots_.begin() + static_cast<ptrdiff_t>(caller.base + out));
  ++caller.step;
}

Evaluator::Evaluator(const Module& module, EvaluatorOptions options)
    : machine_(std::make_unique<Machine>(module, options)) {}
Evaluator::~Evaluator() = default;
Datum Evaluator::attach(std::span<uint8_t> bytes, std::string name, bool writable) {
  return machine_->attach(bytes, std::move(name), writable);
}
void Evaluator::provide(Symbol external, HostFunction host) { machine_->provide(external, std::move(host)); }
Outcome Evaluator::call(Symbol function, std::span<const Datum> arguments) {
  return machine_->call(function, arguments);
}
std::span<const uint8_t> Evaluator::data(Symbol item) const { return machine_->data(item); }

std::string end_text(Outcome::End end) {
  switch (end) {
    case Outcome::End::Result: return "a result";
    case Outcome::End::Trap: return "a trap";
    case Outcome::End::Fault: return "a fault";
    case Outcome::End::Exhausted: return "an exhausted run";
  }
  return "";
}

}  // namespace porphyry
