#include "porphyry/simulate/code_run.h"

#include "memory.h"
#include "porphyry/base/rounding.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <random>

#include "porphyry/machine/allocate.h"
#include "porphyry/machine/passing_data.h"
#include "porphyry/machine/select.h"
#include "porphyry/print/print.h"

namespace porphyry::simulate {

using namespace machine;

// One run: activations on a stack of our own, physical registers that they share.
class CodeRun {
 public:
  CodeRun(CodeRunner& runner, const RunOptions& options,
          const std::function<void(const CodeObservation&)>& see)
      : r_(runner),
        target_(runner.target_),
        options_(options),
        see_(see),
        state_(runner.target_),
        random_(options.seed),
        stack_(options.stack_bytes, runner.target_),
        memory_(runner.allowed_, runner.target_.layout.order) {
    for (size_t k = 0; k < state_.registers.size(); ++k) state_.registers[k] = any(static_cast<unsigned>(k));
    memory_.allow(stack_.bytes());
    memory_.allow(r_.constants_->bytes(), false);
    top_ = round_down<uint64_t>(stack_.address() + options.stack_bytes, 64);
  }

  RunOutcome run(Symbol function, std::span<const uint64_t> arguments) {
    const Signature& meant = r_.jit_.lowered().source_signatures[function.index];
    Passing way = passing(target_.convention, meant);
    ReachableMemory results(way.result_bytes + 1, target_);
    auto memory = results.bytes();
    memory_.allow(memory);
    std::vector<Datum> parts =
        arguments_in_parts(*target_.convention.values, way, meant, data_of(meant.parameters, arguments),
                           {reinterpret_cast<uint64_t>(memory.data()), 0});
    pass(way.legal, parts);
    enter(function.index, top_);
    while (!activations_.empty() && !course_.ended) line();
    if (out_.end == RunOutcome::End::Result)
      for (Datum d : results_from_parts(*target_.convention.values, way, meant, parts_given(way.legal),
                                        memory, target_.layout.order))
        results_.push_back(d);
    if (out_.end == RunOutcome::End::Result) words_of_results(meant.results);
    return std::move(out_);
  }

 private:
  struct Activation {
    uint32_t symbol = 0;
    const Code* code = nullptr;
    std::vector<Bits> virtuals;
    std::vector<uint64_t> slots;  // their addresses
    uint64_t incoming = 0, outgoing = 0;
    uint32_t block = 0, line = 0;
    std::vector<Bits> kept;  // registers that the caller gets back
  };

  // ---- values ---------------------------------------------------------------------------------------------

  Bits any(unsigned physical) {
    return (Bits(random_()) << 64 | random_()) & mask_of(target_.classes[target_.class_of(physical)].bits);
  }
  Activation& now() { return activations_.back(); }
  Bits get(Register r) { return is_virtual(r) ? now().virtuals[r - first_virtual] : state_.registers[r]; }
  void set(Register r, Bits v) {
    (is_virtual(r) ? now().virtuals[r - first_virtual] : state_.registers[r]) = v;
  }

  // ---- arguments and results ------------------------------------------------------------------------------

  static std::vector<Datum> data_of(const std::vector<Type>& types, std::span<const uint64_t> words) {
    std::vector<Datum> out;
    size_t at = 0;
    for (Type t : types)
      for (unsigned lane = 0; lane < t.lanes(); ++lane) {
        Datum d{words[at++], 0};
        if (t.words_per_lane() == 2) d.high = words[at++];
        out.push_back(d);
      }
    return out;
  }
  static Bits packed(Type t, std::span<const Datum>& lanes) {
    Bits out = 0;
    for (unsigned lane = 0; lane < t.lanes(); ++lane)
      out |= (Bits(lanes[lane].bits) | Bits(lanes[lane].high) << 64) << lane * t.bits();
    lanes = lanes.subspan(t.lanes());
    return out;
  }
  void pass(const Signature& legal, std::span<const Datum> parts) {
    uint64_t bytes = 0;
    auto where = arrivals(target_.convention, legal.parameters, bytes);
    top_ -= (bytes + 63) / 64 * 64;
    for (size_t k = 0; k < where.size(); ++k) {
      Bits v = packed(legal.parameters[k], parts);
      if (where[k].reg != no_register)
        state_.registers[where[k].reg] = v;
      else
        store_number(top_ + where[k].stack,
                     static_cast<unsigned>(bytes_on_stack(target_.convention, legal.parameters[k])), order_,
                     v);
    }
  }
  std::vector<Datum> parts_given(const Signature& legal) {
    std::vector<Datum> out;
    auto where = result_registers(target_.convention, legal.results);
    for (size_t k = 0; where && k < where->size(); ++k) {
      Type t = legal.results[k];
      for (unsigned lane = 0; lane < t.lanes(); ++lane) {
        Bits v = state_.registers[(*where)[k]] >> lane * t.bits() & mask_of(t.bits());
        out.push_back({static_cast<uint64_t>(v), static_cast<uint64_t>(v >> 64)});
      }
    }
    return out;
  }
  void words_of_results(const std::vector<Type>& types) {
    size_t at = 0;
    for (Type t : types)
      for (unsigned lane = 0; lane < t.lanes(); ++lane, ++at) {
        out_.results.push_back(results_[at].bits);
        if (t.words_per_lane() == 2) out_.results.push_back(results_[at].high);
      }
  }

