// Analyses of control flow against their definitions, on small graphs of any shape, and against runs that
// really happened.
#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "porphyry/analyze/frequency.h"
#include "porphyry/analyze/liveness.h"
#include "porphyry/analyze/post_dominators.h"
#include "porphyry/analyze/regions.h"
#include "porphyry/ir/pen.h"
#include "porphyry/sample/sample.h"

namespace porphyry {
namespace {

// Any graph of blocks, irreducible ones too; nothing goes to the entry.
class AnyGraph {
 public:
  explicit AnyGraph(std::mt19937_64& random)
      : module_(realm_), f_(module_.function(module_.add_function("f", {}))) {
    Pen pen(module_, f_);
    size_t n = 2 + random() % 11;
    for (size_t k = 0; k < n; ++k) blocks.push_back(f_.add_block());
    for (Block b : blocks) {
      pen.at_end(b);
      Block x = blocks[1 + random() % (n - 1)], y = blocks[1 + random() % (n - 1)];
      switch (random() % 4) {
        case 0: pen.return_values({}); break;
        case 1: pen.go(x); break;
        default: pen.when(pen.truth(true), x, {}, y, {});
      }
    }
  }
  const Function& f() const { return f_; }
  std::vector<Block> blocks;

  // What can be reached from `from` without passing `avoiding`, both ways along edges.
  std::set<Block> reached(Block from, Block avoiding, bool backwards) const {
    std::set<Block> seen;
    std::vector<Block> work{from};
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      if (b == avoiding || !seen.insert(b).second) continue;
      if (backwards)
        for (Edge e : f_.edges_into(b)) work.push_back(f_.from(e));
      else
        for (Edge e : f_.edges(b)) work.push_back(f_.to(e));
    }
    return seen;
  }

