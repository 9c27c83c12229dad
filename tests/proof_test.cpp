// Every rule of the book, proved by a solver: whatever the operands hold, and whatever lies above them in
// their registers, its instructions compute what its pattern says. Both sides come from the book; what the
// operations of the language mean to the solver stands in prove/algebra.h.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <random>
#include <sstream>

#include "porphyry/ir/compute.h"
#include "porphyry/machine/code.h"
#include "porphyry/prove/algebra.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using prove::Algebra;
using Term = Algebra::Term;

// An operation for which there is no term.
struct Unproved {
  std::string operation;
};

class RuleProof {
 public:
  enum class Verdict { Proved, Refuted, Vague, TooHard };

  RuleProof(z3::context& context, const Target& target, const Rule& rule, uint64_t seed)
      : target_(target),
        rule_(rule),
        random_(seed),
        c_(context),
        algebra_(c_),
        solver_(solver_for(c_, rule)) {
    // Some divisions are beyond the solver and need not keep it long; all else it proves, however slow the
    // machine.
    z3::params p(c_);
    p.set("timeout", divides(rule) ? 2000u : 120000u);
    solver_.set(p);
  }

  Verdict run() {
    expect();
    for (const RuleStep& s : rule_.steps) step(s);
    Term same = traps_ == should_trap_ && (should_trap_ || agrees());
    solver_.add(!same);
    for (const Term& fact : algebra_.facts()) solver_.add(fact);
    switch (solver_.check()) {
      case z3::unsat: return Verdict::Proved;
      case z3::unknown: return Verdict::TooHard;
      case z3::sat: break;
    }
    if (algebra_.is_vague()) return Verdict::Vague;
    model = (std::ostringstream() << solver_.get_model()).str();
    return Verdict::Refuted;
  }

  std::string model;  // when it is refuted: what the operands hold

 private:
  static bool divides(const Rule& rule) {
    return std::any_of(rule.nodes.begin(), rule.nodes.end(), [](const PatternNode& n) {
      return n.kind == NodeKind::Operation && info(n.op).may_trap();
    });
  }
  // Terms here are small: down to single bits at once is far quicker than what the solver would try by
  // itself, except for divisions.
  static z3::solver solver_for(z3::context& c, const Rule& rule) {
    if (divides(rule)) return z3::solver(c);
    z3::tactic all(c, "simplify");
    for (const char* next : {"fpa2bv", "simplify", "ackermannize_bv", "simplify", "bit-blast", "sat"})
      all = all & z3::tactic(c, next);
    return all.mk_solver();
  }

  static constexpr int physical_key = 1000, table_key = 2000;  // variables are below

  // ---- the left side --------------------------------------------------------------------------------------

  const PatternNode& node(int8_t at) const { return rule_.nodes[static_cast<size_t>(at)]; }

  void expect() {
    const PatternNode& root = rule_.nodes[0];
    if (root.kind == NodeKind::Operation && root.op == Op::Trap)
      should_trap_ = c_.bool_val(true);
    else if (root.kind == NodeKind::Operation && root.op == Op::When)
      should_go_ = Algebra::is_true(tree(root.children[0], true));
    else if (root.kind == NodeKind::Operation && root.op == Op::Choose)
      choice(tree(root.children[0]));
    else if (root.kind == NodeKind::Operation && root.op == Op::Store)
      should_store_ = tree(root.children[0]), store_to_ = node(root.children[1]).variable;
    else
      should_be_ = tree(0);
  }

  // As many ways as a table has entries; each says how far its block lies from the table's start.
  void choice(const Term& number) {
    solver_.add(z3::ult(number, algebra_.number(Algebra::bits(number), 1u << 16)));
    should_go_to_ = table() + Algebra::sign_extend(entry(number), address_bits());
  }
  Term table() { return address(table_key); }
  Term entry(const Term& number) {
    return c_.function("entry", c_.bv_sort(address_bits()),
                       c_.bv_sort(32))(Algebra::zero_extend(number, address_bits()));
  }
  Term entry_at(const Term& place) { return entry(z3::lshr(place - table(), 2)); }