  // ---- calls ----------------------------------------------------------------------------------------------

  void enter(uint32_t symbol, uint64_t incoming) {
    const Allocation* allocation = r_.codes_[symbol].get();
    const Code* code = allocation ? &allocation->code : nullptr;
    if (!code)
      return stop(RunOutcome::End::Fault, "the run leaves for code of the host, which is not simulated");
    Activation a{.symbol = symbol, .code = code, .incoming = incoming};
    a.virtuals.resize(code->virtuals.size());
    for (Bits& v : a.virtuals) v = Bits(random_()) << 64 | random_();
    a.kept = state_.registers;
    uint64_t at = round_down<uint64_t>(incoming - 8, 16);
    for (const FrameSlot& s : code->slots) {
      uint64_t bytes = round_up<uint64_t>(s.bytes, 16), bottom = stack_.address();
      if (at - bottom < bytes + code->outgoing_bytes + 64)
        return stop(RunOutcome::End::Fault, "the stack is exhausted");
      at -= bytes;
      a.slots.push_back(at);
    }
    if (at - stack_.address() < code->outgoing_bytes + 128)
      return stop(RunOutcome::End::Fault, "the stack is exhausted");
    at -= round_up<uint64_t>(code->outgoing_bytes, 16);
    a.outgoing = at;
    activations_.push_back(std::move(a));
  }
  // What the convention does not promise to keep is lost, but for the results.
  void leave(const RegisterSet& results) {
    for (size_t k = 0; k < state_.registers.size(); ++k) {
      if (target_.convention.kept.has(static_cast<unsigned>(k)))
        state_.registers[k] = now().kept[k];
      else if (!results.has(static_cast<unsigned>(k)))
        state_.registers[k] = any(static_cast<unsigned>(k));
    }
    lose_flags();
    activations_.pop_back();
  }
  void lose_flags() {
    for (size_t k = 0; k < state_.flags.size(); ++k) state_.flags[k] = random_() & 1;
  }
  void call(const CodeLine& i) {
    const CodeOperand& to = now().code->of(i)[0];
    uint32_t symbol = static_cast<uint32_t>(to.value);
    if (to.kind == OperandKind::Register) {
      auto found = r_.functions_.find(static_cast<uint64_t>(get(to.reg)));
      if (found == r_.functions_.end())
        return stop(RunOutcome::End::Fault, "the run leaves for code of the host, which is not simulated");
      symbol = found->second;
    }
    bool leaves = now().code->calls[i.call].leaves;
    uint64_t incoming = leaves ? now().incoming : now().outgoing;
    lose_flags();
    if (!leaves) return enter(symbol, incoming);
    std::vector<Bits> kept = std::move(now().kept);
    for (size_t k = 0; k < kept.size(); ++k)
      if (target_.convention.kept.has(static_cast<unsigned>(k))) state_.registers[k] = kept[k];
    activations_.pop_back();
    enter(symbol, incoming);
  }

  // ---- lines ----------------------------------------------------------------------------------------------

  void stop(RunOutcome::End how, std::string why) {
    out_.end = how;
    out_.message = std::move(why);
    course_.ended = true;
    if (activations_.empty()) return;
    const Code& code = *now().code;
    out_.message += fmt::format(", in '{}'", code.name);
    const Function& f = r_.jit_.lowered().legal->function(Symbol(now().symbol));
    Instruction origin = code.code[code.blocks[now().block].first + now().line].origin;
    if (origin.exists() && f.alive(origin))
      out_.message += ": " + write_text(*r_.jit_.lowered().legal, f, origin);
  }

  void line() {
    if (out_.steps++ == options_.step_limit)
      return stop(RunOutcome::End::TooLong,
                  fmt::format("the run took more than {} instructions", options_.step_limit));
    Activation& a = now();
    const CodeBlock& block = a.code->blocks[a.block];
    const CodeLine& i = a.code->code[block.first + a.line];
    const Upkeep& u = target_.upkeep;
    if (i.form == u.return_values) return leave(implicit_reads(target_, *a.code, i));
    if (i.call != none) {
      ++a.line;
      return call(i);
    }
    if (i.form < first_real_form)
      own(i);
    else
      plain(i);
    if (course_.ended) return;
    if (see_)
      see_({a.code, block.first + a.line, &state_, a.virtuals,
            r_.allocated_ ? r_.codes_[a.symbol].get() : nullptr});
    if (course_.jumped_to != none)
      a.block = std::exchange(course_.jumped_to, none), a.line = 0;
    else if (++a.line == block.count)
      ++a.block, a.line = 0;
  }

