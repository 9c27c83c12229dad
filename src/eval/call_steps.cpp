// Calls, returns and what is external.
#include <fmt/format.h>

#include <algorithm>

#include "machine.h"

namespace porphyry {

using eval::Plan;
using eval::Step;

void Evaluator::Machine::enter(Symbol function, std::span<const Datum> arguments) {
  const Plan& p = plan(function);
  size_t base = slots_.size();
  slots_.resize(base + p.slot_count);
  std::copy(p.constants.begin(), p.constants.end(), slots_.begin() + static_cast<ptrdiff_t>(base));
  frames_.push_back({function, &p, 0, base, static_cast<uint32_t>(promises_.size())});
  for (size_t k = 0; k < arguments.size(); ++k) slots_[base + p.parameters[k]] = arguments[k];
  if (options_.follow) follow_parameters(frames_.back(), {}, module_.function(function).parameters());
  if (!p.makes_promises) return;
  for (size_t k = 0; k < arguments.size(); ++k) {
    Datum& d = slots_[base + p.parameters[k]];
    if (!(p.marks[k] & (mark::sole | mark::unwritten)) || !d.object()) continue;
    d = memory_.derivations().promised(d, p.marks[k] & mark::sole, p.marks[k] & mark::unwritten);
    promises_.push_back(eval::Derivations::of(d));
  }
}

// Frame objects end with the call, and so do the promises made in it.
void Evaluator::Machine::leave() {
  const Frame& frame = frames_.back();
  if (frame.plan) {
    for (uint32_t slot : frame.plan->reserves) {
      uint32_t id = static_cast<uint32_t>(slots_[frame.base + slot].bits);
      if (id && memory_.is_live(id)) memory_.end_life(id);
    }
    slots_.resize(frame.base);
  }
  while (promises_.size() > frame.promises_before) {
    memory_.derivations().end(promises_.back());
    promises_.pop_back();
  }
  frames_.pop_back();
}

// The function that a call goes to; false, and a fault, when there is none.
bool Evaluator::Machine::callee(const Step& s, Symbol& out, size_t& skipped) {
  skipped = 0;
  if (info(s.op).layout == Layout::Call) {
    out = body().symbol(s.origin);
    return true;
  }
  skipped = 1;
  Datum p = slots_[frames_.back().base + s.slots[0]];
  uint32_t object = p.object();
  bool is_symbol = object != 0 && object <= symbol_objects_.size();
  if (is_symbol) out = Symbol(object - 1);
  if (!is_symbol || !module_.signature(out) || p.bits != memory_.address(object)) {
    fault(fmt::format("a call through {}, where no function begins",
                      object ? "a pointer to '" + memory_.name(object) + "'" : "a pointer to no object"));
    return false;
  }
  return has_signature(s, out);
}

// Whether the types of a call through a pointer are those of the function it leads to.
bool Evaluator::Machine::has_signature(const Step& s, Symbol to) {
  const Function& f = body();
  const Signature& signature = *module_.signature(to);
  std::vector<Type> arguments, results;
  for (size_t k = 1; k < f.operand_count(s.origin); ++k) arguments.push_back(f.type(f.operand(s.origin, k)));
  for (Value v : f.results(s.origin)) results.push_back(f.type(v));
  if (s.op == Op::ReturnCallThrough) results = f.signature().results;
  if (signature.variadic && arguments.size() > signature.parameters.size())
    arguments.resize(signature.parameters.size());
  if (arguments == signature.parameters && results == signature.results) return true;
  Signature is{arguments, results};
  fault(fmt::format("'{}', which is {}, is called as {}", module_.symbol_name(to), signature.text(),
                    is.text()));
  return false;
}

void Evaluator::Machine::call_step(const Step& s) {
  Symbol to;
  size_t skipped;
  if (!callee(s, to, skipped)) return;
  const Frame& frame = frames_.back();
  moved_.clear();
  for (size_t k = skipped; k < s.all.count; ++k)
    moved_.push_back(slots_[frame.base + frame.plan->lists[s.all.first + k]]);
  bool returns = info(s.op).ends_block();
  if (!module_.is_function(to)) return call_host(s, to, returns);
  if (returns) {
    leave();
  } else if (frames_.size() >= options_.frame_limit) {
    out_.too_deep = true;
    return end(Outcome::End::Exhausted, fmt::format("more than {} calls inside calls", options_.frame_limit));
  }
  enter(to, moved_);
}

// ---- what is external -------------------------------------------------------------------------------------

class HostCallImpl final : public HostCall {
 public:
  HostCallImpl(eval::Memory& memory, uint8_t facts) : memory_(memory), facts_(facts) {
    first_new_ = memory.object_count();
  }

