#include "porphyry/eval/evaluator.h"

#include <fmt/format.h>

#include <cstring>

#include "machine.h"

namespace porphyry {

using eval::Jump;
using eval::Plan;
using eval::Step;

Evaluator::Machine::Machine(const Module& module, EvaluatorOptions options)
    : module_(module),
      options_(options),
      memory_(module, options.seed, options.memory_limit),
      plans_(module.symbol_count()) {
  place_data();
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    if (f.reads_unwritten()) memory_.remember_writes();
  }
}

void Evaluator::Machine::place_data() {
  unsigned pointer_bits = module_.layout.pointer_bits;
  for (size_t k = 0; k < module_.symbol_count(); ++k) {
    const SymbolRow& row = module_[Symbol(k)];
    bool is_data = row.kind == SymbolKind::Data;
    symbol_objects_.push_back(memory_.make(is_data ? row.data.size(pointer_bits) : 0,
                                           is_data ? row.data.align : 16, std::string(module_.text(row.name)),
                                           eval::Origin::Symbol));
    if (memory_.exhausted()) return;
  }
  for (size_t k = 0; k < module_.symbol_count(); ++k) {
    const SymbolRow& row = module_[Symbol(k)];
    if (row.kind != SymbolKind::Data) continue;
    uint32_t object = symbol_objects_[k];
    std::ranges::fill(memory_.bytes(object), uint8_t(0));
    row.data.put_image(memory_.bytes(object).data(), module_.layout);
    for (auto [offset, symbol] : row.data.references(pointer_bits))
      memory_.put_pointer(object, offset, symbol_address(symbol));
    if (row.data.is_const) memory_.make_constant(object);
  }
}

const Plan& Evaluator::Machine::plan(Symbol function) {
  auto& known = plans_[function.index];
  if (!known)
    known = std::make_unique<Plan>(eval::make_plan(module_.function(function), module_[function].facts));
  return *known;
}

Outcome Evaluator::Machine::call(Symbol function, std::span<const Datum> arguments) {
  out_ = {};
  frames_.clear();
  slots_.clear();
  if (memory_.exhausted()) {
    out_.end = Outcome::End::Exhausted;
    out_.message = fmt::format("the module's data takes more than {} bytes of memory", options_.memory_limit);
  } else if (module_.is_function(function)) {
    enter(function, arguments);
    run();
  } else {
    frames_.push_back({function, nullptr, 0, 0, 0});
    fault(fmt::format("'{}' is external: it has no body to run", module_.symbol_name(function)));
  }
  while (!frames_.empty()) leave();
  return std::move(out_);
}

// Ends the run; the trace is taken from the frames.
void Evaluator::Machine::end(Outcome::End how, std::string message) {
  out_.end = how;
  out_.message = std::move(message);
  for (size_t k = frames_.size(); k-- > 0 && out_.trace.size() < 64;) {
    const Frame& f = frames_[k];
    out_.trace.push_back({f.function, f.plan ? f.plan->steps[f.step].origin : Instruction()});
  }
  running_ = false;
}

