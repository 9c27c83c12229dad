// What a value of a loop is in round k: c0 + c1 * k + c2 * k (k - 1) / 2 + …, coefficients being sums of
// values that stay the same (O. Bachmann, P. Wang, E. Zima, "Chains of Recurrences", 1994).
//
//   RecurrenceReader reader(f, loops, loop, rounds);
//   RecurrenceWriter writer(module, f, loops, loop.head, front, position);
//   writer.count(rounds);
//   if (auto recurrence = reader.describe(v)) Value last = writer.value(f.type(v), *recurrence);
#pragma once

#include <unordered_set>

#include "stays.h"

namespace porphyry {

// A sum of values that stay the same, each first converted and then times a number, modulo 2^width.
struct Term {
  Value value;
  Op convert = Op::Add;  // a conversion; Add: none
  Bits times = 0;
};
struct Sum {
  std::vector<Term> terms;
  Bits constant = 0;

  bool is_constant() const { return terms.empty(); }
  void add(const Term& t) {
    for (Term& mine : terms)
      if (mine.value == t.value && mine.convert == t.convert) return void(mine.times += t.times);
    terms.push_back(t);
  }
  void add(const Sum& other, Bits times) {
    for (const Term& t : other.terms) add(Term{t.value, t.convert, t.times * times});
    constant += other.constant * times;
  }
};
using Recurrence = std::vector<Sum>;  // by degree
inline constexpr size_t most_degree = 3;

// Tells which values of one loop are the same in all its rounds: those from outside, and what is computed
// from such. O(1), after the loop's instructions once.
class Staying {
 public:
  // All must outlive this.
  Staying(const Function& f, const Loops& loops, const LoopShape& loop) : f_(f), loops_(loops), loop_(loop) {}
  bool stays(Value v);

 private:
  void look();

  const Function& f_;
  const Loops& loops_;
  const LoopShape& loop_;
  bool looked_ = false;
  std::unordered_set<uint32_t> made_;  // values of the loop
};

// Moves a value that stays the same in front of its loop, with what it is made of.
Value bring_in_front(Function& f, const Loops& loops, Block head, Block front, Value v);

// Tells what values of one loop are in its rounds. O(operations that make the value), a few deep.
class RecurrenceReader {
 public:
  // All must outlive this; the loop must have one entry and one way back.
  RecurrenceReader(const Function& f, const Loops& loops, const LoopShape& loop, const Rounds& rounds)
      : f_(f), loops_(loops), loop_(loop), rounds_(rounds), staying_(f, loops, loop) {}

  bool stays(Value v) { return staying_.stays(v); }
  // Of an integer of at most 64 bits; nothing where it is not known.
  std::optional<Recurrence> describe(Value v) { return describe(v, 0); }

 private:
  using Known = std::optional<Recurrence>;
  Known describe(Value v, unsigned depth);
  Known operation(Instruction d, unsigned depth);
  Known combined(Instruction d, Bits times, unsigned depth);
  Known of_parameter(Value p, unsigned depth);
  Known change(Value next, Value p, unsigned depth);
  Known narrowed(Instruction d, unsigned depth);
  Known widened(Value v, Op op, unsigned depth);
  bool counts_without_wrapping(Value v, Op widen) const;

  const Function& f_;
  const Loops& loops_;
  const LoopShape& loop_;
  const Rounds& rounds_;
  std::vector<uint32_t> open_;  // parameters that are being described
  Staying staying_;
};

// Writes recurrences as operations in front of their loop, for the round in which it is left.
class RecurrenceWriter {
 public:
  RecurrenceWriter(Module& module, Function& f, const Loops& loops, Block head, Block front,
                   Position position);
  void count(const Rounds& rounds) { rounds_ = &rounds; }

  Value bring(Value v) { return bring_in_front(f_, loops_, head_, front_, v); }
  Value sum(Type type, const Sum& s);
  // How often the loop stays, as an i64.
  Value times() { return over(1); }
  Value value(Type type, const Recurrence& recurrence);
  Pen& pen() { return pen_; }

 private:
  Value over(size_t k);

  Function& f_;
  const Loops& loops_;
  Block head_, front_;
  Pen pen_;
  const Rounds* rounds_ = nullptr;
  std::vector<Value> over_;  // of the number of times, over 1, 2, 3
};

}  // namespace porphyry