  Term tree(int8_t at, bool is_truth = false) {
    const PatternNode& n = node(at);
    Term out = n.kind == NodeKind::Operation ? operation(n) : leaf(n);
    // Bools are carried as bytes that hold nothing else.
    if (is_truth && !n.result.has_lanes() && Algebra::bits(out) > 1)
      solver_.add(z3::ule(out, algebra_.number(Algebra::bits(out), 1)));
    return out;
  }

  Term operation(const PatternNode& n) {
    if (n.op == Op::Load)
      return Algebra::zero_extend(memory(node(n.children[0]).variable), n.result.total_bits());
    if (n.op == Op::AddressOf || (n.op == Op::At && node(n.children[0]).kind == NodeKind::Memory))
      return address(node(n.children[0]).variable);
    if (n.op == Op::At) return tree(n.children[0]) + tree(n.children[1]);
    std::vector<Type> types;
    Algebra::Terms in;
    bool same_type = info(n.op).layout == Layout::Convert && n.op != Op::Bits && n.operand == n.result;
    for (int8_t child : n.children) {
      if (child < 0) break;
      bool is_truth = same_type || (in.empty() && n.op == Op::Pick);
      in.push_back(tree(child, is_truth));
      types.push_back(node(child).result);
    }
    if (same_type) return in[0];  // a bool, widened to the byte that it is
    if (n.op == Op::Shuffle) return shuffle(n, in);
    auto out = algebra_.apply(n.op, types, n.result, in, should_trap_);
    if (!out) throw Unproved{std::string(info(n.op).name)};
    return Algebra::zero_extend(*out, n.result.total_bits());
  }

  Term shuffle(const PatternNode& n, const Algebra::Terms& in) {
    lanes_.assign(n.lanes.begin(), n.lanes.end());
    while (lanes_.size() < n.result.lanes())
      lanes_.push_back(static_cast<uint16_t>(random_() % (2 * n.result.lanes())));
    shuffled_ = node(n.children[0]).result;
    Term out = algebra_.shuffled(in[0], in[1], shuffled_, lanes_);
    if (node(n.children[0]).variable == node(n.children[1]).variable)  // its lanes have two numbers each
      for (uint16_t& lane : lanes_) lane = static_cast<uint16_t>(lane % shuffled_.lanes());
    return out;
  }

  Term repeated(Type t, uint64_t bits) const {
    return algebra_.repeated(Algebra::zero_extend(algebra_.number(64, bits), t.bits()), t.lanes());
  }

  Term leaf(const PatternNode& n) {
    if (n.kind == NodeKind::Literal) return repeated(n.result, n.literal);
    if (auto known = values_.find(n.variable); known != values_.end()) return known->second;
    std::string name(1, static_cast<char>('a' + n.variable));
    Type t = n.result;
    bool uniform = n.kind == NodeKind::Constant && n.fit != Fit::Any;
    Term v = algebra_.fresh(name, uniform ? t.bits() : t.total_bits());
    if (n.kind == NodeKind::Constant) {
      constants_.emplace(n.variable, v.extract(t.bits() - 1, 0));
      if (n.fit == Fit::Masked) masks_[n.variable] = n.literal;
      auto low = [&] { return v.extract(static_cast<unsigned>(n.literal) - 1, 0); };
      if (n.fit == Fit::Signed && t.bits() > n.literal)
        solver_.add(Algebra::sign_extend(low(), t.bits()) == v);
      if (n.fit == Fit::Unsigned && t.bits() > n.literal)
        solver_.add(Algebra::zero_extend(low(), t.bits()) == v);
      if (n.fit == Fit::Nonzero) {
        const Term size = v & algebra_.number(t.bits(), static_cast<uint64_t>(mask_of(t.bits() - 1)));
        const uint64_t infinity = t.bits() == 32 ? 0x7f800000 : 0x7ff0000000000000;
        solver_.add(size != algebra_.number(t.bits(), 0) &&
                    z3::ule(size, algebra_.number(t.bits(), infinity)));
      }
      if (n.fit == Fit::Not) solver_.add(v != Algebra::zero_extend(algebra_.number(64, n.literal), t.bits()));
    }
    if (uniform) v = algebra_.repeated(v, t.lanes());
    values_.emplace(n.variable, v);
    // Nobody says what lies above a value in its register.
    unsigned whole = target_.classes[shape(n.variable).register_class].bits;
    // But bools are bytes that hold nothing else.
    const Term in_register = t.is_bool() ? Algebra::zero_extend(v, 8) : v;
    registers_.emplace(n.variable, below(in_register, algebra_.fresh("above_" + name, whole)));
    return v;
  }

