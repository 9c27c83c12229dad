// Control flow of any shape, irreducible too: blocks that go anywhere, values in slots or handed on as block
// parameters in changing places. Fuel makes every run end. What promote makes of slots, what the parallel
// moves make of cycles and what the allocator makes of the rest must compute the same.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/pen.h"
#include "porphyry/jit/apart.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

using types::i64;

class GraphProgram {
 public:
  GraphProgram(Realm& realm, uint64_t seed) : random_(seed), module_(realm, "graph") {
    symbol_ = module_.add_function("f", {{i64, i64}, {i64, Type::f64()}});
    f_ = &module_.function(symbol_);
  }

  // Values live in frame slots; every block loads, computes, stores.
  void in_slots() {
    Pen pen(module_, *f_);
    pen.at_end(f_->add_block());
    std::vector<Value> slots;
    std::vector<Type> types;
    for (size_t k = 3 + random_() % 5; k-- > 0;) {
      types.push_back(random_() % 4 ? i64 : Type::f64());
      slots.push_back(pen.reserve(8, 8));
      pen.store(types.back() == i64 ? f_->parameters()[1] : pen.real(Type::f64(), 1.5), slots.back());
    }
    Value fuel = pen.reserve(8, 8);
    pen.store(f_->parameters()[0], fuel);
    make_blocks();
    pen.go(any_block());
    for (Block b : blocks_) {
      pen.at_end(b);
      for (size_t n = random_() % 4; n-- > 0;) {
        size_t to = random_() % slots.size(), from = random_() % slots.size();
        if (types[to] != types[from]) continue;
        Value v = pen.load(types[from], slots[from]);
        Value w = pen.load(types[to], slots[to]);
        pen.store(mix(pen, v, w), slots[to]);
      }
      Value left = pen.sub(pen.load(i64, fuel), pen.integer(i64, 1));
      pen.store(left, fuel);
      leave_or_go(pen, left, {});
    }
    pen.at_end(out_);
    Value whole = pen.integer(i64, 0), real = pen.real(Type::f64(), 0);
    for (size_t k = 0; k < slots.size(); ++k) {
      Value v = pen.load(types[k], slots[k]);
      if (types[k] == i64)
        whole = pen.write(Op::Xor, {whole, v});
      else
        real = pen.add(real, v);
    }
    pen.return_values({whole, real});
  }

  // Every block has the same parameters and hands them on in another order, some changed.
  void in_parameters() {
    Pen pen(module_, *f_);
    pen.at_end(f_->add_block());
    size_t whole_count = 2 + random_() % 16, real_count = 1 + random_() % 4;
    make_blocks();
    std::vector<Block> all = blocks_;
    all.push_back(out_);
    for (Block b : all) {
      f_->add_parameter(b, i64);  // fuel
      for (size_t k = 0; k < whole_count; ++k) f_->add_parameter(b, i64);
      for (size_t k = 0; k < real_count; ++k) f_->add_parameter(b, Type::f64());
    }
    std::vector<Value> first{f_->parameters()[0]};
    for (size_t k = 0; k < whole_count; ++k)
      first.push_back(k % 3 ? f_->parameters()[1] : pen.integer(i64, int64_t(k)));
    for (size_t k = 0; k < real_count; ++k) first.push_back(pen.real(Type::f64(), double(k) + 0.5));
    Function::Draft::Destination start{any_block(), first};
    pen.put({.op = Op::Go, .targets = {&start, 1}});
    for (Block b : blocks_) {
      pen.at_end(b);
      auto p = f_->parameters(b);
      std::vector<Value> values(p.begin(), p.end());
      Value left = pen.sub(values[0], pen.integer(i64, 1));
      std::shuffle(values.begin() + 1, values.begin() + 1 + static_cast<ptrdiff_t>(whole_count), random_);
      std::shuffle(values.begin() + 1 + static_cast<ptrdiff_t>(whole_count), values.end(), random_);
      values[0] = left;
      size_t changed = 1 + random_() % whole_count;
      values[changed] = mix(pen, values[changed], values[1 + random_() % whole_count]);
      values.back() = mix(pen, values.back(), values[1 + whole_count]);
      if (random_() % 3 == 0) values[1] = values[2];  // one value in two places
      leave_or_go(pen, left, values);
    }
    pen.at_end(out_);
    Value whole = f_->parameters(out_)[0], real = pen.real(Type::f64(), 0);
    for (size_t k = 1; k < f_->parameters(out_).size(); ++k) {
      Value v = f_->parameters(out_)[k];
      if (f_->type(v) == i64)
        whole = pen.add(pen.mul(whole, pen.integer(i64, 31)), v);
      else
        real = pen.add(real, v);
    }
    pen.return_values({whole, real});
  }

