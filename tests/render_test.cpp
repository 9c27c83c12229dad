// What is shown is what is: listings, notes and diagnostics as text and as JSON against the data they show.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <sstream>

#include "porphyry/ir/pen.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/graph.h"
#include "porphyry/render/listing.h"
#include "porphyry/render/notes.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/json.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::Json;
using testing::must_read;
using testing::read_json;

std::vector<machine::FunctionListing> listings_of(const Module& module) {
  const machine::Target& target = *native_target();
  auto lowered = machine::lower(module, target);
  EXPECT_TRUE(lowered.good()) << render(lowered.why());
  std::vector<machine::FunctionListing> out;
  for (const auto& f : lowered->functions) out.push_back(make_listing(*lowered, f, target));
  return out;
}

TEST(Render, ListingsAccountForEveryByte) {
  for (uint64_t seed = 40; seed < 60; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    for (const machine::FunctionListing& l : listings_of(*program.module)) {
      uint32_t at = 0;
      unsigned instructions = 0, loads = 0, stores = 0, moves = 0, spills = 0, reloads = 0, in_loops = 0;
      for (const auto& block : l.blocks) {
        ASSERT_EQ(block.offset, at);
        for (const auto& line : block.lines) {
          ASSERT_EQ(line.offset, at);
          at += static_cast<uint32_t>(line.bytes.size());
          ++instructions;
          moves += line.role == machine::Role::Move;
          spills += line.role == machine::Role::Spill;
          reloads += line.role == machine::Role::Reload;
          if (block.depth && (line.role == machine::Role::Spill || line.role == machine::Role::Reload))
            ++in_loops;
          // An address in the text that is not only computed is a load, a store, or both.
          bool touches = line.text.find(" ptr [") != std::string::npos;
          loads += touches, stores += touches;
        }
      }
      EXPECT_EQ(at, l.totals.bytes);
      EXPECT_EQ(instructions, l.totals.instructions);
      EXPECT_EQ(moves, l.totals.moves);
      EXPECT_EQ(spills, l.totals.spills);
      EXPECT_EQ(reloads, l.totals.reloads);
      EXPECT_EQ(in_loops, l.totals.spilled_in_loops);
      EXPECT_LE(l.totals.loads, loads);
      EXPECT_LE(l.totals.stores, stores);
      EXPECT_GE(l.totals.loads + l.totals.stores, loads);
    }
  }
}

// Nor the spaces that end a line.
std::string without_colour(std::string_view text) {
  std::string out;
  for (size_t k = 0; k < text.size(); ++k) {
    if (text[k] == '\x1b') {
      k = std::min(text.find('m', k), text.size());
      continue;
    }
    while (text[k] == '\n' && out.ends_with(' ')) out.pop_back();
    out += text[k];
  }
  return out;
}

TEST(Render, ColourChangesNoText) {
  Realm realm;
  Sample program = make_sample(realm, {.seed = 77, .layout = MemoryLayout{}});
  for (const machine::FunctionListing& l : listings_of(*program.module)) {
    std::string plain = render(l);
    EXPECT_EQ(plain, without_colour(render(l, true)));
    EXPECT_EQ(plain.find('\x1b'), std::string::npos);
  }
}