  const VariableShape& shape(int variable) const { return rule_.variables[static_cast<size_t>(variable)]; }

  Term& memory(int variable) {
    auto [at, is_new] = memories_.try_emplace(variable, algebra_.fresh("memory", 128));
    return at->second;
  }
  Term address(int variable) {
    return addresses_.try_emplace(variable, algebra_.fresh("address", address_bits())).first->second;
  }

  // `low` in place of the lowest bits of `all`.
  static Term below(const Term& low, const Term& all) {
    unsigned bits = Algebra::bits(low), whole = Algebra::bits(all);
    return bits >= whole ? low.extract(whole - 1, 0) : z3::concat(all.extract(whole - 1, bits), low);
  }

  // ---- the right side -------------------------------------------------------------------------------------

  struct Slot {  // an operand of the instruction at hand
    int key = -1;
    std::optional<Term> value;  // of a literal, an address, a label, a constant in memory
    int memory = -1;
    bool is_address = false;  // the value is one
  };

  static int key_of(const RuleSource& s) {
    return s.kind == SourceKind::Physical ? physical_key + s.physical : s.variable;
  }
  unsigned whole_of(int key) const {
    if (key >= physical_key)
      return target_.classes[target_.class_of(static_cast<unsigned>(key - physical_key))].bits;
    return target_.classes[shape(key).register_class].bits;
  }
  Term& reg(int key) {
    return registers_.try_emplace(key, algebra_.fresh("unset", whole_of(key))).first->second;
  }

  // As many bits as the value has, and 32 at least; what else comes along is nobody's affair.
  void copy(int to, int from) {
    if (to == from) return;
    unsigned named = to < physical_key ? shape(to).bits : from < physical_key ? shape(from).bits : 64u;
    unsigned bits = std::max(32u, named);
    reg(to) = below(reg(from).extract(bits - 1, 0), algebra_.fresh("above", whole_of(to)));
  }

  Slot slot(const RuleSource& s) {
    Slot out;
    auto is = [&](const Term& t) { out.value = t; };
    switch (s.kind) {
      case SourceKind::Variable:
      case SourceKind::Physical: out.key = key_of(s); break;
      case SourceKind::Number: is(algebra_.number(64, static_cast<uint64_t>(s.number))); break;
      case SourceKind::Constant: is(part(literal(s.variable), s.part)); break;
      case SourceKind::Memory:
        if (s.part == Part::Whole)
          out.memory = s.variable;
        else
          is(part(address(s.variable), s.part));
        break;
      case SourceKind::Built: {
        Term sum = algebra_.number(address_bits(), 0);
        if (s.variable >= 0) sum = sum + reg(s.variable);
        if (s.index >= 0) sum = sum + reg(s.index) * algebra_.number(address_bits(), s.scale);
        if (s.constant >= 0) sum = sum + Algebra::sign_extend(literal(s.constant), address_bits());
        is(sum);
        out.is_address = true;
        break;
      }
      case SourceKind::Pool: is(below(values_.at(s.variable), algebra_.fresh("behind", 128))); break;
      case SourceKind::PoolLiteral:
        is(below(repeated(s.type, static_cast<uint64_t>(s.number)), algebra_.fresh("behind", 128)));
        break;
      case SourceKind::Order: is(algebra_.number(64, order())); break;
      case SourceKind::FirstBytes: is(bytes_taken(false)); break;
      case SourceKind::SecondBytes: is(bytes_taken(true)); break;
      case SourceKind::Yes: is(algebra_.number(64, 1)); break;
      case SourceKind::No: is(algebra_.number(64, 2)); break;
      case SourceKind::Table:
        is(table());
        out.is_address = true;
        break;
      case SourceKind::None: break;
    }
    return out;
  }

