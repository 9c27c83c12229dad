// fold: operations on constants become constants, branches on constants plain jumps, sums with constants part
// of addresses, and the rules of src/passes/rules/ are applied until none fits. A work list follows each
// change to the users of what changed and to the operands that lost a use. Every rule lowers a measure
// (rewrite/read.h), so it ends. O(instructions + cases + changes).
#include <fmt/format.h>

#include "fold_addresses.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/rewrite/match.h"

namespace porphyry {
namespace {

class Folder {
 public:
  explicit Folder(FunctionContext& c)
      : c_(c),
        f_(c.function),
        matcher_(f_, standard_rules()),
        dominators_(c.facts.get<Dominators>()),
        queued_(f_.instruction_limit()) {}

  void run() {
    if (auto changed = c_.changed())
      start_from(*changed);
    else
      for (Block b : dominators_.order())
        for (Instruction i : f_.instructions(b)) later(i);
    for (size_t k = 0; k < work_.size(); ++k) {
      Instruction i = work_[k];
      queued_[i] = 0;
      // In code that no run reaches a value may be made of itself: there rules would not end.
      if (f_.alive(i) && dominators_.reachable(f_.block(i))) one(i);
    }
  }

 private:
  void later(Instruction i) {
    if (!queued_.holds(i)) queued_.resize(f_.instruction_limit());
    if (!std::exchange(queued_[i], uint8_t(1))) work_.push_back(i);
  }
  void users_later(Value v) {
    for (Slot s : f_.uses(v)) later(f_.use(s).user);
  }
  // At most the one that goes, and another.
  bool few_uses(Slot s) const {
    Slot next = f_.next_use(s);
    return !next.exists() || !f_.next_use(next).exists();
  }
  // Patterns and known bits look a few operations back.
  void start_from(const std::vector<Instruction>& changed) {
    for (Instruction i : changed)
      if (f_.alive(i)) later(i);
    for (size_t k = 0, end = work_.size(), round = 0; round < 4; ++round, end = work_.size())
      for (; k < end; ++k)
        for (Value v : f_.results(work_[k])) users_later(v);
    std::sort(work_.begin(), work_.end(), [&](Instruction a, Instruction b) { return a.index < b.index; });
  }
  // What makes the operands: they lose a use, and what has the only other one may go on alone.
  void makers_later(Instruction i) {
    for (Value v : f_.operands(i)) maker_later(v);
  }
  void maker_later(Value v) {
    Instruction d = f_.definition(v);
    if (!d.exists()) return;
    lost_use_.set(d, 1), later(d);
    if (Slot s = f_.first_use(v); s.exists() && few_uses(s)) users_later(v);
  }