namespace {

// The operations that programs spend their time in, on scalars of up to 64 bits, without the detour over 128.
// False: not one of them.
inline bool quick(const Step& s, Datum* slots) {
  uint64_t a = slots[s.slots[0]].bits, b = slots[s.slots[1]].bits;
  unsigned spare = s.spare;
  auto sign = [spare](uint64_t v) { return static_cast<int64_t>(v << spare) >> spare; };
  auto amount = [&] { return static_cast<unsigned>(b % (64u - spare)); };
  uint64_t r;
  switch (s.op) {
    case Op::Add: r = (a + b) & s.mask; break;
    case Op::Sub: r = (a - b) & s.mask; break;
    case Op::Mul: r = (a * b) & s.mask; break;
    case Op::And: r = a & b; break;
    case Op::Or: r = a | b; break;
    case Op::Xor: r = a ^ b; break;
    case Op::Not: r = ~a & s.mask; break;
    case Op::Neg: r = (0 - a) & s.mask; break;
    case Op::Shl: r = (a << amount()) & s.mask; break;
    case Op::ShrU: r = a >> amount(); break;
    case Op::ShrS: r = static_cast<uint64_t>(sign(a) >> amount()) & s.mask; break;
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
    case Op::MinU: r = a < b ? a : b; break;
    case Op::MaxU: r = a < b ? b : a; break;
    case Op::MinS: r = sign(a) < sign(b) ? a : b; break;
    case Op::MaxS: r = sign(a) < sign(b) ? b : a; break;
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

}  // namespace

void Evaluator::Machine::run() { options_.follow ? run_steps<true>() : run_steps<false>(); }

template <bool followed>
void Evaluator::Machine::run_steps() {
  running_ = true;
  uint64_t steps = 0;
  while (running_) {
    Frame& frame = frames_.back();
    const Step* s = frame.plan->steps.data() + frame.step;
    Datum* slots = slots_.data() + frame.base;
    // Straight runs of quick operations stay in this loop.
    if (!followed)
      while (s->quick && steps < options_.step_limit && quick(*s, slots)) ++s, ++steps;
    frame.step = static_cast<uint32_t>(s - frame.plan->steps.data());
    if (++steps > options_.step_limit) {
      end(Outcome::End::Exhausted, fmt::format("the run took more than {} steps", options_.step_limit));
      break;
    }
    switch (info(s->op).layout) {
      case Layout::Go: jump(frame, frame.plan->jumps[s->jump]); continue;
      case Layout::When:
        jump(frame, frame.plan->jumps[s->jump + (slots[s->slots[0]].bits & 1 ? 0 : 1)]);
        continue;
      case Layout::Choose: choose(frame, *s, slots); continue;
      case Layout::Trap: end(Outcome::End::Trap, "'trap' was reached"); break;
      case Layout::Load:
      case Layout::Store:
      case Layout::At:
      case Layout::Reserve:
      case Layout::AddressOf:
      case Layout::Release:
      case Layout::Copy:
      case Layout::Fill:
      case Layout::Renew:
      case Layout::Sole:
      case Layout::End: memory_step(frame, *s, slots); break;
      case Layout::Watch:
      case Layout::Here:
        if (options_.see) see(frame, *s);
        break;
      case Layout::Call:
      case Layout::CallThrough: call_step(*s); continue;
      case Layout::Return: return_step(*s); continue;
      default:
        if (!(followed && s->quick && quick(*s, slots))) plain(*s, slots);
    }
    if (!running_) break;
    if (followed) follow_results(frame, *s);
    ++frame.step;
  }
  out_.steps = steps;
}

void Evaluator::Machine::see(const Frame& frame, const Step& s) {
  std::vector<Datum> lanes;
  for (uint32_t k = 0; k < s.all.count; ++k)
    lanes.push_back(slots_[frame.base + frame.plan->lists[s.all.first + k]]);
  options_.see({frame.function, s.origin, lanes, frames_.size()});
}

void Evaluator::Machine::follow_value(const Frame& frame, Instruction at, Value v) {
  const uint32_t first = frame.plan->places[v.index];
  const Datum* lanes = slots_.data() + frame.base + first;
  options_.follow(
      {frame.function, at, v, {lanes, module_.function(frame.function).type(v).lanes()}, frames_.size()});
}

void Evaluator::Machine::follow_parameters(const Frame& frame, Instruction at,
                                           std::span<const Value> parameters) {
  for (Value v : parameters) follow_value(frame, at, v);
}

void Evaluator::Machine::follow_results(const Frame& frame, const Step& s) {
  const Function& f = module_.function(frame.function);
  for (Value v : f.results(s.origin)) follow_value(frame, s.origin, v);
  if (f.result_count(s.origin)) return;
  std::vector<Datum> lanes;
  for (uint32_t k = 0; k < s.all.count; ++k)
    lanes.push_back(slots_[frame.base + frame.plan->lists[s.all.first + k]]);
  options_.follow({frame.function, s.origin, {}, lanes, frames_.size()});
}

void Evaluator::Machine::jump(Frame& frame, const Jump& j) {
  if (options_.counts) options_.counts->take(frame.function, j.edge);
  const uint32_t* pairs = frame.plan->lists.data() + j.first;
  Datum* slots = slots_.data() + frame.base;
  if (j.overlaps) {
    if (moved_.size() < j.count) moved_.resize(j.count);
    for (uint32_t k = 0; k < j.count; ++k) moved_[k] = slots[pairs[2 * k]];
    for (uint32_t k = 0; k < j.count; ++k) slots[pairs[2 * k + 1]] = moved_[k];
  } else {
    for (uint32_t k = 0; k < j.count; ++k) slots[pairs[2 * k + 1]] = slots[pairs[2 * k]];
  }
  const Instruction at = frame.plan->steps[frame.step].origin;
  frame.step = j.step;
  if (!options_.follow) return;
  const Function& f = module_.function(frame.function);
  follow_parameters(frame, at, f.parameters(f.to(j.edge)));
}

void Evaluator::Machine::choose(Frame& frame, const Step& s, const Datum* slots) {
  const Plan::Choice& c = frame.plan->choices[s.extra];
  Datum v = slots[s.slots[0]];
  uint32_t way = c.otherwise;
  if (v.high == 0) {
    if (auto found = c.ways.find(v.bits); found != c.ways.end()) way = found->second;
  } else {
    for (auto& [value, edge] : c.wide)
      if (value == v.word()) way = edge;
  }
  jump(frame, frame.plan->jumps[s.jump + way]);
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