  unsigned address_bits() const { return target_.layout.pointer_bits; }
  // Of an address, or of a number in a word.
  Term part(const Term& whole, Part which) const {
    const unsigned low = target_.lower_bits;
    if (which == Part::Whole) return whole;
    return which == Part::Upper ? Algebra::zero_extend(whole.extract(target_.word_bits - 1, low), 64)
                                : Algebra::zero_extend(whole.extract(low - 1, 0), 64);
  }

  Term literal(int variable) {
    Term v = Algebra::sign_extend(constants_.at(variable), 64);
    auto mask = masks_.find(variable);
    return mask == masks_.end() ? v : v & algebra_.number(64, mask->second);
  }

  // The shuffle's lanes as the book's words for them say.
  uint64_t order() const {
    unsigned each = shuffled_.element_bytes() / 4;
    uint64_t out = 0;
    for (unsigned at = 0; at < 4; ++at) out |= uint64_t(lanes_[at / each] * each + at % each) % 4 << 2 * at;
    return out;
  }
  Term bytes_taken(bool second) const {
    unsigned size = shuffled_.element_bytes(), first = second ? shuffled_.lanes() : 0;
    Algebra::Terms out;
    for (unsigned at = 0; at < 16; ++at) {
      unsigned lane = lanes_[at / size] - first;
      out.push_back(algebra_.number(8, lane < shuffled_.lanes() ? lane * size + at % size : 128));
    }
    return algebra_.side_by_side(out);
  }

  void step(const RuleStep& s) {
    if (s.form == copy_form) return copy(key_of(s.out[0]), key_of(s.in[0]));
    form_ = &target_.form(s.form);
    slots_.clear(), temporaries_.clear();
    for (size_t k = 0; k < form_->operands.size(); ++k) {
      bool written = s.out[k].kind != SourceKind::None;
      slots_.push_back(slot(written ? s.out[k] : s.in[k]));
      bool tied = written && form_->operands[k].read && slots_.back().key >= 0;
      if (tied) copy(slots_.back().key, key_of(s.in[k]));
    }
    for (const MeaningStep& m : form_->meaning) meaning(m);
  }

  void meaning(const MeaningStep& m) {
    switch (m.kind) {
      case MeaningKind::Compute: {
        std::vector<Type> types;
        Algebra::Terms in;
        for (unsigned k = 0; k < info(m.op).arity(); ++k)
          types.push_back(m.arguments[k].type), in.push_back(read(m.arguments[k]));
        Term traps = c_.bool_val(false);
        auto out = algebra_.apply(m.op, types, m.to.type, in, traps);
        if (!out) throw Unproved{std::string(info(m.op).name)};
        traps_ = traps_ || (path_ && traps);
        return write(m.to, *out);
      }
      case MeaningKind::Copy: return write(m.to, read(m.arguments[0]));
      case MeaningKind::Open: return write(m.to, algebra_.fresh("open", 1));
      case MeaningKind::Trap: traps_ = traps_ || (path_ && Algebra::is_true(read(m.arguments[0]))); return;
      case MeaningKind::Go: {
        Term goes = path_ && Algebra::is_true(read(m.arguments[1]));
        Term to = read(m.arguments[0]);
        goes_ = goes_ || (goes && to == algebra_.number(Algebra::bits(to), 1));
        goes_to_ = to;
        path_ = path_ && !goes;
        return;
      }
      case MeaningKind::Load:
      case MeaningKind::Store: throw Unproved{"memory by address"};
    }
  }

