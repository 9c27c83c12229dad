#include "porphyry/machine/select.h"

#include <algorithm>

#include "porphyry/base/scratch.h"
#include "porphyry/print/print.h"
#include "reuse_flags.h"
#include "selector.h"

namespace porphyry::machine {

Selector::Selector(const Module& module, Symbol symbol, const RuleIndex& rules,
                   std::pmr::memory_resource* memory, std::pmr::memory_resource* work)
    : module_(module),
      f_(module.function(symbol)),
      rules_(rules),
      target_(rules.target()),
      memory_(work),
      dominators_(f_, work),
      loops_(f_, dominators_, work),
      frequencies_(f_, dominators_, loops_, work),
      matcher_(f_, loops_, rules, work),
      needed_(f_.value_limit(), work),
      registers_(f_.value_limit(), work, no_register),
      slots_(work),
      block_numbers_(f_.block_limit(), work),
      layout_(memory),
      loop_numbers_(f_.block_limit(), work, no_loop),
      constants_(f_.value_limit(), work),
      pooled_(work),
      pooled_literals_(work),
      early_constants_(work),
      moves_(work),
      constant_moves_(work),
      rows_(work),
      ready_(work),
      done_(work),
      out_(memory) {
  out_.code.name = module.symbol_name(symbol);
  out_.rules.resize(f_.instruction_limit());
}

void Selector::match() {
  const auto& order = dominators_.order();
  for (Block b : order) matcher_.visit(b);
  for (size_t k = order.size(); k-- > 0;) mark_needed(order[k]);
}

Result<Selected> Selector::write() {
  if (!problems_.empty()) return std::move(problems_);
  make_room();
  number_blocks();
  number_loops();
  for (Block b : layout_) block(b);
  if (!problems_.empty()) return std::move(problems_);
  reuse_flags(code(), target_);
  return std::move(out_);
}

// Room for what the rules will write, and a little for copies between blocks.
void Selector::make_room() {
  size_t lines = 16, operands = 32, temporaries = 16;
  for (uint16_t row : out_.rules) {
    if (row == 0) continue;
    const RuleIndex::Facts& facts = rules_.facts(row - 1u);
    lines += facts.lines, operands += facts.operands, temporaries += facts.temporaries;
  }
  size_t between = f_.block_limit() * 2 + f_.parameters().size();
  code().code.reserve(lines + between);
  code().operands.reserve(operands + 2 * between);
  code().virtuals.reserve(temporaries + f_.value_limit() + f_.block_limit());
  code().blocks.reserve(f_.block_limit());
}

void Selector::complain(Instruction i, const std::string& message) {
  Diagnostic d = complaint("in '" + out_.code.name + "': " + message, "what the target's book covers");
  d.excerpt = write_text(module_, f_, i);
  d.length = static_cast<uint32_t>(d.excerpt.size());
  problems_.push_back(std::move(d));
}

// Whether the right side of a rule wants a variable in a register.
bool Selector::in_register(const Match& m, size_t variable) const {
  return rules_.facts(m.index).in_register >> variable & 1;
}

// From the end of a block to its start: what has an effect or is needed in a register is covered by its
// best rule, and what that rule takes from registers is needed in turn.
void Selector::mark_needed(Block b) {
  for (Instruction i = f_.last(b); i.exists(); i = f_.previous(i)) {
    Op op = f_.op(i);
    bool wanted = f_.has_effect(i) || (f_.result_count(i) && needed_[f_.result(i)]);
    if (!wanted) continue;
    if (info(op).calls() || op == Op::Go || op == Op::Return) {
      for (size_t k = 0; k < f_.operand_count(i); ++k) need(f_.operand(i, k));
    } else {
      auto m = matcher_.best(i);
      if (!m) {
        complain(i, "no rule of " + std::string(target_.name) + " covers this");
        continue;
      }
      out_.rules[i.index] = static_cast<uint16_t>(m->index + 1);
      for (size_t k = 0; k < Match::most_variables; ++k) {
        Value v = m->value(k);
        if (v.exists() && !m->is_pooled(k)) need(v);
        if (v.exists() && f_.is_constant(v) && loops_.depth(b) > 0 && in_register(*m, k))
          early_constants_.push_back(v);
        if (m->access(k).exists()) need_address(m->access(k));
      }
      if (f_.result_count(i)) needed_[f_.result(i)] = true;
    }
    for (Edge e : f_.edges(i))
      for (size_t k = 0; k < f_.argument_count(e); ++k) need(f_.argument(e, k));
  }
}

// The function's own order is the author's; only what is unlikely moves out of the way, behind the rest.
void Selector::number_blocks() {
  layout_.reserve(dominators_.order().size());
  for (bool unlikely : {false, true})
    for (Block b = f_.entry(); b.exists(); b = f_.next(b)) {
      if (!dominators_.reachable(b) || frequencies_.unlikely(b) != unlikely) continue;
      layout_.push_back(b);
    }
  rotate_loops();
  for (size_t k = 0; k < layout_.size(); ++k) block_numbers_[layout_[k]] = static_cast<uint32_t>(k);
}

// A loop whose header may leave it, and whose last block only goes back to the header, takes two jumps a
// turn. With the header behind that block, which falls into it, one jump is enough; entering the loop takes
// one more. Only loops that lie in one piece, and one of several that share their last block.
void Selector::rotate_loops() {
  FixedTable<Block, uint32_t> place(f_.block_limit(), memory_, 0);
  for (size_t k = 0; k < layout_.size(); ++k) place[layout_[k]] = static_cast<uint32_t>(k + 1);
  for (size_t last = layout_.size(); last-- > 1;) {
    Instruction back = f_.terminator(layout_[last]);
    if (f_.op(back) != Op::Go) continue;
    Block header = f_.to(f_.edge(back, 0));
    size_t first = place[header] - 1;
    if (first == 0 || first >= last || loops_.header(header) != header) continue;
    if (f_.op(f_.terminator(header)) != Op::When || f_.to(f_.edge(f_.terminator(header), 0)) == header)
      continue;
    bool leaves = false, in_one_piece = true;
    for (Edge e : f_.edges(header)) leaves |= !loops_.contains(header, f_.to(e));
    if (last + 1 < layout_.size()) in_one_piece = !loops_.contains(header, layout_[last + 1]);
    if (!leaves || !in_one_piece) continue;
    std::rotate(layout_.begin() + first, layout_.begin() + first + 1, layout_.begin() + last + 1);
    for (size_t k = first; k <= last; ++k) place[layout_[k]] = static_cast<uint32_t>(k + 1);
  }
}

// Outer loops first: their headers come first in the order of dominators.
void Selector::number_loops() {
  for (Block b : dominators_.order()) {
    if (!loops_.is_header(b)) continue;
    Block outer = loops_.outer(b);
    loop_numbers_[b] = static_cast<uint32_t>(code().loops.size());
    code().loops.push_back(
        {block_numbers_[b], outer.exists() ? loop_numbers_[outer] : no_loop, loops_.depth(b)});
  }
}

void Selector::block(Block b) {
  ++stretch_;
  origin_ = {};
  CodeBlock m{.origin = b,
              .first = static_cast<uint32_t>(code().code.size()),
              .depth = static_cast<uint8_t>(std::min(loops_.depth(b), 200u)),
              .frequency = frequencies_.of(b)};
  if (Block header = loops_.header(b); header.exists()) m.loop = loop_numbers_[header];
  Instruction end = f_.terminator(b);
  successors_ = {};
  for (Edge e : f_.edges(b)) successors_.push_back(block_numbers_[f_.to(e)]);
  m.successors = successors_;
  if (b == f_.entry())
    take_parameters();
  else if (Edge e = f_.first_in(b); e.exists() && !f_.next_in(e).exists() && f_.edges(f_.from(e)).size() > 1)
    pass_arguments(e);
  for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) {
    if (i == end && b == f_.entry()) make_early_constants();
    instruction(i);
  }
  m.count = static_cast<uint32_t>(code().code.size()) - m.first;
  code().blocks.push_back(std::move(m));
}