 private:
  Realm realm_;
  Module module_;
  Function& f_;
};

TEST(Dominators, AreWhatTheDefinitionSays) {
  std::mt19937_64 random(5);
  for (int round = 0; round < 500; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    Dominators dominators(f);
    std::set<Block> reachable = graph.reached(f.entry(), Block(), false);
    for (Block a : graph.blocks) {
      std::set<Block> without = graph.reached(f.entry(), a, false);
      EXPECT_EQ(dominators.reachable(a), reachable.contains(a));
      for (Block b : graph.blocks)
        if (reachable.contains(a) && reachable.contains(b)) {
          EXPECT_EQ(dominators.dominates(a, b), a == b || !without.contains(b));
        }
    }
  }
}

TEST(PostDominators, AreWhatTheDefinitionSays) {
  std::mt19937_64 random(6);
  size_t endless = 0;
  for (int round = 0; round < 500; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    PostDominators post(f);
    EXPECT_TRUE(post == PostDominators(f));
    ControlDependence control(f, post);
    auto reaches = [&](Block from, Block avoiding) {
      for (Block b : graph.reached(from, avoiding, false))
        if (f.edges(b).size() == 0) return true;
      return false;
    };
    for (Block a : graph.blocks) {
      EXPECT_EQ(post.reaches_end(a), reaches(a, Block()));
      endless += !post.reaches_end(a);
      for (Block b : graph.blocks) {
        bool meant = a == b || (reaches(b, Block()) && !reaches(b, a));
        EXPECT_EQ(post.post_dominates(a, b), meant);
        if (b == a || !post.post_dominates(a, b)) continue;
        // The nearest one is post-dominated by all others.
        EXPECT_TRUE(post.post_dominates(a, post.immediate(b)));
      }
      // A block hangs on an edge when it is always reached from its target and not always from its source.
      std::set<uint32_t> edges;
      for (Edge e : control.of(a)) edges.insert(e.index);
      for (Block b : graph.blocks)
        for (Edge e : f.edges(b)) {
          if (f.edges(b).size() < 2 || !post.reaches_end(f.to(e)) || !post.reaches_end(b)) continue;
          bool hangs = post.post_dominates(a, f.to(e)) && (a == b || !post.post_dominates(a, b));
          EXPECT_EQ(edges.contains(e.index), hangs);
        }
    }
  }
  EXPECT_GT(endless, 100u);
}

// Pairs of edges for which each condition of the definition holds, by taking edges away.
TEST(Regions, AreWhatTheDefinitionSays) {
  std::mt19937_64 random(7);
  size_t found = 0, nested = 0;
  for (int round = 0; round < 3000; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    std::set<Block> reachable = graph.reached(f.entry(), Block(), false);
    std::vector<Edge> edges;
    for (Block b : reachable)
      for (Edge e : f.edges(b)) edges.push_back(e);
    auto reached = [&](Block from, Edge without) {
      std::set<Block> seen;
      std::vector<Block> work{from};
      while (!work.empty()) {
        Block b = work.back();
        work.pop_back();
        if (!seen.insert(b).second) continue;
        for (Edge e : f.edges(b))
          if (e != without) work.push_back(f.to(e));
      }
      return seen;
    };
    auto ends = [&](const std::set<Block>& blocks) {
      return std::any_of(blocks.begin(), blocks.end(), [&](Block b) { return f.edges(b).size() == 0; });
    };
    // What counts as an end of endless loops is not part of the definition.
    bool endless = false;
    for (Block b : reachable) endless |= !ends(reached(b, {}));
    Regions regions(f);
    if (endless) continue;
    auto dominates = [&](Edge a, Edge b) { return !reached(f.entry(), a).contains(f.from(b)); };
    auto post_dominates = [&](Edge b, Edge a) { return !ends(reached(f.to(a), b)); };
    auto goes_around = [&](Edge e, Edge without) { return reached(f.to(e), without).contains(f.from(e)); };
    auto bound = [&](Edge a, Edge b) {
      return a != b && dominates(a, b) && post_dominates(b, a) && !goes_around(a, b) && !goes_around(b, a);
    };
    std::set<std::pair<uint32_t, uint32_t>> meant, listed;
    for (Edge a : edges)
      for (Edge b : edges) {
        bool nearest = bound(a, b);
        for (Edge c : edges) nearest = nearest && !(bound(a, c) && bound(c, b));
        if (nearest) meant.insert({a.index, b.index});
      }
    for (size_t k = 0; k < regions.count(); ++k)
      listed.insert({regions.entry(Region(k)).index, regions.exit(Region(k)).index});
    ASSERT_EQ(listed, meant);
    // A block is in those whose entry leads to it before the exit.
    for (Block b : reachable) {
      size_t around = 0;
      for (auto [a, z] : meant) around += reached(f.to(Edge(a)), Edge(z)).contains(b);
      for (Region r = regions.of(b); r.exists(); r = regions.parent(r)) --around;
      ASSERT_EQ(around, 0u);
    }
    found += meant.size();
    for (size_t k = 0; k < regions.count(); ++k) nested += regions.parent(Region(k)).exists();
  }
  EXPECT_GT(found, 1000u);
  EXPECT_GT(nested, 100u);
}

TEST(Liveness, IsWhatWaysToUsesSay) {
  size_t live = 0;
  for (uint64_t seed = 1; seed <= 60; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    for (Symbol s : program.module->functions()) {
      const Function& f = program.module->function(s);
      Liveness liveness(f);
      for (size_t k = 0; k < f.value_limit(); ++k) {
        Value v(k);
        if (f.is_constant(v)) continue;
        // Along edges, by hand: live where used, or where it is live behind, up to its definition.
        std::vector<uint8_t> wanted(f.block_limit());
        Block home = f.defining_block(v);
        for (bool changed = true; changed;) {
          changed = false;
          for (Block b : f.blocks()) {
            bool now = false;
            for (Slot u : f.uses(v)) now |= f.block(f.use(u).user) == b;
            for (Edge e : f.edges(b)) now |= wanted[f.to(e).index] != 0;
            now &= b != home;
            if (now && !wanted[b.index]) wanted[b.index] = changed = true;
          }
        }
        for (Block b : f.blocks()) {
          ASSERT_EQ(liveness.is_live_at_start(b, v), wanted[b.index] != 0) << seed;
          live += wanted[b.index];
        }
      }
    }
  }
  EXPECT_GT(live, 1000u);
}

TEST(Loops, AreTheNaturalOnes) {
  std::mt19937_64 random(11);
  size_t nested = 0;
  for (int round = 0; round < 2000; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    Dominators dominators(f);
    Loops loops(f, dominators);
    // A loop: its head, and what comes to the source of an edge back to it without passing it.
    std::map<Block, std::set<Block>> bodies;
    for (Block b : dominators.order())
      for (Edge e : f.edges(b))
        if (Block head = f.to(e); dominators.dominates(head, b)) {
          std::set<Block> body = graph.reached(b, head, true);
          bodies[head].insert(body.begin(), body.end());
          bodies[head].insert(head);
        }
    for (Block b : dominators.order()) {
      unsigned depth = 0;
      Block innermost;
      for (const auto& [head, body] : bodies) {
        if (!body.contains(b)) continue;
        ++depth;
        if (!innermost.exists() || body.size() < bodies[innermost].size()) innermost = head;
      }
      EXPECT_EQ(loops.depth(b), depth);
      EXPECT_EQ(loops.header(b), innermost);
      EXPECT_EQ(loops.is_header(b), bodies.contains(b));
      if (!bodies.contains(b)) continue;
      Block around;
      for (const auto& [head, body] : bodies)
        if (head != b && body.contains(b) && (!around.exists() || body.size() < bodies[around].size()))
          around = head;
      EXPECT_EQ(loops.outer(b), around);
      nested += around.exists();
    }
  }
  EXPECT_GT(nested, 100u);
}

TEST(Dominators, FrontiersAreWhereDominanceEnds) {
  std::mt19937_64 random(12);
  for (int round = 0; round < 1000; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    Dominators dominators(f);
    auto frontiers = dominators.frontiers(f);
    for (Block a : dominators.order()) {
      std::set<Block> should;
      for (Block b : dominators.order()) {
        bool before = false;  // whether `a` dominates what comes before b
        for (Edge e : f.edges_into(b)) before |= dominators.dominates(a, f.from(e));
        if (before && !(a != b && dominators.dominates(a, b))) should.insert(b);
      }
      EXPECT_EQ(std::set<Block>(frontiers[a.index].begin(), frontiers[a.index].end()), should);
      EXPECT_EQ(frontiers[a.index].size(), should.size());
    }
  }
}

TEST(Orders, EachBlockStandsBehindItsDominators) {
  std::mt19937_64 random(13);
  for (int round = 0; round < 1000; ++round) {
    AnyGraph graph(random);
    const Function& f = graph.f();
    Dominators dominators(f);
    Blocks order = reverse_postorder(f), readable = readable_order(f);
    std::set<Block> reachable = graph.reached(f.entry(), Block(), false);
    EXPECT_EQ(std::set<Block>(order.begin(), order.end()), reachable);
    EXPECT_EQ(order.size(), reachable.size());
    EXPECT_EQ(std::set<Block>(readable.begin(), readable.end()).size(),
              graph.blocks.size());  // all, also the lost
    auto place = [&](Block b) { return std::find(order.begin(), order.end(), b) - order.begin(); };
    for (Block b : order) {
      if (b == f.entry()) continue;
      EXPECT_LT(place(dominators.immediate(b)), place(b));
      EXPECT_TRUE(dominators.dominates(dominators.immediate(b), b));
    }
  }
}

// Structured code with the chances of its branches, so that it can be walked.
class Walk {
 public:
  explicit Walk(uint64_t seed)
      : random_(seed),
        module_(realm_),
        f_(module_.function(module_.add_function("f", {}))),
        pen_(module_, f_) {
    Block at = f_.add_block();
    for (int k = 0; k < 3; ++k) at = part(at, 3);
    pen_.at_end(at).return_values({});
  }
  // So many runs; every edge learns how often it was taken.
  std::vector<uint64_t> run(int runs) {
    std::vector<uint64_t> blocks(f_.block_limit()), edges(1024);
    for (int k = 0; k < runs; ++k)
      for (Block b = f_.entry(); b.exists();) {
        ++blocks[b.index];
        Instruction end = f_.terminator(b);
        if (f_.edge_count(end) == 0) break;
        size_t way = f_.edge_count(end) == 2 && random_() % 100 >= chances_[b] ? 1 : 0;
        Edge e = f_.edge(end, way);
        ++edges[e.index];
        b = f_.to(e);
      }
    for (Block b : f_blocks())
      for (Edge e : f_.edges(b)) f_.set_weight(e, edges[e.index]);
    return blocks;
  }
  const Function& f() const { return f_; }