  Term read(const machine::Term& p) {
    unsigned bits = p.type.total_bits();
    switch (p.kind) {
      case machine::TermKind::Temporary: return Algebra::zero_extend(temporaries_.at(p.index), bits);
      case machine::TermKind::Register: return reg(physical_key + p.index).extract(bits - 1, 0);
      case machine::TermKind::Flag:
        return flags_.try_emplace(p.index, algebra_.fresh("flag", 1)).first->second;
      case machine::TermKind::Literal:
        return p.type.has_lanes() ? repeated(p.type, p.literal)
                                  : Algebra::sign_extend(algebra_.number(64, p.literal), bits);
      case machine::TermKind::Next: return algebra_.number(bits, 0);  // labels are their own numbers
      case machine::TermKind::None: return algebra_.number(bits, 0);
      case machine::TermKind::Operand: break;
    }
    const Slot& s = slots_[p.index];
    if (s.key >= 0) return reg(s.key).extract(bits - 1, 0);
    if (s.memory >= 0 && form_->operands[p.index].kind == OperandKind::Address) return address(s.memory);
    if (s.memory >= 0) return memory(s.memory).extract(bits - 1, 0);
    bool at_sum = form_->operands[p.index].kind == OperandKind::Memory && s.is_address;
    if (at_sum && should_go_to_ && bits == 32) return entry_at(*s.value);
    if (at_sum) throw Unproved{"memory by address"};
    return Algebra::sign_extend(*s.value, bits);
  }

  void write(const machine::Term& p, const Term& v) {
    Term low = Algebra::zero_extend(v, p.type.total_bits());
    if (p.kind == machine::TermKind::Temporary) return void(temporaries_.insert_or_assign(p.index, low));
    if (p.kind == machine::TermKind::Flag) return void(flags_.insert_or_assign(p.index, low));
    if (p.kind == machine::TermKind::Register) return write_register(physical_key + p.index, low, false);
    const Slot& s = slots_[p.index];
    if (s.key >= 0) return write_register(s.key, low, form_->operands[p.index].clears);
    memory(s.memory) = below(low, memory(s.memory));
    stored_ = low, stored_to_ = s.memory;
  }

  void write_register(int key, const Term& v, bool clears) {
    unsigned c = key >= physical_key ? target_.class_of(static_cast<unsigned>(key - physical_key))
                                     : shape(key).register_class;
    for (const RegisterView& view : target_.classes[c].views)
      if (view.bits == Algebra::bits(v) && view.rest == Rest::Clears) clears = true;
    reg(key) = below(v, clears ? algebra_.number(whole_of(key), 0) : reg(key));
  }

  // ---- both -----------------------------------------------------------------------------------------------

  Term agrees() {
    if (should_go_) return goes_ == *should_go_ && !path_;
    if (should_go_to_) return goes_to_ ? *goes_to_ == *should_go_to_ && !path_ : c_.bool_val(false);
    if (should_store_) {
      if (!stored_ || stored_to_ != store_to_ || Algebra::bits(*stored_) != Algebra::bits(*should_store_))
        return c_.bool_val(false);
      return *stored_ == *should_store_;
    }
    if (stored_) return c_.bool_val(false);
    if (!should_be_) return c_.bool_val(false);
    const PatternNode& root = rule_.nodes[0];
    int result = !rule_.matches_constant ? root.variable : root.variable >= 0 ? 1 : 0;
    unsigned bits = Algebra::bits(*should_be_);
    bool is_address = (root.op == Op::At || root.op == Op::AddressOf) && !rule_.matches_constant;
    Type t = is_address ? Type::integer(address_bits()) : root.result;
    return algebra_.same(reg(result).extract(bits - 1, 0), *should_be_, t);
  }

  const Target& target_;
  const Rule& rule_;
  std::mt19937_64 random_;
  z3::context& c_;
  Algebra algebra_;
  z3::solver solver_;
  std::map<int, Term> values_, constants_, registers_, memories_, addresses_, flags_, temporaries_;
  std::map<int, uint64_t> masks_;
  std::vector<uint16_t> lanes_;  // of the pattern's shuffle
  Type shuffled_;
  const Form* form_ = nullptr;
  std::vector<Slot> slots_;
  Term path_ = c_.bool_val(true), goes_ = c_.bool_val(false);  // not yet gone; gone to `yes`
  Term traps_ = c_.bool_val(false), should_trap_ = c_.bool_val(false);
  std::optional<Term> should_be_, should_go_, should_store_, stored_, should_go_to_, goes_to_;
  int store_to_ = -1, stored_to_ = -1;
};

class Proofs : public ::testing::TestWithParam<std::string> {};