  void one(Instruction i) {
    if (f_.op(i) == Op::When || f_.op(i) == Op::Choose) return branch(i);
    const OperationInfo& row = info(f_.op(i));
    if ((f_.op(i) == Op::Copy || f_.op(i) == Op::Fill) && touches_nothing(i)) return;
    if (row.detail() == Detail::Address) return address(i);
    if (!row.is_plain() || f_.result_count(i) == 0) return;
    if (!f_.has_effect(i) && !used(i)) return gone(i);
    if (f_.op(i) == Op::Pick && f_.is_constant(f_.operand(i, 0)) && f_.is_uniform(f_.operand(i, 0))) {
      bool yes = f_.constant_bits(f_.operand(i, 0)) & 1;
      return replace(i, {f_.operand(i, yes ? 1 : 2)}, "the condition is constant");
    }
    if (computed(i)) return;
    i = with_constants_right(i);
    rewrite(i);
  }
  // What a rewrite left without uses goes with it; what had none before is left to sweep, which tells of it.
  void gone(Instruction i) {
    if (!lost_use_.get(i)) return;
    makers_later(i);
    f_.erase(i);
  }
  void address(Instruction i) {
    if (!f_.has_effect(i) && !used(i)) return gone(i);
    if (f_.op(i) == Op::Load && loads_constant(i)) return;
    std::string before = c_.wants_notes() ? write_text(c_.module, f_, i) : "";
    operands_.clear();
    for (Value v : f_.operands(i)) operands_.push_back(v);
    Instruction now = fold_address(f_, i);
    if (!now.exists()) return;
    for (Value v : operands_) maker_later(v);
    for (Value v : f_.results(now)) users_later(v);
    if (c_.wants_notes())
      c_.done(f_.position(now), f_.result_count(now) ? c_.name(f_.result(now)) : "",
              "became " + write_text(c_.module, f_, now), "sums with constants are part of an address",
              {{"operation", before}});
  }
  // A copy or fill of no bytes.
  bool touches_nothing(Instruction i) {
    Value bytes = f_.operand(i, f_.operand_count(i) - 1);
    if (!f_.is_constant(bytes) || f_.constant_bits(bytes) != 0) return false;
    if (c_.wants_notes())
      c_.done(f_.position(i), "", "is gone", "no bytes are touched",
              {{"operation", write_text(c_.module, f_, i)}});
    makers_later(i);
    f_.erase(i);
    return true;
  }
  // A load of bytes that the module knows: of constant data that no other takes the place of when linked.
  bool loads_constant(Instruction i) {
    const Address& a = f_.address(i);
    Type t = f_.type(f_.result(i));
    Instruction base = f_.definition(f_.operand(i, 0));
    if (!base.exists() || f_.op(base) != Op::AddressOf || a.indexed || a.masked || a.is_volatile ||
        a.offset < 0 || t.is_pointer())
      return false;
    const SymbolRow& row = c_.module[f_.symbol(base)];
    if (row.kind != SymbolKind::Data || !row.data.is_const || row.is_weak) return false;
    auto bytes = row.data.bytes_at(static_cast<uint64_t>(a.offset), t.bytes(), c_.module.layout);
    if (!bytes) return false;
    std::vector<uint64_t> words(t.words());
    get_value(t, bytes->data(), c_.module.layout.order, words);
    replace(i, {f_.constant_lanes(t, words)}, "constant data holds it");
    return true;
  }
  bool used(Instruction i) const {
    for (Value v : f_.results(i))
      if (f_.has_uses(v)) return true;
    return false;
  }

  // Rules and number analysis look for constants on the right alone.
  Instruction with_constants_right(Instruction i) {
    if (f_.operand_count(i) < 2 || !f_.is_constant(f_.operand(i, 0)) || f_.is_constant(f_.operand(i, 1)))
      return i;
    const Relatives* compares = relatives_of(f_.op(i));
    if (!compares && !info(f_.op(i)).commutes()) return i;
    if (!compares || compares->mirrored == f_.op(i)) {
      Value constant = f_.operand(i, 0);
      f_.set(f_.operand_slot(i, 0), f_.operand(i, 1));
      f_.set(f_.operand_slot(i, 1), constant);
      return i;
    }
    Value operands[] = {f_.operand(i, 1), f_.operand(i, 0)};
    Type result = f_.type(f_.result(i));
    Instruction made = f_.insert_before(i, {.op = compares->mirrored,
                                            .operands = operands,
                                            .results = {&result, 1},
                                            .position = f_.position(i),
                                            .permits = f_.permits(i)});
    hand_name_over(f_, f_.result(i), f_.result(made));
    users_later(f_.result(i));
    f_.replace_uses(f_.result(i), f_.result(made));
    f_.erase(i);
    return made;
  }