TEST(Render, JsonHoldsWhatTheTextShows) {
  Realm realm;
  auto module = must_read(realm, testing::contents(PORPHYRY_ROOT "/demo/frostwatch.por"));
  auto listings = listings_of(*module);
  Json all = read_json(render_json(listings));
  ASSERT_EQ(all.size(), listings.size());
  for (size_t k = 0; k < listings.size(); ++k) {
    EXPECT_EQ(all[k]["name"], listings[k].name);
    EXPECT_EQ(all[k]["totals"]["bytes"], listings[k].totals.bytes);
    std::string text = render(listings[k]);
    size_t lines = 0;
    for (const Json& block : all[k]["blocks"])
      for (const Json& line : block["lines"]) {
        ++lines;
        EXPECT_NE(text.find(line["text"].get<std::string>()), std::string::npos);
        EXPECT_NE(text.find(line["bytes"].get<std::string>()), std::string::npos);
      }
    EXPECT_EQ(lines, listings[k].totals.instructions);
  }

  Notes notes;
  std::vector<StepRecord> steps;
  ASSERT_TRUE(
      run_pipeline(*module, level_named("-O1")->pipeline(), {.notes = &notes, .steps = &steps}).empty());
  Json noted = read_json(render_json(notes));
  ASSERT_EQ(noted.size(), notes.size());
  std::string text = render(notes);
  for (const Json& n : noted) {
    EXPECT_NE(text.find(n["why"].get<std::string>()), std::string::npos);
    EXPECT_FALSE(n["what"].get<std::string>().empty());
  }
  // Over each kernel, and over the module once, which changes nothing for the steps behind it.
  auto names = level_named("-O1")->pipeline().names();
  auto for_each = std::find(names.begin(), names.end(), "contracts") - names.begin();
  EXPECT_EQ(steps.size(), static_cast<size_t>(for_each) * 18 + 1);

  Diagnostics problems = testing::problems_of(testing::contents(PORPHYRY_ROOT "/demo/wrong.por"));
  Json told = read_json(render_json(problems));
  ASSERT_EQ(told.size(), 5u);  // as many as the file says of itself
  for (size_t k = 0; k < told.size(); ++k) {
    EXPECT_EQ(told[k]["line"], problems[k].line);
    EXPECT_NE(render(problems).find(told[k]["message"].get<std::string>()), std::string::npos);
  }
}

// Everything a pen offers, in one function that reads back as what was meant.
TEST(Pen, WritesWhatItIsTold) {
  Realm realm;
  Module module(realm, "pen");
  Type i32 = Type::integer(32), i64 = Type::integer(64), f64 = Type::f64();
  DataItem item{.is_const = true, .align = 4};
  item.pieces.push_back({.kind = DataPiece::Kind::Numbers, .type = i32, .numbers = {7, 8}});
  Symbol data = module.add_data("limits", item);
  Symbol outside = module.add_extern_function("pow", {{f64, f64}, {f64}});
  Symbol s = module.add_function("f", {{Type::pointer(), i64}, {f64}});
  Function& f = module.function(s);
  Pen pen(module, f);
  Block a = f.add_block(realm.name("a")), b = f.add_block(realm.name("b")), c = f.add_block(realm.name("c"));
  Value joined = f.add_parameter(c, i32, realm.name("joined"));
  module.sources.push_back({1, "hand.fml"});
  pen.at_end(a).from(module.add_position({.source = 1, .line = 3, .column = 9}));
  Value p = f.parameters()[0], i = f.parameters()[1];
  Value x = pen.load(i32, p, i, 4, -8);
  Value q = pen.at(pen.address_of(data), {}, 1, 4);
  Value slot = pen.reserve(8, 8);
  pen.store(pen.real(f64, 2.5), slot);
  Value e = pen.write(Op::Eq, {q, pen.null()});
  pen.when(e, b, {}, c, {pen.integer(i32, -1)});
  Value yes = pen.truth(true);
  pen.from({}).at_end(b).go(c, {pen.pick(yes, x, pen.mul(x, pen.sub(x, x)))});
  pen.at_end(c);
  Value r = pen.call(outside, {pen.load(f64, slot), pen.convert(Op::ToFloatS, f64, joined)})[0];
  pen.return_values({r});
  EXPECT_TRUE(verify(module).empty()) << render(verify(module));
  EXPECT_EQ(write_text(module), R"(module pen
layout little
source 1 "hand.fml"

data limits const align 4 holds i32: 7, 8
extern func pow(f64, f64) -> f64

func f(v0: ptr, v1: i64) -> f64 {
a:
  v3 = load i32 [v0 + v1*4 - 8]    @1:3:9
  v4 = address of limits           @1:3:9
  v5 = at [v4 + 4]                 @1:3:9
  v6 = reserve 8 align 8           @1:3:9
  store 2.5:f64, [v6]              @1:3:9
  v9 = eq v5, null                 @1:3:9
  when v9 go b else c(-1)          @1:3:9

b:
  v12 = sub v3, v3
  v13 = mul v3, v12
  v14 = pick true, v3, v13
  go c(v14)

c(joined: i32):
  v15 = load f64 [v6]
  v16 = to_float.s f64 joined
  v17 = call pow(v15, v16)
  return v17
}
)");
}

