// Views show what there is: each block once, loops and regions nested as they are, calls as many as stand
// there.
#include <gtest/gtest.h>

#include "porphyry/analyze/loops.h"
#include "porphyry/analyze/regions.h"
#include "porphyry/ask/views.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/drawing.h"
#include "porphyry/sample/sample.h"
#include "support/json.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

size_t depth_of(const Drawing& d, size_t box) {
  size_t out = 0;
  for (; box != Drawing::none; box = d.boxes[box].inside) ++out;
  return out;
}

TEST(Views, HoldEachBlockOnceAndBoxesNestAsLoopsDo) {
  size_t nested = 0;
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed}).module);
    for (Symbol s : module->functions()) {
      const Function& f = module->function(s);
      const Dominators dominators(f);
      const Loops loops(f, dominators);
      const Regions regions(f);
      for (const char* name : {"loops", "regions", "dominators", "control"}) {
        const Drawing d = view_named(name)->draw(*module, s, {});
        ASSERT_EQ(d.nodes.size(), dominators.order().size()) << name;
        for (size_t k = 0; k < d.nodes.size(); ++k) {
          const Block b = dominators.order()[k];
          EXPECT_EQ(d.nodes[k].name, block_text(*module, f, b));
          size_t depth = name == std::string("loops") ? loops.depth(b) : 0;
          if (name == std::string("regions"))
            for (Region r = regions.of(b); r.exists(); r = regions.parent(r)) ++depth;
          EXPECT_EQ(depth_of(d, d.nodes[k].inside), depth) << name;
          nested += depth > 1;
        }
        for (const Drawing::Edge& e : d.edges) EXPECT_TRUE(e.from < d.nodes.size() && e.to < d.nodes.size());
        EXPECT_TRUE(name != std::string("dominators") || d.edges.size() + 1 == d.nodes.size());
      }
    }
  }
  EXPECT_GT(nested, 100u);
}

TEST(Views, CallsAreAsManyAsStandThere) {
  for (uint64_t seed = 1; seed <= 20; ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .functions = 5}).module);
    Notes notes;
    run_pipeline(*module, *read_pipeline("inline"), {.notes = &notes});
    size_t calls = 0, inlined = 0, drawn_calls = 0, drawn_inlined = 0;
    for (Symbol s : module->functions())
      for (Block b : module->function(s).blocks())
        for (Instruction i : module->function(s).instructions(b))
          calls += info(module->function(s).op(i)).layout == Layout::Call;
    for (const Note& n : notes) inlined += n.kind == Note::Kind::Done && n.what.starts_with("the call of");
    for (const Drawing::Edge& e : view_named("calls")->draw(*module, {}, notes).edges) {
      const size_t comma = e.label.find(", ");
      const bool has_calls = e.label.find("call") != e.label.npos,
                 has_inlined = e.label.find("inlined") != e.label.npos;
      if (has_calls) drawn_calls += std::stoul(e.label);
      if (has_inlined) drawn_inlined += std::stoul(has_calls ? e.label.substr(comma + 2) : e.label);
      EXPECT_EQ(e.faint, !has_calls);
    }
    EXPECT_EQ(drawn_calls, calls) << seed;
    EXPECT_EQ(drawn_inlined, inlined) << seed;
  }
}

// The program's kinds, the accesses at them, and each pair with an answer.
TEST(Views, KindsNameTheirAccesses) {
  Realm realm;
  auto module = testing::must_read(realm, testing::contents(PORPHYRY_ROOT "/tests/data/language.por"));
  const Drawing d = view_named("kinds")->draw(*module, {}, {});
  EXPECT_EQ(d.nodes.size(), module->kinds.kind_count());
  EXPECT_EQ(d.boxes.size(), module->kinds.tree_count());
  size_t accesses = 0;
  for (const auto& n : d.nodes) accesses += n.lines.size();
  EXPECT_GT(accesses, 3u);
  ASSERT_GT(d.table.size(), 5u);
  for (size_t k = 1; k < d.table.size(); ++k) {
    EXPECT_TRUE(d.table[k][2] == "never" || d.table[k][2] == "maybe" || d.table[k][2] == "the same bytes");
    EXPECT_FALSE(d.table[k][3].empty());
  }
}

TEST(Views, EveryFormIsDrawn) {
  testing::TemporaryFolder folder;
  const std::string tool = PORPHYRY_TOOL " show " PORPHYRY_ROOT "/demo/ledger.por ";
  for (const View& v : all_views()) {
    const std::string call =
        tool + "--view " + std::string(v.name) + (v.of_module ? "" : " --function shade");
    EXPECT_EQ(testing::run_command(call + " -o " + folder.file("v.svg") + " 2>&1").out, "") << v.name;
    EXPECT_NE(testing::contents(folder.file("v.svg")).find("<svg"), std::string::npos) << v.name;
    EXPECT_EQ(testing::run_command(call + " --as png > " + folder.file("v.png")).status, 0);
    EXPECT_EQ(testing::contents(folder.file("v.png")).substr(1, 3), "PNG") << v.name;
    EXPECT_TRUE(testing::read_json(testing::run_command(call + " --as json").out).contains("nodes"))
        << v.name;
    EXPECT_NE(testing::run_command(call).out.find(v.of_module ? "ledger" : "shade"), std::string::npos);
  }
  EXPECT_EQ(
      testing::run_command(tool + "--view blocks --function shade --as svg > " + folder.file("b.svg")).status,
      0);
  EXPECT_NE(testing::run_command(tool + "--slice r --function shade --as dot").out.find("digraph"),
            std::string::npos);
  EXPECT_EQ(testing::run_command(tool + "--slice nothing --function shade 2>&1").status, 2);
  EXPECT_EQ(testing::run_command(tool + "--view trees 2>&1").status, 2);
  EXPECT_EQ(testing::run_command(tool + "--view loops 2>&1").status, 2);
  EXPECT_EQ(testing::run_command(tool + "--forward 2>&1").status, 2);
}

}  // namespace
}  // namespace porphyry