 private:
  std::vector<Block> f_blocks() const {
    std::vector<Block> out;
    for (Block b : f_.blocks()) out.push_back(b);
    return out;
  }
  // Code behind `at`, which has no end yet; gives the block where it goes on.
  Block part(Block at, int depth) {
    unsigned kind = depth == 0 ? 0 : static_cast<unsigned>(random_() % 4);
    if (kind == 0) return at;
    if (kind == 3) return part(part(at, depth - 1), depth - 1);
    Block inner = f_.add_block();
    if (kind == 1) {  // a branch around, or two ways
      Block other = f_.add_block(), after = f_.add_block();
      branch(at, inner, other);
      pen_.at_end(part(inner, depth - 1)).go(after);
      pen_.at_end(part(other, depth - 1)).go(after);
      return after;
    }
    Block after = f_.add_block();  // a loop that is left at its end, or at its head
    pen_.at_end(at).go(inner);
    if (random_() % 2) {
      branch(part(inner, depth - 1), inner, after);
    } else {
      Block body = f_.add_block();
      branch(inner, body, after);
      pen_.at_end(part(body, depth - 1)).go(inner);
    }
    return after;
  }
  void branch(Block at, Block yes, Block no) {
    chances_[at] = 20 + random_() % 70;
    pen_.at_end(at).when(pen_.truth(true), yes, {}, no, {});
  }