  std::span<const uint8_t> read(Datum pointer, uint64_t size) override {
    if (facts_ & outside::pure) return broken("a 'pure' function reads memory");
    return bytes(pointer, size);
  }
  std::span<uint8_t> write(Datum pointer, uint64_t size) override {
    if (facts_ & (outside::pure | outside::writes_nothing | outside::reads))
      return broken("it writes memory, and is declared not to");
    return bytes(pointer, size);
  }
  Datum allocate(uint64_t size, uint32_t align) override {
    uint32_t id = memory_.make(size, align, "allocated bytes", eval::Origin::Allocated);
    if (memory_.exhausted()) return {};
    return {memory_.address(id), id};
  }
  bool end_life(Datum pointer) override {
    uint32_t id = pointer.object();
    if (id == 0 || memory_.origin(id) != eval::Origin::Allocated || !memory_.is_live(id)) return false;
    memory_.end_life(id);
    return true;
  }
  bool is_new(uint32_t object) const { return object >= first_new_; }
  std::string problem;

 private:
  std::span<uint8_t> broken(std::string why) {
    problem = std::move(why);
    return {};
  }
  std::span<uint8_t> bytes(Datum pointer, uint64_t size) {
    uint32_t id = pointer.object();
    if (id == 0 || !memory_.is_live(id)) return {};
    uint64_t offset = pointer.bits - memory_.address(id);
    std::span<uint8_t> all = memory_.bytes(id);
    if (offset > all.size() || size > all.size() - offset) return {};
    return all.subspan(offset, size);
  }

  eval::Memory& memory_;
  uint8_t facts_;
  size_t first_new_;
};

void Evaluator::Machine::call_host(const Step& s, Symbol to, bool returns) {
  auto host = hosts_.find(to.index);
  std::string_view name = module_.symbol_name(to);
  if (host == hosts_.end()) return fault(fmt::format("no host function is provided for '{}'", name));
  uint8_t facts = module_[to].facts.outside;
  HostCallImpl call(memory_, facts);
  size_t count = 0;
  for (Type t : module_.signature(to)->results) count += t.lanes();
  std::vector<Datum> results(count);
  call.arguments = moved_;
  call.results = results;
  bool good = host->second(call);
  if (!call.problem.empty()) return fault(fmt::format("in '{}': {}", name, call.problem));
  if (!good && (facts & (outside::returns | outside::pure)))
    return fault(fmt::format("'{}' traps, and is declared to return", name));
  if (!good) return end(Outcome::End::Trap, fmt::format("a trap in '{}'", name));
  if ((facts & outside::allocates) && results[0].bits != 0 && !call.is_new(results[0].object()))
    return fault(fmt::format("'{}' is declared to allocate and gives an object that was there before", name));
  if (facts & outside::frees) {
    uint32_t id = moved_[0].object();
    if (id && memory_.is_live(id)) memory_.end_life(id);
  }
  if (memory_.exhausted())
    return end(Outcome::End::Exhausted,
               fmt::format("the run used more than {} bytes of memory", options_.memory_limit));
  if (returns) {
    leave();
    return give_results(results);
  }
  Frame& frame = frames_.back();
  std::copy(results.begin(), results.end(), slots_.begin() + static_cast<ptrdiff_t>(frame.base + s.out));
  if (options_.follow) follow_results(frame, s);
  ++frame.step;
}

void Evaluator::Machine::return_step(const Step& s) {
  const Frame& frame = frames_.back();
  if (options_.follow) follow_results(frame, s);
  moved_.clear();
  for (uint32_t k = 0; k < s.all.count; ++k)
    moved_.push_back(slots_[frame.base + frame.plan->lists[s.all.first + k]]);
  leave();
  give_results(moved_);
}

// To the caller, which stands at its call; or to the outside.
void Evaluator::Machine::give_results(std::span<const Datum> results) {
  if (frames_.empty()) {
    out_.results.assign(results.begin(), results.end());
    running_ = false;
    return;
  }
  Frame& caller = frames_.back();
  uint32_t out = caller.plan->steps[caller.step].out;
  std::copy(results.begin(), results.end(), slots_.begin() + static_cast<ptrdiff_t>(caller.base + out));
  if (options_.follow) follow_results(caller, caller.plan->steps[caller.step]);
  ++caller.step;
}

}  // namespace porphyry
