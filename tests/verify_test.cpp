// What is wrong with modules that programs build: every mistake is named, alone and in the midst of others,
// and a module with one is neither believed nor crashed on by whoever reads it from a file.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <functional>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/sample.h"

namespace porphyry {
namespace {

using types::i32, types::i64, types::f32;
const Type lanes = i32.with_lanes(4), mask = Type::boolean().with_lanes(4);

// A right function, and room for one mistake in it.
struct Ground {
  Realm realm;
  Module module{realm};
  Symbol data = module.add_data(
      "numbers", {.pieces = {{.kind = DataPiece::Kind::Numbers, .type = i32, .numbers = {1, 2}}}});
  Symbol outside = module.add_extern_function("outside", {{i32}, {i32}});
  Symbol symbol = module.add_function("f", {{i32, Type::pointer(), lanes, mask, f32}, {i32}});
  Function& f = module.function(symbol);
  Pen pen{module, f};
  Block entry = f.add_block(realm.name("enter")), other = f.add_block(realm.name("other"));
  Value i = f.parameters()[0], p = f.parameters()[1], v = f.parameters()[2], m = f.parameters()[3],
        x = f.parameters()[4];

  Ground() { pen.at_end(entry); }
  void finish() {
    if (!f.terminator(entry).exists()) pen.at_end(entry).go(other);
    if (!f.terminator(other).exists()) pen.at_end(other).return_values({i});
  }
  Instruction put(Op op, std::vector<Value> operands, std::vector<Type> results = {}, uint32_t detail = 0) {
    return pen.put({.op = op, .operands = operands, .results = results, .detail = detail});
  }
  uint32_t masked() { return f.add_address({.masked = true}); }
};

struct Mistake {
  const char* message;
  std::function<void(Ground&)> make;
};

const Mistake mistakes[] = {
    // structure
    {"the first block has parameters", [](Ground& g) { g.f.add_parameter(g.entry, i32); }},
    {"something goes to the first block", [](Ground& g) { g.pen.at_end(g.other).go(g.entry); }},
    {"the block goes on behind its end",
     [](Ground& g) {
       g.pen.go(g.other);
       g.put(Op::Add, {g.i, g.i}, {i32});
       g.pen.go(g.other);
     }},
    {"the block does not end", [](Ground& g) { g.f.add_block(g.realm.name("open")); }},
    {"two blocks are called 'enter'",
     [](Ground& g) { g.pen.at_end(g.f.add_block(g.realm.name("enter"))).return_values({g.i}); }},
    {"two values are called 'twin'",
     [](Ground& g) {
       g.f.set_name(g.pen.add(g.i, g.i), g.realm.name("twin"));
       g.f.set_name(g.pen.add(g.i, g.i), g.realm.name("twin"));
     }},
    {"'other' is given 1 arguments", [](Ground& g) { g.pen.go(g.other, {g.i}); }},
    {"is not defined on every way",
     [](Ground& g) {
       Value late = g.pen.at_end(g.other).add(g.i, g.i);
       g.pen.at_end(g.entry).add(late, late);
     }},
    // what is not there
    {"an operand is missing",
     [](Ground& g) {
       g.put(Op::Add, {g.i, Value()}, {i32});
     }},
    {"names nothing that is there", [](Ground& g) { g.put(Op::Call, {g.i}, {i32}, 77); }},
    {"names nothing that is there", [](Ground& g) { g.put(Op::AddressOf, {}, {Type::pointer()}, 77); }},
    {"names nothing that can be called", [](Ground& g) { g.put(Op::Call, {g.i}, {i32}, g.data.index); }},
    {"a kind that is not there",
     [](Ground& g) { g.put(Op::Load, {g.p}, {i32}, g.f.add_address({.kind = KindPath(5)})); }},
    // operands
    {"the operands of 'add' differ",
     [](Ground& g) {
       g.put(Op::Add, {g.i, g.x}, {i32});
     }},
    {"'add' gives f32 here",
     [](Ground& g) {
       g.put(Op::Add, {g.i, g.i}, {f32});
     }},
    {"'add' has 2 results",
     [](Ground& g) {
       g.put(Op::Add, {g.i, g.i}, {i32, i32});
     }},
    {"'add' has no result here",
     [](Ground& g) {
       g.put(Op::Add, {g.i, g.i});
     }},
    {"'sqrt'", [](Ground& g) { g.put(Op::Sqrt, {g.i}, {i32}); }},
    {"'add.carry'",
     [](Ground& g) {
       g.put(Op::AddCarry, {g.i, g.i, g.x}, {i32, Type::boolean()});
     }},
    {"'pick'",
     [](Ground& g) {
       g.put(Op::Pick, {g.i, g.i, g.i}, {i32});
     }},
    {"'widen.s'", [](Ground& g) { g.put(Op::WidenS, {g.i}, {Type::integer(8)}); }},
    {"a pointer has 32 bits here",
     [](Ground& g) {
       Value narrow = g.f.constant(Type::pointer(32), 0);
       g.put(Op::Eq, {narrow, narrow}, {Type::boolean()});
     }},
    // lanes
    {"'splat' cannot make i32[4] from f32", [](Ground& g) { g.put(Op::Splat, {g.x}, {lanes}); }},
    {"'lane'",
     [](Ground& g) {
       g.put(Op::Lane, {g.v, g.x}, {i32});
     }},
    {"'put'",
     [](Ground& g) {
       g.put(Op::Put, {g.v, g.i, g.x}, {lanes});
     }},
    {"there is no lane 9 in both operands",
     [](Ground& g) {
       uint16_t order[] = {0, 9, 1, 2};
       g.put(Op::Shuffle, {g.v, g.v}, {lanes}, g.f.add_shuffle(order));
     }},
    {"'shuffle' gives f32[4] here",
     [](Ground& g) {
       uint16_t order[] = {0, 1, 2, 3};
       g.put(Op::Shuffle, {g.v, g.v}, {f32.with_lanes(4)}, g.f.add_shuffle(order));
     }},
    {"only lanes can be masked",
     [](Ground& g) {
       g.put(Op::Store, {g.i, g.p, g.m}, {}, g.masked());
     }},
    {"a bool for each lane",
     [](Ground& g) {
       g.put(Op::Store, {g.v, g.p, g.v}, {}, g.masked());
     }},
    {"what inactive lanes have",
     [](Ground& g) {
       g.put(Op::Load, {g.p, g.m, g.f.constant(f32.with_lanes(4), 0)}, {lanes}, g.masked());
     }},
    {"cannot be masked",
     [](Ground& g) {
       g.put(Op::Store, {g.m, g.p, g.m}, {}, g.masked());
     }},
    // memory, calls, words
    {"the scale is 0",
     [](Ground& g) {
       g.put(Op::At, {g.p, g.p}, {Type::pointer()}, g.f.add_address({.scale = 0, .indexed = true}));
     }},
    {"the alignment is 8192",
     [](Ground& g) { g.put(Op::Load, {g.p}, {i32}, g.f.add_address({.align = 8192})); }},
    {"the object has 4294967296 bytes", [](Ground& g) { g.pen.reserve(uint64_t(1) << 32, 8); }},
    {"a value is i1, which is no type", [](Ground& g) { g.put(Op::Narrow, {g.i}, {Type::integer(1)}); }},
    {"a value is of no type", [](Ground& g) { g.put(Op::Narrow, {g.i}, {Type::integer(300)}); }},
    {"'load' lacks what belongs to it",
     [](Ground& g) { g.put(Op::Load, {g.p}, {i32}, Function::no_detail); }},
    {"'shuffle' lacks what belongs to it",
     [](Ground& g) {
       g.put(Op::Shuffle, {g.v, g.v}, {lanes}, 9);
     }},
    {"'reserve' lacks what belongs to it", [](Ground& g) { g.put(Op::Reserve, {}, {Type::pointer()}, 9); }},
    {"'numbers' is the name of two items", [](Ground& g) { g.module.add_extern_data("numbers"); }},
    {"'odd' is aligned to 12", [](Ground& g) { g.module.add_data("odd", {.align = 12}); }},
    {"'wide' takes a value i1, which is no type",
     [](Ground& g) {
       g.module.add_extern_function("wide", {{Type::integer(1)}, {}});
     }},
    {"a comment is 'no dashes'",
     [](Ground& g) {
       g.module.comments.push_back({Module::Comment::Above::End, 0, "no dashes"});
     }},
    {"the alignment is 3", [](Ground& g) { g.put(Op::Load, {g.p}, {i32}, g.f.add_address({.align = 3})); }},
    {"a store is never early",
     [](Ground& g) {
       g.put(Op::Store, {g.i, g.p}, {}, g.f.add_address({.early = true}));
     }},
    {"memory is filled byte by byte",
     [](Ground& g) {
       g.put(Op::Fill, {g.i, g.p, g.f.constant(i64, 4)}, {}, g.f.add_address({}));
     }},
    {"this passes (f32)", [](Ground& g) { g.put(Op::Call, {g.x}, {i32}, g.outside.index); }},
    {"the call's results are not those", [](Ground& g) { g.put(Op::Call, {g.i}, {f32}, g.outside.index); }},
    {"this returns (f32)", [](Ground& g) { g.pen.at_end(g.other).return_values({g.x}); }},
    {"calls through something that is no pointer", [](Ground& g) { g.put(Op::CallThrough, {g.i}, {i32}); }},
    {"'return call' has results of its own",
     [](Ground& g) {
       g.pen.at_end(g.other).put({.op = Op::ReturnCallThrough, .operands = {&g.p, 1}, .results = {&i32, 1}});
     }},
    {"this ends what no 'sole' began", [](Ground& g) { g.put(Op::End, {g.p}); }},
    {"'add' cannot promise lossless",
     [](Ground& g) {
       Value two[] = {g.i, g.i};
       g.pen.put({.op = Op::Add, .operands = two, .results = {&i32, 1}, .promises = promise::lossless});
     }},
    {"permit reorder means nothing here",
     [](Ground& g) {
       Value two[] = {g.i, g.i};
       g.pen.put({.op = Op::Add, .operands = two, .results = {&i32, 1}, .permits = permit::reorder});
     }},
    // symbols
    {"is both local and weak",
     [](Ground& g) { g.module[g.symbol].is_local = g.module[g.symbol].is_weak = true; }},
    {"holds numbers without a type that fits them",
     [](Ground& g) {
       g.module[g.data].data.pieces[0].type = Type::integer(128);
       g.module[g.data].data.pieces[0].numbers = {1};
     }},
    {"holds the address of nothing",
     [](Ground& g) {
       g.module[g.data].data.pieces.push_back({.kind = DataPiece::Kind::Addresses, .symbols = {Symbol(99)}});
     }},
    {"marks parameter 1 as sole", [](Ground& g) { g.module[g.symbol].facts.set_marks(0, mark::sole); }},
    {"allocates but gives no pointer",
     [](Ground& g) { g.module[g.outside].facts.outside = outside::allocates; }},
    {"frees but takes no pointer", [](Ground& g) { g.module[g.outside].facts.outside = outside::frees; }},
};

TEST(Verify, EachMistakeOfABuiltModuleIsNamed) {
  Ground right;
  right.finish();
  ASSERT_TRUE(verify(right.module).empty()) << render(verify(right.module));
  for (const Mistake& mistake : mistakes) {
    Ground g;
    mistake.make(g);
    g.finish();
    Diagnostics found = verify(g.module);
    std::string all = render(found);
    EXPECT_NE(all.find(mistake.message), std::string::npos) << mistake.message << "\n" << all;
    EXPECT_LE(found.size(), 3u) << all;
    for (const Diagnostic& d : found) {
      EXPECT_FALSE(d.message.empty() || d.expected.empty()) << mistake.message;
      EXPECT_FALSE(d.excerpt.empty()) << mistake.message << "\n" << all;
    }
  }
}

// Two at a time: neither hides the other unless it leaves nothing to look at.
TEST(Verify, MistakesDoNotHideOneAnother) {
  std::mt19937_64 random(8);
  size_t both = 0, pairs = 0;
  for (int round = 0; round < 400; ++round) {
    const Mistake &one = mistakes[random() % std::size(mistakes)],
                  &two = mistakes[random() % std::size(mistakes)];
    Ground g;
    one.make(g);
    if (g.f.terminator(g.entry).exists() || g.f.terminator(g.other).exists()) continue;
    two.make(g);
    g.finish();
    std::string all = render(verify(g.module));
    bool first = all.find(one.message) != all.npos, second = all.find(two.message) != all.npos;
    EXPECT_TRUE(first || second) << one.message << " and " << two.message << "\n" << all;
    both += first && second, ++pairs;
  }
  EXPECT_GT(pairs, 200u);
  EXPECT_GT(both * 10, pairs * 8) << both << " of " << pairs;
}

// A file does not have to come from a writer that was right. What cannot be written is left out.
TEST(Verify, FilesWithWrongModulesAreRefused) {
  size_t refused = 0;
  for (const Mistake& mistake : mistakes) {
    std::string what = mistake.message;
    if (what.find("missing") != what.npos || what.find("not there") != what.npos ||
        what.find("that is there") != what.npos || what.find("of nothing") != what.npos ||
        what.find("does not end") != what.npos || what.find("alignment is") != what.npos ||
        what.find("lacks what") != what.npos || what.find("aligned to 12") != what.npos ||
        what.find("of no type") != what.npos)
      continue;  // there is no way to write them
    Ground g;
    mistake.make(g);
    g.finish();
    Realm realm;
    auto read = load_packed(realm, "wrong.porb", write_packed(g.module));
    EXPECT_FALSE(read.good()) << what;
    if (!read.good() && !read.why().empty()) ++refused;
  }
  EXPECT_GT(refused, 35u);
}

// What a pen cannot write is told at once, in every build.
TEST(Verify, PensRefuseWhatTheyCannotWrite) {
  auto refuses = [](auto write, const char* what) {
    Ground g;
    EXPECT_THROW(write(g), std::invalid_argument) << what;
    g.pen.at_end(g.entry);
    g.finish();
    EXPECT_TRUE(verify(g.module).empty()) << what << "\n"
                                          << render(verify(g.module));  // nothing half written
  };
  refuses([](Ground& g) { Pen(g.module, g.f).add(g.i, g.i); }, "a pen without a place");
  refuses([](Ground& g) { g.pen.add(g.i, Value()); }, "an empty value");
  refuses([](Ground& g) { g.pen.add(g.i, Value(999)); }, "a value of another function");
  refuses([](Ground& g) { g.pen.at(Value()); }, "an empty pointer");
  refuses([](Ground& g) { g.pen.real(i32, 1.5); }, "a float of an integer's type");
  refuses([](Ground& g) { g.pen.go(Block()); }, "an empty block");
  refuses([](Ground& g) { g.pen.call(g.data, {g.i}); }, "a call of data");
  EXPECT_FALSE(Type::integer(300).exists());
  EXPECT_FALSE(Type::integer(0).exists());
  EXPECT_FALSE(i32.with_lanes(70000).exists());
}

// Anything that is accepted can be written and read again, in both forms: modules are changed at random
// through the interface that programs have, mostly to something wrong.
TEST(Verify, WhatIsAcceptedCanBeWrittenAndRead) {
  std::mt19937_64 random(23);
  auto below = [&](uint64_t n) { return random() % n; };
  auto any_name = [&]() -> std::string {
    static const std::string odd[] = {"",        "true",        "nan",       "a b",  "1st",
                                      "q\"uote", "back\\slash", "new\nline", "func", "enter",
                                      "naïve",   "-",           "v12",       "b3",   std::string("z\0z", 3)};
    return odd[below(std::size(odd))];
  };
  size_t accepted = 0, refused = 0;
  for (size_t round = 0; round < 400; ++round) {
    Realm realm;
    Sample sample = make_sample(realm, {.seed = 1 + round % 40});
    Module& m = *sample.module;
    for (uint64_t k = 1 + below(3); k-- > 0;) {
      Symbol s(below(m.symbol_count()));
      switch (below(9)) {
        case 0: m[s].section = any_name(); break;
        case 1: m[s].data.align = static_cast<uint32_t>(1u << below(14)) + (below(4) == 0); break;
        case 2: m.add_extern_data(any_name()); break;
        case 3:
          m.add_data(fmt::format("d{}", k),
                     {.pieces = {{.kind = DataPiece::Kind::Numbers,
                                  .type = Type::integer(static_cast<unsigned>(below(131))),
                                  .numbers = {1, 0}}}});
          break;
        case 4:
          m.comments.push_back({static_cast<Module::Comment::Above>(below(7)),
                                static_cast<uint32_t>(below(4)), below(5) ? "-- said" : "said",
                                static_cast<uint32_t>(below(3))});
          break;
        case 5: m.sources.push_back({static_cast<uint32_t>(below(3)), any_name()}); break;
        default: {
          if (!m.is_function(s)) break;
          Function& f = m.function(s);
          if (f.instruction_limit() == 0) break;
          Instruction i(below(f.instruction_limit()));
          if (!f.alive(i)) break;
          if (below(2) && f.result_count(i)) {
            f.set_name(f.result(i), realm.name(any_name()));
          } else if (f.op(i) == Op::Load || f.op(i) == Op::Store || f.op(i) == Op::At) {
            Address a = f.address(i);
            if (below(2))
              a.align = static_cast<uint32_t>(1u << below(16)) - (below(3) == 0);
            else if (a.indexed)
              a.scale = static_cast<int64_t>(random() >> below(64));
            else
              a.offset = static_cast<int64_t>(random());
            f.set_address(i, a);
          } else if (f.edges(i).size() > 0) {
            f.set_weight(f.edge(i, 0), random() >> below(64));
          }
        }
      }
    }
    if (!verify(m).empty()) {
      ++refused;
      continue;
    }
    ++accepted;
    std::string text = write_text(m);
    Realm again, packed, both;
    auto read = load_text(again, SourceText("again.por", text));
    ASSERT_TRUE(read.good()) << "round " << round << "\n" << render(read.why());
    EXPECT_TRUE(write_text(**read) == text) << "round " << round << "\n" << text;
    auto unpacked = load_packed(packed, "again.porb", write_packed(m));
    ASSERT_TRUE(unpacked.good()) << "round " << round << "\n" << render(unpacked.why());
    // What has no name is numbered anew when it is packed; a text's numbers are in order already.
    auto twice = load_packed(both, "again.porb", write_packed(**read));
    EXPECT_TRUE(twice.good() && write_text(**twice) == text) << "round " << round << "\n" << text;
  }
  EXPECT_GT(accepted, 100u);
  EXPECT_GT(refused, 25u);
}

}  // namespace
}  // namespace porphyry