  void rewrite(Instruction i) {
    auto match = matcher_.match(i);
    if (!match) return;
    std::string before = c_.wants_notes() ? write_text(c_.module, f_, i) : "";
    std::string name = c_.wants_notes() ? c_.name(f_.result(i)) : "";
    Position position = f_.position(i);
    makers_later(i);
    for (Value v : f_.results(i)) users_later(v);
    Name names[2];
    for (size_t k = 0; k < f_.result_count(i); ++k) names[k] = f_.name(f_.result(i, k));
    auto applied = matcher_.apply(i, *match);
    for (size_t k = 0; k < 2; ++k)
      if (names[k].exists() && applied.results[k].exists() && !f_.name(applied.results[k]).exists() &&
          f_.kind(applied.results[k]) == ValueKind::Result)
        f_.set_name(applied.results[k], names[k]);
    for (Instruction made : matcher_.written()) later(made);
    if (c_.wants_notes()) {
      Value v = applied.results[0].exists() ? applied.results[0] : applied.results[1];
      Instruction d = f_.definition(v);
      const rewrite::Rule& r = *match->rule;
      std::vector<std::pair<std::string, std::string>> figures = {
          {"operation", before}, {"rule", fmt::format("{}:{}", standard_rules().files[r.file], r.line)}};
      if (uint8_t permits = standard_rules().terms[r.pattern].permits)
        figures.push_back({"permit", words_of(permits, permit_words())});
      bool is_new = d.exists() && !matcher_.written().empty();
      c_.done(position, name, "became " + (is_new ? write_text(c_.module, f_, d) : c_.name(v)),
              std::string(r.text), std::move(figures));
    }
  }
  // Whether all operands were constants, and the result is.
  bool computed(Instruction i) {
    const OperationInfo& row = info(f_.op(i));
    size_t count = f_.operand_count(i), result_count = f_.result_count(i);
    Type types[3], results[2];
    unsigned lanes = 0;
    for (size_t k = 0; k < count; ++k)
      if (!f_.is_constant(f_.operand(i, k))) return false;
    for (size_t k = 0; k < result_count; ++k) {
      results[k] = f_.type(f_.result(i, k));
      if (results[k].is_pointer()) return false;
      lanes += results[k].lanes();
    }
    in_.clear();
    for (size_t k = 0; k < count; ++k) {
      Value v = f_.operand(i, k);
      types[k] = f_.type(v);
      // An address's bits are not a number that can be computed with here.
      if (types[k].is_pointer()) return false;
      for (unsigned lane = 0; lane < types[k].lanes(); ++lane) in_.push_back(f_.constant_word(v, lane));
    }
    std::vector<uint16_t> picked;
    for (unsigned k = 0; row.layout == Layout::Shuffle && k < lanes; ++k)
      picked.push_back(f_.shuffle_lane(i, k));
    out_.assign(lanes, 0);
    if (!compute_lanes(f_.op(i), {types, count}, {results, result_count}, in_, out_, picked)) {
      if (c_.wants_notes())
        c_.declined(f_.position(i), c_.name(f_.result(i)), "the operation stays", "it traps whenever it runs",
                    "operands for which it has a result", {{"operation", write_text(c_.module, f_, i)}});
      return true;
    }
    std::vector<Value> constants;
    std::span<const Bits> left(out_);
    for (size_t k = 0; k < result_count; left = left.subspan(results[k].lanes()), ++k)
      constants.push_back(constant_from(f_, results[k], left.first(results[k].lanes())));
    replace(i, constants, "all operands are constant");
    return true;
  }

  void replace(Instruction i, const std::vector<Value>& with, const char* why) {
    for (size_t k = 0; k < with.size(); ++k) {
      Value old = f_.result(i, k);
      if (c_.wants_notes())
        c_.done(f_.position(i), c_.name(old), "became " + c_.name(with[k]), why,
                {{"operation", write_text(c_.module, f_, i)}});
      users_later(old);
      f_.replace_uses(old, with[k]);
    }
    makers_later(i);
    f_.erase(i);
  }

  void branch(Instruction i) {
    Value condition = f_.operand(i, 0);
    if (!f_.is_constant(condition)) return;
    Edge taken = f_.edge(i, way_of(f_, i, f_.constant_word(condition)));
    if (c_.wants_notes())
      c_.done(f_.position(i), block_text(c_.module, f_, f_.block(i)),
              "always goes to " + block_text(c_.module, f_, f_.to(taken)), "the condition is constant");
    always_take(f_, taken);
  }

  FunctionContext& c_;
  Function& f_;
  rewrite::Matcher matcher_;
  const Dominators& dominators_;
  std::vector<Instruction> work_;
  Table<Instruction, uint8_t> queued_;
  SideTable<Instruction, uint8_t> lost_use_;
  std::vector<Value> operands_;  // of an address before it was folded
  std::vector<Bits> in_, out_;   // lanes of the operands and of the result
};

}  // namespace

void fold(FunctionContext& c) { Folder(c).run(); }

}  // namespace porphyry
