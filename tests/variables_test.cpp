// Variables of a front end: random programs over any control flow, once with variables and once with memory.
#include "porphyry/ir/variables.h"

#include <gtest/gtest.h>

#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/body_text.h"
#include "porphyry/ir/pen.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "support/measure.h"

namespace porphyry {
namespace {

constexpr size_t variable_count = 4;
using types::i64;

// Where a front end keeps its variables: here, or in the frame.
class Store {
 public:
  Store(Variables* variables, Pen& pen) : pen_(pen), variables_(variables) {
    for (size_t k = 0; k < variable_count; ++k)
      if (variables_)
        variables_->add(i64, "night");
      else
        slots_.push_back(pen.reserve(8, 8)), pen.store(pen.i64(0), slots_.back());
  }
  Value read(size_t k) {
    return variables_ ? variables_->read(static_cast<uint32_t>(k), pen_.block()) : pen_.load(i64, slots_[k]);
  }
  void write(size_t k, Value v) {
    if (variables_)
      variables_->write(static_cast<uint32_t>(k), pen_.block(), v);
    else
      pen_.store(v, slots_[k]);
  }
  Variables* variables() { return variables_; }

 private:
  Pen& pen_;
  Variables* variables_;  // null: in the frame
  std::vector<Value> slots_;
};

// Blocks with random statements that go to random blocks, as long as the fuel lasts.
void write_program(Module& module, Function& f, Variables* variables, uint64_t seed) {
  std::mt19937_64 random(seed);
  auto below = [&](size_t n) { return random() % n; };
  Pen pen(module, f);
  std::vector<Block> blocks;
  for (size_t k = 0, n = 3 + below(9); k < n; ++k) blocks.push_back(f.add_block());
  pen.at_end(blocks[0]);
  Store store(variables, pen);
  store.write(0, f.parameters()[0]);
  store.write(1, f.parameters()[1]);  // the fuel
  std::vector<size_t> order;          // written in any order, sealed now and then as soon as that is right
  for (size_t k = 0; k < blocks.size(); ++k) order.push_back(k);
  std::shuffle(order.begin() + 1, order.end(), random);
  for (size_t k : order) {
    pen.at_end(blocks[k]);
    for (size_t n = below(4); n-- > 0;) {
      Value v = below(3) ? pen.add(store.read(below(4)), pen.i64(static_cast<int64_t>(below(9))))
                         : pen.xor_(store.read(below(4)), store.read(below(4)));
      if (size_t to = below(4); to != 1) store.write(to, v);
    }
    if (k + 1 == blocks.size()) {
      pen.return_values({pen.add(store.read(0), pen.mul(store.read(2), pen.i64(7)))});
      continue;
    }
    Value fuel = pen.sub(store.read(1), pen.i64(1));
    store.write(1, fuel);
    Block yes = blocks[1 + below(blocks.size() - 1)], no = blocks[1 + below(blocks.size() - 1)];
    Value odd = pen.eq(pen.and_(store.read(below(4)), pen.i64(1)), pen.i64(0));
    Value more = pen.gt_s(fuel, pen.i64(0));
    Block middle = f.add_block();
    pen.when(more, middle, {}, blocks.back(), {});
    if (store.variables()) store.variables()->seal(middle);
    pen.at_end(middle);
    if (below(2))
      pen.when(odd, yes, {}, no, {});
    else
      pen.go(yes);
  }
  if (store.variables()) store.variables()->finish();
}

std::unique_ptr<Module> random_program(Realm& realm, uint64_t seed, bool in_memory) {
  auto module = std::make_unique<Module>(realm, "night");
  Function& f = module->function(module->add_function("f", {{i64, i64}, {i64}}));
  Variables variables(*module, f);
  write_program(*module, f, in_memory ? nullptr : &variables, seed);
  return module;
}

size_t parameters_in(const Function& f) {
  size_t n = 0;
  for (Block b : f.blocks()) n += f.parameters(b).size();
  return n;
}

TEST(Variables, DoWhatMemoryDoes) {
  size_t ours = 0, promoted = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(4000); ++seed) {
    Realm realm;
    auto with = random_program(realm, seed, false), memory = random_program(realm, seed, true);
    Diagnostics wrong = verify(*with);
    ASSERT_TRUE(wrong.empty()) << "seed " << seed << "\n" << render(wrong) << write_text(*with);
    for (uint64_t input : {uint64_t(0), uint64_t(1), seed * 77}) {
      Datum arguments[] = {{input, 0}, {25, 0}};
      Outcome is = Evaluator(*with).call(with->find("f"), arguments),
              should = Evaluator(*memory).call(memory->find("f"), arguments);
      ASSERT_EQ(is.end, Outcome::End::Result) << is.message;
      ASSERT_EQ(is.results[0].bits, should.results[0].bits) << "seed " << seed << "\n" << write_text(*with);
    }
    // Beside another algorithm, what nobody uses taken out of both.
    auto sweep = read_pipeline("until stable { sweep }"),
         promote = read_pipeline("promote; until stable { sweep }");
    EXPECT_EQ(render(run_pipeline(*with, *sweep)), "");
    EXPECT_EQ(render(run_pipeline(*memory, *promote)), "");
    ours += parameters_in(with->function(with->find("f")));
    promoted += parameters_in(memory->function(memory->find("f")));
  }
  std::printf("block parameters: %zu, by promotion %zu\n", ours, promoted);
  EXPECT_LE(ours, promoted);
}

// What one function left behind must not show in the next.
TEST(Variables, WriteTheSameInMemoryThatIsUsedAgain) {
  Realm realm;
  Module module(realm, "night");
  Function again;
  Variables variables(module, again);
  for (uint64_t seed = 1; seed <= testing::part_of(800); ++seed) {
    std::vector<Type> parameters(2 + seed % 3, i64);
    Function& f = module.function(module.add_function("f" + std::to_string(seed), {parameters, {i64}}));
    again.start_as(f);
    variables.start_again(seed % 60);
    write_program(module, again, &variables, seed);
    const Function copy(again);
    Variables own(module, f);
    write_program(module, f, &own, seed);
    ASSERT_EQ(body_text(copy), body_text(f)) << "seed " << seed;
    ASSERT_EQ(parameters_in(copy), parameters_in(f)) << "seed " << seed;
  }
}

// A hundred thousand blocks in a row, and as many loops in one another's way.
TEST(Variables, DepthOfControlDoesNotMatter) {
  Realm realm;
  Module module(realm, "night");
  Function& f = module.function(module.add_function("f", {{i64}, {i64}}));
  Pen pen(module, f);
  Variables variables(module, f);
  auto sum = variables.add(i64, "sum");
  std::vector<Block> blocks;
  for (size_t k = 0; k < testing::part_of(100000); ++k) blocks.push_back(f.add_block());
  variables.write(sum, blocks[0], f.parameters()[0]);
  for (size_t k = 0; k + 1 < blocks.size(); ++k) {
    pen.at_end(blocks[k]);
    if (k % 3 == 2)
      pen.when(pen.truth(k % 2), blocks[k + 1], {}, blocks[k - 1], {});
    else
      pen.go(blocks[k + 1]);
  }
  for (Block b : f.blocks()) variables.seal(b);
  pen.at_end(blocks.back()).return_values({variables.read(sum, blocks.back())});
  variables.finish();
  EXPECT_EQ(render(verify(module)), "");
  EXPECT_EQ(f.operand(f.terminator(blocks.back()), 0), f.parameters()[0]);
  EXPECT_EQ(parameters_in(f), 0u);
}

}  // namespace
}  // namespace porphyry