  Module& module() { return module_; }
  Symbol symbol() const { return symbol_; }

 private:
  void make_blocks() {
    for (size_t k = 2 + random_() % 9; k-- > 0;) blocks_.push_back(f_->add_block());
    out_ = f_->add_block();
  }
  Block any_block() { return blocks_[random_() % blocks_.size()]; }

  Value mix(Pen& pen, Value a, Value b) {
    if (f_->type(a) != i64) return pen.write(random_() % 2 ? Op::Add : Op::Sub, {a, b});
    switch (random_() % 5) {
      case 0: return pen.add(a, b);
      case 1: return pen.sub(b, a);
      case 2: return pen.mul(a, pen.integer(i64, 1 + int64_t(random_() % 9)));
      case 3: return pen.write(Op::RotL, {a, b});
      default: return pen.write(Op::Xor, {a, pen.integer(i64, int64_t(random_()))});
    }
  }

  // Ends when the fuel has run out, else goes one of two ways by the fuel's bits.
  void leave_or_go(Pen& pen, Value left, const std::vector<Value>& arguments) {
    Block onward = f_->add_block();
    Value empty = pen.write(Op::LeS, {left, pen.integer(i64, 0)});
    Function::Draft::Destination end[] = {{out_, arguments}, {onward, {}}};
    pen.put({.op = Op::When, .operands = {&empty, 1}, .targets = end});
    pen.at_end(onward);
    Value bit = pen.write(Op::And, {left, pen.integer(i64, int64_t(1) << random_() % 3)});
    Value way = pen.write(Op::Ne, {bit, pen.integer(i64, 0)});
    Function::Draft::Destination ways[] = {{any_block(), arguments}, {any_block(), arguments}};
    pen.put({.op = Op::When, .operands = {&way, 1}, .targets = ways});
  }

  std::mt19937_64 random_;
  Module module_;
  Symbol symbol_;
  Function* f_;
  std::vector<Block> blocks_;
  Block out_;
};

void compare(const Module& module, Symbol symbol, const std::string& what) {
  const machine::Target& target = *native_target();
  auto jit = Jit::compile(module, target, {.check_allocation = true});
  ASSERT_TRUE(jit.good()) << what << "\n" << render(jit.why()) << write_text(module);
  auto caller = Caller::make(**jit, "f", target);
  Evaluator e(module);
  for (uint64_t fuel : {1, 2, 7, 40, 333}) {
    Datum arguments[] = {{fuel, 0}, {0x123456789abcdef, 0}};
    Outcome meant = e.call(symbol, arguments);
    ASSERT_EQ(meant.end, Outcome::End::Result) << what << meant.message;
    auto is = (*caller)->call(std::vector<uint64_t>{fuel, 0x123456789abcdef});
    ASSERT_EQ(is[0], meant.results[0].bits) << what << ", fuel " << fuel << "\n" << write_text(module);
    ASSERT_EQ(is[1], meant.results[1].bits) << what << ", fuel " << fuel << "\n" << write_text(module);
  }
}

TEST(Graphs, AnyControlFlowComputesTheSame) {
  constexpr uint64_t graphs = testing::part_of(250);
  size_t promoted = 0;
  for (uint64_t seed = 1; seed <= graphs; ++seed) {
    for (bool slots : {true, false}) {
      Realm realm;
      GraphProgram program(realm, seed);
      if (slots)
        program.in_slots();
      else
        program.in_parameters();
      Module& module = program.module();
      Diagnostics wrong = verify(module);
      ASSERT_TRUE(wrong.empty()) << render(wrong);
      std::string what = fmt::format("seed {} {}", seed, slots ? "in slots" : "in parameters");
      compare(module, program.symbol(), what);

      Evaluator before(module);
      auto optimized = clone(module);
      Notes notes;
      Diagnostics broken =
          run_pipeline(*optimized, level_named("-O1")->pipeline(), {.notes = &notes, .check_between = true});
      ASSERT_TRUE(broken.empty()) << what << render(broken);
      for (const Note& n : notes) promoted += n.pass == "promote" && n.kind == Note::Kind::Done;
      compare(*optimized, program.symbol(), what + " after -O1");
      Evaluator after(*optimized);
      Datum arguments[] = {{100, 0}, {77, 0}};
      Outcome a = before.call(program.symbol(), arguments), b = after.call(program.symbol(), arguments);
      ASSERT_EQ(a.results[0].bits, b.results[0].bits) << what;
      ASSERT_EQ(a.results[1].bits, b.results[1].bits) << what;
    }
    if (HasFatalFailure()) return;
  }
  EXPECT_GT(promoted, 3 * graphs);
}

}  // namespace
}  // namespace porphyry