// The drawing program finds every block and every edge.
TEST(Graph, ShowsEveryBlockAndEdge) {
  testing::TemporaryFolder folder;
  for (uint64_t seed = 300; seed < 306; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    const Function& f = program.module->function(program.main);
    std::string file = folder.write("g.dot", render_graph(*program.module, program.main));
    auto drawn = testing::run_command("dot -Tplain " + file + " 2>&1");
    ASSERT_EQ(drawn.status, 0) << drawn.out;
    size_t blocks = 0, edges = 0, nodes_drawn = 0, edges_drawn = 0;
    for (Block b : f.blocks()) {
      ++blocks;
      if (Instruction end = f.terminator(b); end.exists()) edges += f.edge_count(end);
    }
    std::istringstream lines(drawn.out);
    for (std::string line; std::getline(lines, line);) {
      nodes_drawn += line.starts_with("node ");
      edges_drawn += line.starts_with("edge ");
    }
    EXPECT_EQ(nodes_drawn, blocks) << "seed " << seed;
    EXPECT_EQ(edges_drawn, edges) << "seed " << seed;
  }
}

// More values alive at once, over a call, than there are registers: some are moved, and the listing says
// where to.
TEST(Listing, TellsWhereValuesLivedAndWhyTheyMoved) {
  Realm realm;
  std::string text = "module m\nextern func ring(i64) -> i64\nfunc watch(t: ptr, n: i64) -> i64 {\nenter:\n";
  for (int k = 0; k < 24; ++k) text += fmt::format("  post{0} = load i64 [t + {1}]\n", k, 8 * k);
  text += "  r = call ring(n)\n  go sum(0, r)\nsum(i: i64, s0: i64):\n";
  for (int k = 0; k < 24; ++k)
    text += fmt::format("  x{0} = xor s{0}, i\n  s{1} = add x{0}, post{0}\n", k, k + 1);
  text +=
      "  i2 = add i, 1\n  more = lt.s i2, n\n  when more go sum(i2, s24) else out\nout:\n  return s24\n}\n";
  auto module = testing::must_read(realm, text);
  const machine::Target& target = *native_target();
  auto lowered = machine::lower(*module, target, {.check_allocation = true, .explain = true});
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  auto listing = machine::make_listing(*lowered, lowered->functions[0], target);
  std::map<uint32_t, std::string> text_at;
  for (const auto& b : listing.blocks)
    for (const auto& line : b.lines) text_at[line.offset] = line.text;
  size_t moved = 0, reasons = 0;
  for (const auto& life : listing.lives) {
    reasons += life.reasons.size();
    uint32_t last = 0;
    for (const auto& stay : life.stays) {
      EXPECT_LE(last, stay.from) << life.value;  // in order; a slot's stay may enclose a register's
      EXPECT_LE(stay.from, stay.to) << life.value;
      last = stay.from;
      bool slot = stay.where.starts_with("[");
      moved += slot;
      if (slot) {  // the very instruction that puts it there or takes it
        EXPECT_NE(text_at[stay.from].find(stay.where.substr(1, stay.where.size() - 2)), std::string::npos)
            << life.value << " at " << stay.from << ": " << text_at[stay.from];
      }
    }
  }
  EXPECT_GE(moved, 8u);
  EXPECT_GE(reasons, 8u);
  std::string drawn = render(listing);
  EXPECT_NE(drawn.find("  lives     post"), std::string::npos);
  EXPECT_GT(render(listing, false, true).size(), drawn.size());
}

}  // namespace
}  // namespace porphyry