  // Copies, spills and reloads.
  void own(const CodeLine& i) {
    auto o = now().code->of(i);
    if (i.form == copy_form) {
      if (o[0].reg == o[1].reg) return;  // no instruction will stand for it
      Bits v = get(o[1].reg);
      unsigned bits = o[0].value <= 32 ? 32 : o[0].value <= 64 ? 64 : 128;
      bool general = (is_virtual(o[0].reg) ? now().code->shape(o[0].reg).register_class
                                           : target_.class_of(o[0].reg)) == 0;
      return set(o[0].reg, general ? v & mask_of(bits) : v);
    }
    uint64_t slot = now().slots[static_cast<size_t>(o[1].value)];
    auto bytes = static_cast<unsigned>(now().code->slots[static_cast<size_t>(o[1].value)].bytes);
    if (i.form == spill_form)
      store_number(slot, bytes, order_, get(o[0].reg));
    else
      set(o[0].reg, load_number(slot, bytes, order_));
  }

  uint64_t constant(size_t row) const {
    return r_.constants_->address() + r_.constant_places_[activations_.back().symbol][row];
  }
  uint64_t table(size_t row) const { return constant(activations_.back().code->pool.size() + row); }

  uint64_t anchored(const CodeAddress& a) {
    switch (a.anchor) {
      case Anchor::Slot: return now().slots[a.anchored];
      case Anchor::Incoming: return now().incoming;
      case Anchor::Outgoing: return now().outgoing;
      case Anchor::Pool: return constant(a.anchored);
      case Anchor::Table: return table(a.anchored);
      case Anchor::Symbol:
        return reinterpret_cast<uint64_t>(
            r_.jit_.address(r_.jit_.lowered().legal->symbol_name(Symbol(a.anchored))));
      case Anchor::None: break;
    }
    return 0;
  }

  // A physical register that holds a register's value while one instruction runs.
  struct Loan {
    Register of;
    unsigned physical;
    Bits before;
  };
  unsigned lend(Register r, unsigned register_class, RegisterSet& taken) {
    for (const Loan& l : loans_)
      if (l.of == r && r != no_register) return l.physical;
    const RegisterClass& c = target_.classes[register_class];
    unsigned p = c.first;
    while (taken.has(p) || target_.convention.reserved.has(p)) ++p;
    taken.add(p);
    loans_.push_back({r, p, state_.registers[p]});
    if (r != no_register) state_.registers[p] = get(r);
    return p;
  }