TEST_P(Proofs, EveryRuleComputesWhatItsPatternSays) {
  constexpr size_t each = 5 * (testing::checked_part - 1) + 1;  // the solver is not what is checked
  const Target& target = testing::target(GetParam());
  z3::context context;
  size_t proved = 0;
  std::vector<std::string> too_hard, vague;
  for (size_t r = 0; r < target.rules.size(); r += each) {
    const Rule& rule = target.rules[r];
    RuleProof proof(context, target, rule, r);
    try {
      switch (proof.run()) {
        case RuleProof::Verdict::Proved: ++proved; break;
        case RuleProof::Verdict::TooHard: too_hard.emplace_back(rule.name); break;
        case RuleProof::Verdict::Vague: vague.emplace_back(rule.name); break;
        case RuleProof::Verdict::Refuted:
          ADD_FAILURE() << "'" << rule.name << "' is wrong for\n" << proof.model;
          break;
      }
    } catch (const Unproved& u) {
      // A constant is read from where instructions before have found it.
      if (rule.name == "a float constant" && u.operation == "memory by address") continue;
      ADD_FAILURE() << "'" << rule.name << "': the solver does not know '" << u.operation << "'";
    } catch (const z3::exception& e) {
      ADD_FAILURE() << "'" << rule.name << "': " << e.msg();
    }
  }
  EXPECT_GT(proved, target.rules.size() * 4 / 5 / each);
  // Divisions by way of twice as wide ones are beyond the solver; conversions that saturate hang on what a
  // conversion gives. Both are tried with values elsewhere.
  for (const std::string& name : too_hard)
    EXPECT_TRUE(name.find("quotient") != name.npos || name.find("remainder") != name.npos) << name;
  for (const std::string& name : vague) EXPECT_TRUE(name.find("whole") != name.npos) << name;
}
INSTANTIATE_TEST_SUITE_P(All, Proofs, ::testing::ValuesIn(testing::target_names()), testing::as_test_name);

// The checker of proofs is worth what it refutes: rules that are nearly right.
TEST(Proof, MistakesInRulesAreFound) {
  const Target& target = *native_target();
  z3::context context;
  std::mt19937_64 random(5);
  size_t changed = 0, refuted = 0;
  for (size_t r = 0; r < target.rules.size(); r += 23) {
    const Rule& rule = target.rules[r];
    bool plain = rule.nodes[0].kind == NodeKind::Operation && info(rule.nodes[0].op).is_plain() &&
                 !rule.nodes[0].operand.is_float() && rule.steps.size() > 0;
    if (!plain || info(rule.nodes[0].op).may_trap()) continue;
    // One instruction becomes another of the same shape that writes the same place.
    std::vector<RuleStep> steps(rule.steps.begin(), rule.steps.end());
    RuleStep& step = steps[random() % steps.size()];
    if (step.form == copy_form) continue;
    const Form& form = target.form(step.form);
    auto same_shape = [&](const Form& other) {
      return other.name != form.name && other.operands.size() == form.operands.size() &&
             std::equal(form.operands.begin(), form.operands.end(), other.operands.begin(),
                        [](const FormOperand& a, const FormOperand& b) {
                          return a.kind == b.kind && a.type == b.type && a.read == b.read &&
                                 a.written == b.written && a.register_class == b.register_class;
                        });
    };
    for (size_t f = first_real_form; f < target.forms.size(); ++f) {
      if (!same_shape(target.forms[f]) || random() % 4) continue;
      step.form = static_cast<FormIndex>(f);
      Rule wrong = rule;
      wrong.steps = steps;
      RuleProof proof(context, target, wrong, r);
      try {
        ++changed;
        refuted += proof.run() == RuleProof::Verdict::Refuted;
      } catch (const Unproved&) {
        --changed;
      } catch (const z3::exception&) {
        --changed;
      }
      break;
    }
  }
  EXPECT_GT(changed, 20u);
  // Some replacements are as good as the original: `add` for `lea`, or a bit that nobody looks at.
  EXPECT_GT(refuted * 10, changed * 7) << refuted << " of " << changed;
}

}  // namespace
}  // namespace porphyry