  std::mt19937_64 random_;
  Realm realm_;
  Module module_;
  Function& f_;
  Pen pen_;
  std::map<Block, uint64_t> chances_;
};

TEST(Frequencies, AreThoseOfTheRunsThatWereCounted) {
  size_t looked_at = 0;
  for (uint64_t seed = 0; seed < 60; ++seed) {
    Walk walk(seed);
    constexpr int runs = 400;
    std::vector<uint64_t> counts = walk.run(runs);
    const Function& f = walk.f();
    Dominators dominators(f);
    Loops loops(f, dominators);
    Frequencies frequencies(f, dominators, loops);
    for (Block b : dominators.order()) {
      double should = static_cast<double>(counts[b.index]) / runs;
      if (counts[b.index] < 20) continue;  // what was never taken still counts a little
      EXPECT_NEAR(frequencies.of(b) / should, 1, 0.02) << "block " << b.index << " of walk " << seed;
      ++looked_at;
    }
  }
  EXPECT_GT(looked_at, 500u);
}

TEST(Frequencies, GuessesPreferLoopsAndShunTraps) {
  Realm realm;
  Module module(realm);
  Function& f = module.function(module.add_function("f", {}));
  Pen pen(module, f);
  Block entry = f.add_block(), loop = f.add_block(), bad = f.add_block(), end = f.add_block();
  pen.at_end(entry).go(loop);
  Block body = f.add_block();
  pen.at_end(loop).when(pen.truth(true), bad, {}, body, {});
  pen.at_end(body).when(pen.truth(true), loop, {}, end, {});
  pen.at_end(bad).trap();
  pen.at_end(end).return_values({});
  Dominators dominators(f);
  Loops loops(f, dominators);
  Frequencies frequencies(f, dominators, loops);
  EXPECT_GT(frequencies.of(loop), 4 * frequencies.of(entry));
  EXPECT_LT(frequencies.of(bad), frequencies.of(end));
  EXPECT_TRUE(frequencies.unlikely(bad));
  EXPECT_FALSE(frequencies.unlikely(end) || frequencies.unlikely(body));
}

}  // namespace
}  // namespace porphyry