  // The registers and numbers of a line in the place of its own.
  PlainInstruction lent(const CodeLine& i) {
    const Code& code = *now().code;
    const Form& form = target_.form(i.form);
    RegisterSet taken = form.reads | form.writes;
    for (const FormOperand& o : form.operands)
      if (o.kind == OperandKind::Register && o.only >= 0) taken.add(static_cast<unsigned>(o.only));
    each_register(code, i, [&](Register r, bool, bool) {
      if (is_physical(r)) taken.add(r);
    });
    PlainInstruction p{i.form, {}};
    loans_.clear();
    auto operands = code.of(i);
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      PlainOperand& to = p.operands[k];
      to.kind = o.kind;
      if (o.kind == OperandKind::Register) {
        to.physical = static_cast<uint8_t>(
            is_virtual(o.reg) ? lend(o.reg, code.shape(o.reg).register_class, taken) : o.reg);
      } else if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        const CodeAddress& a = code.addresses[static_cast<size_t>(o.value)];
        auto number = [&](Register r) {
          return r == no_register ? -1
                 : is_virtual(r)  ? static_cast<int>(lend(r, 0, taken))
                                  : static_cast<int>(r);
        };
        to.address = {.base = static_cast<int8_t>(number(a.base)),
                      .index = static_cast<int8_t>(number(a.index)),
                      .scale = a.scale,
                      .displacement = static_cast<int32_t>(a.displacement)};
        if (a.anchor != Anchor::None) {
          unsigned base = lend(no_register, 0, taken);
          state_.registers[base] = anchored(a);
          to.address.base = static_cast<int8_t>(base);
        }
      } else if (o.part != Part::Whole) {
        const CodeAddress& a = code.addresses[static_cast<size_t>(o.value)];
        uint64_t whole = anchored(a) + static_cast<uint64_t>(a.displacement);
        to.literal = static_cast<int64_t>(part_of(whole, o.part, target_.lower_bits));
      } else if (o.kind == OperandKind::Label) {
        to.literal = o.value;  // blocks are numbered from `next` on, which is 0
      } else {
        to.literal = o.value;
      }
    }
    return p;
  }

  void plain(const CodeLine& i) {
    const PlainInstruction p = lent(i);
    state_.next = 0;
    StepOutcome did = step(target_, p, state_, memory_.access());
    for (const std::string& open : did.open_flags)
      for (size_t k = 0; k < target_.flags.size(); ++k)
        if (target_.flags[k] == open) state_.flags[k] = random_() & 1;
    for (const Loan& l : loans_) {
      Bits v = std::exchange(state_.registers[l.physical], l.before);
      if (l.of != no_register) set(l.of, v);
    }
    if (did.end == StepOutcome::End::Trap) stop(RunOutcome::End::Trap, "the instruction traps");
    if (did.end == StepOutcome::End::Fault)
      stop(RunOutcome::End::Fault,
           fmt::format("an access at {:#x}, which the program may not touch", memory_.touched()));
    if (did.end != StepOutcome::End::Gone) return;
    const CodeBlock& block = now().code->blocks[now().block];
    course_.jumped_to = static_cast<uint32_t>(block.table == none ? did.to : did.to - table(block.table));
  }

  CodeRunner& r_;
  const Target& target_;
  const RunOptions& options_;
  const std::function<void(const CodeObservation&)>& see_;
  const ByteOrder order_ = target_.layout.order;
  State state_;
  std::mt19937_64 random_;
  ReachableMemory stack_;
  CheckedMemory memory_;
  std::vector<Activation> activations_;
  std::vector<Loan> loans_;
  std::vector<Datum> results_;
  uint64_t top_ = 0;
  struct Course {
    uint32_t jumped_to = none;  // block; none: the next line
    bool ended = false;
  } course_;
  RunOutcome out_;
};

CodeRunner::~CodeRunner() = default;

Result<std::unique_ptr<CodeRunner>> CodeRunner::make(const Jit& jit, const Target& target, Stage stage,
                                                     std::optional<machine::Features> features) {
  std::unique_ptr<CodeRunner> out(new CodeRunner(jit, target));
  const Module& legal = *jit.lowered().legal;
  RuleIndex rules(target, features.value_or(target.usual_features));
  std::vector<uint8_t> constants;
  out->codes_.resize(legal.symbol_count());
  out->allocated_ = stage == Stage::Allocated;
  out->constant_places_.resize(legal.symbol_count());
  for (size_t k = 0; k < legal.symbol_count(); ++k) {
    if (!legal.is_function(Symbol(k))) continue;
    auto selected = select(legal, Symbol(k), rules);
    if (!selected) return selected.why();
    auto made =
        std::make_unique<Allocation>(stage == Stage::Allocated ? allocate(std::move(selected->code), target)
                                                               : Allocation(std::move(selected->code)));
    const Code& code = made->code;
    for (const PoolEntry& e : code.pool) {
      out->constant_places_[k].push_back(constants.size());
      constants.resize(constants.size() + 16);
      put_entry(e, target.layout.order, &constants[constants.size() - 16]);
    }
    // Blocks have no addresses here: their numbers stand for how far they lie from the table.
    for (size_t t = 0; t < code.tables.size(); ++t) {
      out->constant_places_[k].push_back(constants.size());
      for (const uint64_t block : code.tables[t]) {
        constants.resize(constants.size() + table_entry_bytes);
        put_value(Type::integer(8 * table_entry_bytes), {&block, 1}, target.layout.order,
                  &constants[constants.size() - table_entry_bytes]);
      }
      constants.resize(round_up<size_t>(constants.size(), 16));
    }
    out->codes_[k] = std::move(made);
    out->functions_[reinterpret_cast<uint64_t>(jit.address(legal.symbol_name(Symbol(k))))] =
        static_cast<uint32_t>(k);
  }
  out->constants_ = std::make_unique<ReachableMemory>(constants.size(), target);
  std::copy(constants.begin(), constants.end(), out->constants_->bytes().begin());
  for (const MemoryRegion& r : jit.regions())
    if (!r.executable) out->allowed_.push_back(r);
  return out;
}

RunOutcome CodeRunner::run(std::string_view function, std::span<const uint64_t> arguments,
                           const RunOptions& options,
                           const std::function<void(const CodeObservation&)>& see) {
  Symbol s = jit_.lowered().legal->find(function);
  if (!s.exists() || s.index >= codes_.size() || !codes_[s.index])
    return {.end = RunOutcome::End::Fault,
            .message = fmt::format("no function with a body is called '{}'", function)};
  return CodeRun(*this, options, see).run(s, arguments);
}

}  // namespace porphyry::simulate