// Constants that loops want in registers are made once, before all loops; where registers are short, the
// allocator makes them again beside their users.
void Selector::make_early_constants() {
  origin_ = {};
  for (Value v : early_constants_)
    if (registers_[v] == no_register) make_constant(v, register_of(v));
}

void Selector::instruction(Instruction i) {
  origin_ = i;
  Op op = f_.op(i);
  if (op == Op::Call || op == Op::CallThrough) return call(i);
  if (op == Op::ReturnCall || op == Op::ReturnCallThrough) return leave(i);
  if (op == Op::Return) return give_back(i);
  if (op == Op::Go) {
    pass_arguments(f_.edge(i, 0));
    put(target_.upkeep.jump, {label(successors_[0])});
    return;
  }
  if (out_.rules[i.index] == 0) return;
  const Match m = *matcher_.best(i);
  for (Instruction inner : m.covered)
    if (inner.exists()) out_.covered.push_back({i, inner});
  apply(m, i);
}

FormIndex Selector::fetch_form_of(Register r) const {
  const VirtualRegister& v = out_.code.shape(r);
  const Upkeep& u = target_.upkeep;
  return v.register_class == 0 ? u.fetch_general : v.bits > 64 ? u.fetch_wide : u.fetch_lanes;
}

FormIndex Selector::save_form_of(Register r) const {
  const VirtualRegister& v = out_.code.shape(r);
  const Upkeep& u = target_.upkeep;
  return v.register_class == 0 ? u.save_general : v.bits > 64 ? u.save_wide : u.save_lanes;
}

CodeOperand Selector::memory_operand(int64_t row, bool written) {
  return {OperandKind::Memory, !written, written, no_register, row};
}

Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules,
                        std::pmr::memory_resource* memory, std::pmr::memory_resource* work) {
  Selector selector(module, function, rules, memory, work);
  selector.match();
  return selector.write();
}

Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules) {
  Scratch work;
  return select(module, function, rules, std::pmr::get_default_resource(), &work);
}

}  // namespace porphyry::machine
