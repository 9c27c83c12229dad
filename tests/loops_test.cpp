// Passes over loops: that random loops mean the same after them, what they made of loops whose best form is
// known, and what they said.
#include <fmt/args.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/optimize/pipeline.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

std::unique_ptr<Module> after(Realm& realm, const std::string& pipeline, const std::string& text,
                              Notes* notes = nullptr) {
  auto module = testing::must_read(realm, text);
  Diagnostics broken =
      run_pipeline(*module, *read_pipeline(pipeline), {.notes = notes, .check_between = true});
  EXPECT_TRUE(broken.empty()) << text << render(broken);
  return module;
}

// A loop that counts in one of the usual ways, or nearly, and in each round makes sums, accesses memory,
// branches, leaves, or goes through an inner loop. Names end in the loop's letter.
class LoopMaker {
 public:
  explicit LoopMaker(uint64_t seed) : random_(seed) {}

  std::string text() {
    type_ = any({"i8", "i16", "i32", "i32", "i64", "i64"});
    std::string results = any({"sa, wa, ia", "sa, wa, ia", "sa, wa, m", "ya, za, xa", "ya, za, xa"});
    bool last = results[0] == 'y';  // of the last round, which only a loop that is tested last always has
    std::string loops = loop("a", last);
    if (!last && chance(3)) {  // another one behind it
      loops += fmt::format("  go hc({}, sa, wa)\n", start()) + loop("c", false);
      results = "sc, wc, ic";
    }
    return fmt::format(
        "module m\nlayout little\nfunc f(n: {0}, m: {0}, p: ptr, q: ptr, d: ptr sole) -> {0}, i64, {0} "
        "{{\nenter:\n  go "
        "ha({1}, m, 0)\n{2}  return {3}\n}}\n",
        type_, start(), loops, results);
  }

 private:
  uint32_t below(uint32_t n) { return static_cast<uint32_t>(random_() % n); }
  bool chance(uint32_t n) { return below(n) == 0; }
  std::string any(std::initializer_list<const char*> list) {
    return list.begin()[below(static_cast<uint32_t>(list.size()))];
  }
  std::string start() { return any({"0", "0", "0", "1", "5", "m", "n", "-3"}); }

  std::string loop(const std::string& l, bool last) {
    std::string step = any({"1", "1", "1", "2", "3", "4", "7", "-1", "-1", "-2"});
    std::string relation = step[0] == '-' ? any({"gt.s", "ge.s", "gt.u", "ge.u", "ne", "lt.u"})
                                          : any({"lt.s", "lt.s", "lt.u", "le.s", "le.u", "ne", "gt.s", "eq"});
    std::string limit = any({"n", "n", "m", "12", "3", "20", "0", "100"});
    std::string promise = any({"", "", " promise fits.s", " promise fits.u"});
    std::string head = fmt::format("h{0}(i{0}: {1}, s{0}: {1}, w{0}: i64):\n", l, type_);
    std::string next = fmt::format("  x{0} = add i{0}, {1}{2}\n", l, step, promise);
    if (chance(8))
      next = fmt::format("  less{0} = sub i{0}, 1\n  x{0} = and i{0}, less{0}\n", l), relation = "ne",
      limit = "0";
    if (chance(12))
      next = fmt::format("  x{0} = {1} i{0}, 1\n", l, any({"shr.u", "shl"})), relation = "ne", limit = "0";
    std::string test =
        fmt::format("  c{0} = {1} {2}{0}, {3}\n", l, relation, last && chance(2) ? "x" : "i", limit);
    std::string stay = fmt::format("h{0}(x{0}, y{0}, z{0})", l);
    if (last)
      return head + round(l) + next + test + fmt::format("  when c{0} go {1} else e{0}\ne{0}:\n", l, stay);
    return head + test +
           fmt::format("  when c{0} go b{0} else e{0}\nb{0}:\n{1}{2}  go {3}\ne{0}:\n", l, round(l), next,
                       stay);
  }

  // From i, s and w: y and z, of the types of s and w.
  std::string round(const std::string& l) {
    std::string size = type_ == "i8" ? "1" : type_ == "i16" ? "2" : type_ == "i32" ? "4" : "8";
    // From i itself, or from what stays within few elements.
    std::string index = chance(2) ? fmt::format("  k{0} = {1} i{0}, 15\n", l, any({"and", "add"}))
                                  : fmt::format("  k{0} = add i{0}, 0\n", l);
    index += type_ == "i64"
                 ? fmt::format("  j{0} = add k{0}, 0\n", l)
                 : fmt::format("  j{0} = widen.{1} i64 {2}{0}\n", l, any({"s", "u"}), any({"i", "i", "k"}));
    std::string load = fmt::format("  v{0} = load {1} [p + j{0}*{2}]\n", l, type_, size);
    std::string store = fmt::format("  store v{0}, [{1} + j{0}*{2}{3}]\n", l, any({"q", "d", "d", "p"}), size,
                                    any({"", "", " + 8", " - 8", " + 16"}));
    std::string t;
    switch (below(10)) {
      case 0: t += fmt::format("  v{0} = mul i{0}, i{0}\n", l); break;
      case 1: t += fmt::format("  v{0} = mul i{0}, {1}\n", l, any({"m", "m", "24", "-7"})); break;
      case 2: t += fmt::format("  v{0} = xor s{0}, m\n", l); break;
      case 3: t += index + load; break;
      case 4:
      case 8: t += index + load + store; break;
      case 5:
      case 9:
        t += index + fmt::format("  v{0} = {1}\n", l, any({"sub m, 1", "and m, 0", "or n, -1"})) + store;
        if (size_t at = t.find("store v" + l); at != t.npos && chance(2))
          t.replace(at, 7 + l.size(), "store " + any({"0:", "-1:", "7:"}) + type_);
        break;
      case 6: t += fmt::format("  o{0} = lt.s n, m\n  v{0} = pick o{0}, i{0}, m\n", l); break;
      default: t += fmt::format("  v{0} = shl i{0}, 3\n", l); break;
    }
    t += fmt::format("  r{0} = {1} s{0}, v{0}\n", l, any({"add", "add", "add", "sub", "xor"}));
    t += type_ == "i64" ? fmt::format("  g{0} = add i{0}, 1\n", l)
                        : fmt::format("  g{0} = {1} i64 i{0}\n", l, any({"widen.s", "widen.u"}));
    t += fmt::format("  d{0} = add w{0}, g{0}\n", l);
    if (chance(5))
      t += fmt::format(
          "  q{0} = eq r{0}, 77\n  when q{0} go out{0} else on{0}\nout{0}:\n  return r{0}, d{0}, "
          "i{0}\non{0}:\n",
          l);
    std::string sum = "r" + l, wide = "d" + l;
    if (chance(3)) {
      // On what stays the same, or on where the loop is.
      std::string on =
          chance(2) ? "lt.s n, m"
                    : fmt::format("{} i{}, {}", any({"lt.s", "lt.u", "ge.s"}), l, any({"m", "3", "n"}));
      t += fmt::format(
          "  l{0} = {1}\n  when l{0} go t{0} else u{0}(r{0})\nt{0}:\n  a{0} = add r{0}, 5\n  go "
          "u{0}(a{0})\nu{0}(f{0}: {2}):\n",
          l, on, type_);
      sum = "f" + l;
    }
    if (l == "a" && chance(3)) {
      // Its sum goes on, or begins anew and is added behind it.
      const bool anew = chance(2);
      t += fmt::format("  go hb({}, {}, {})\n{}", start(), anew ? any({"0", "0", "1"}) : sum, wide,
                       loop("b", false));
      if (anew) t += fmt::format("  n{0} = {1} sb, {2}\n", l, any({"add", "add", "sub"}), sum);
      sum = anew ? "n" + l : "sb", wide = "wb";
    }
    return t + fmt::format("  y{0} = add {1}, 0\n  z{0} = add {2}, 0\n", l, sum, wide);
  }

  std::mt19937_64 random_;
  std::string type_;
};

struct Effect {
  Outcome outcome;
  std::vector<uint8_t> memory;
};
Effect effect(const Module& module, uint64_t n, uint64_t m, uint64_t steps) {
  Evaluator evaluator(module, {.step_limit = steps});
  Effect out;
  for (unsigned k = 0; k < 2000; ++k) out.memory.push_back(static_cast<uint8_t>(k * 37 + 11));
  std::span<uint8_t> all(out.memory);
  Datum p = evaluator.attach(all.first(1300), "bytes"), q = p,
        d = evaluator.attach(all.subspan(1300), "others");
  p.bits += 200, q.bits += 224, d.bits += 32;
  Type t = module.signature(module.find("f"))->parameters[0];
  uint64_t mask = static_cast<uint64_t>(mask_of(t.bits()));
  Datum given[] = {{n & mask, 0}, {m & mask, 0}, p, q, d};
  out.outcome = evaluator.call(module.find("f"), given);
  return out;
}

const char* const over_loops[] = {"test-last", "bulk", "outcome", "unroll",      "unroll-by",
                                  "unswitch",  "step", "hoist",   "split-rounds"};

TEST(LoopPasses, MeanTheSameOnAnyLoop) {
  const std::pair<uint64_t, uint64_t> usual[] = {
      {0, 0}, {1, 2}, {2, 1}, {5, 3}, {7, 100}, {12, 12}, {100, 7}, {~uint64_t(0), 1}, {uint64_t(-7), 4}};
  size_t changed[std::size(over_loops)] = {}, results = 0;
  for (uint64_t seed = 0; seed < testing::part_of(2000); ++seed) {
    std::string text = LoopMaker(seed).text();
    Realm realm;
    auto plain = testing::must_read(realm, text);
    // And what is next to wrapping.
    std::vector<std::pair<uint64_t, uint64_t>> inputs(usual, std::end(usual));
    const uint64_t least = uint64_t(1) << (plain->signature(plain->find("f"))->parameters[0].bits() - 1);
    inputs.insert(inputs.end(), {{least, least - 1}, {least - 1, least}, {5, least - 1}, {least - 1, 5}});
    std::vector<Effect> meant;
    for (auto [n, m] : inputs) meant.push_back(effect(*plain, n, m, 3000));
    std::vector<std::string> pipelines(over_loops, std::end(over_loops));
    pipelines.push_back(
        "test-last; tidy; outcome; fold; unroll; tidy; outcome; unroll-by; hoist; split-rounds; unswitch; "
        "step; sweep; "
        "number; sweep; "
        "tidy");
    pipelines.push_back(
        "tidy; bulk; outcome; test-last; tidy; unroll; unroll-by; unswitch; fold; split-rounds; tidy; "
        "test-last; split-rounds; step; "
        "outcome; sweep; tidy");
    for (size_t k = 0; k < pipelines.size(); ++k) {
      auto module = after(realm, pipelines[k], text);
      if (k < std::size(over_loops)) changed[k] += write_text(*module) != write_text(*plain);
      for (size_t in = 0; in < inputs.size(); ++in) {
        // What was not done within a limit may not end at all.
        if (meant[in].outcome.end != Outcome::End::Result) continue;
        Effect is = effect(*module, inputs[in].first, inputs[in].second, 30000);
        ++results;
        ASSERT_EQ(is.outcome.end, Outcome::End::Result)
            << pipelines[k] << "\n"
            << inputs[in].first << " " << inputs[in].second << "\n"
            << text << write_text(*module) << is.outcome.message;
        for (size_t r = 0; r < 3; ++r)
          ASSERT_EQ(is.outcome.results[r].bits, meant[in].outcome.results[r].bits)
              << pipelines[k] << ", result " << r << " of " << inputs[in].first << ", " << inputs[in].second
              << "\n"
              << text << write_text(*module);
        ASSERT_EQ(is.memory, meant[in].memory) << pipelines[k] << "\n" << text << write_text(*module);
      }
    }
  }
  for (size_t k = 0; k < std::size(over_loops); ++k)
    EXPECT_GT(changed[k], testing::part_of(over_loops[k] == std::string("bulk") ? 15 : 100)) << over_loops[k];
  EXPECT_GT(results, testing::part_of(40000));
}

// From one element to another one some way off, upwards and downwards, by index and by pointers, tested first
// and last: a copy exactly where what is read lies ahead.
TEST(BulkPass, CopiesWhereWhatIsReadLiesAhead) {
  for (std::string type : {"i8", "i32", "f64"})
    for (bool down : {false, true})
      for (bool pointers : {false, true})
        for (bool last : {false, true})
          for (int apart = -3; apart <= 3; ++apart) {
            int size = type == "i8" ? 1 : type == "i32" ? 4 : 8, by = down ? -size : size;
            std::string from = pointers ? "[a]" : fmt::format("[p + i*{}]", size);
            std::string to = fmt::format(fmt::runtime(pointers ? "[a {1} {2}]" : "[p + i*{0} {1} {2}]"), size,
                                         apart < 0 ? "-" : "+", std::abs(apart) * size);
            std::string round = fmt::format(
                "  v = load {} {}\n  store v, {}\n  i2 = add i, {}\n  a2 = at [a {} {}]\n  k2 = add k, 1\n",
                type, from, to, down ? -1 : 1, down ? "-" : "+", size);
            std::string test = fmt::format("  c = lt.s {}, n\n", last ? "k2" : "k");
            std::string text = fmt::format(
                "module m\nlayout little\nfunc f(n: i64, m: i64, p: ptr, q: ptr, d: ptr sole) -> i64, i64, "
                "i64 {{\n"
                "enter:\n  go h(0, p, 0)\nh(i: i64, a: ptr, k: i64):\n{}\n}}\n",
                last ? round + test + "  when c go h(i2, a2, k2) else e\ne:\n  return 0, 0, 0"
                     : test + "  when c go b else e\nb:\n" + round +
                           "  go h(i2, a2, k2)\ne:\n  return 0, 0, 0");
            Realm realm;
            auto plain = testing::must_read(realm, text), module = after(realm, "bulk; outcome; sweep", text),
                 stepped = after(realm, "step; sweep", text);
            bool copies = write_text(*module).find("copy [") != std::string::npos;
            EXPECT_EQ(copies, by > 0 ? apart <= 0 : apart >= 0) << text << write_text(*module);
            for (uint64_t n : {0, 1, 2, 3, 9}) {
              Effect meant = effect(*plain, n, 0, 3000), is = effect(*module, n, 0, 3000);
              ASSERT_EQ(is.outcome.end, meant.outcome.end)
                  << text << write_text(*module) << is.outcome.message;
              Effect also = effect(*stepped, n, 0, 3000);
              ASSERT_EQ(also.memory, meant.memory) << n << "\n" << text << write_text(*stepped);
              ASSERT_EQ(is.memory, meant.memory) << n << "\n" << text << write_text(*module);
            }
          }
}

// A buffer that grows by copying, filled by a function that is called for each element, then summed: with
// room for so many from the start, written as a front end would.
std::string buffer_program(unsigned pushes, unsigned room) {
  std::string text = R"(module m
layout little
extern func take(i64) -> ptr returns, allocates
extern func give(ptr) returns, frees

local func grow(buffer: ptr) {
enter:
  old   = load ptr [buffer]
  count = load i64 [buffer + 8]
  room  = load i64 [buffer + 16]
  twice = shl room, 1
  more  = max.s twice, 4
  bytes = shl more, 3
  new   = call take(bytes)
  used  = shl count, 3
  copy [new], [old], used
  call give(old)
  store new, [buffer]
  store more, [buffer + 16]
  return
}
local func push(buffer: ptr, v: i64) {
enter:
  count = load i64 [buffer + 8]
  room  = load i64 [buffer + 16]
  full  = eq count, room
  when full go slow else put
slow:
  call grow(buffer)
  go put
put:
  data = load ptr [buffer]
  store v, [data + count*8]
  next = add count, 1
  store next, [buffer + 8]
  return
}
local func total(buffer: ptr) -> i64 {
enter:
  data  = load ptr [buffer]
  count = load i64 [buffer + 8]
  go look(0, 0)
look(k: i64, sum: i64):
  more = lt.s k, count
  when more go one else done
one:
  v    = load i64 [data + k*8]
  sum2 = add sum, v
  k2   = add k, 1
  go look(k2, sum2)
done:
  return sum
}
func night() -> i64 {
enter:
  buffer = reserve 24 align 8
)";
  text += room ? fmt::format("  first = call take({})\n  store first, [buffer]\n", 8 * room)
               : "  store null:ptr, [buffer]\n";
  text += fmt::format("  store 0:i64, [buffer + 8]\n  store {}:i64, [buffer + 16]\n", room);
  for (unsigned k = 0; k < pushes; ++k) text += fmt::format("  call push(buffer, {})\n", k * k + 3);
  return text +
         "  sum = call total(buffer)\n  data = load ptr [buffer]\n  call give(data)\n  return sum\n}\n";
}

TEST(FramePass, BuffersThatNobodySeesBecomeTheirSum) {
  for (unsigned pushes : {1, 3, 4, 8, 32})
    for (unsigned room : {0, 2, 32}) {
      Realm realm;
      Notes notes;
      auto module =
          after(realm, std::string(level_named("-O2")->passes), buffer_program(pushes, room), &notes);
      unsigned sum = 0;
      for (unsigned k = 0; k < pushes; ++k) sum += k * k + 3;
      std::string text = write_text(*module);
      EXPECT_NE(text.find(fmt::format("func night() -> i64 {{\nenter:\n  return {}\n}}", sum)), text.npos)
          << pushes << " " << room << "\n"
          << text;
      for (const Note& n : notes) EXPECT_NE(n.pass, "until stable") << n.why;
    }
}

TEST(FramePass, LeavesWhatOthersSee) {
  const char* const bodies[] = {"  store p, [q]\n", "  call give(q)\n  call show(p)\n",
                                "  v = load i32 [p + k*4]\n  store v, [q]\n"};
  for (const char* body : bodies) {
    Realm realm;
    Notes notes;
    std::string text = write_text(*after(realm, "frame",
                                         fmt::format(R"(module m
layout little
extern func take(i64) -> ptr returns, allocates
extern func give(ptr) returns, frees
extern func show(ptr)
func f(q: ptr, k: i64) {{
a:
  p = call take(64)
{}  call give(p)
  return
}}
)",
                                                     body),
                                         &notes));
    EXPECT_NE(text.find("call take(64)"), text.npos) << text;
    ASSERT_EQ(notes.size(), 1u);
    EXPECT_FALSE(notes[0].why.empty());
  }
}

// Two blocks that lead to each other, and are both come to from outside, are a loop that has no head.
const char* const ring = R"(
one(k: i32):
  a = eq k, 7
  when a go two(k) else left
two(m: i32):
  b = eq m, 9
  when b go one(m) else left
)";

// A loop tested at its end, whose counter wraps before that asks for the first time: its branch turns twice.
TEST(LoopPasses, CountersThatWrapInTheFirstRoundKeepTheirBranch) {
  const char* form = R"(module m
func f(n: i8, k: i8, s: i8) -> i32 {{
enter:
  go loop({}, 0)
loop(i: i8, sum: i32):
  low = lt.s i, k
  when low go small else great
small:
  a = add sum, 1
  go next(a)
great:
  b = add sum, 100
  go next(b)
next(c: i32):
  i2 = add i, 1
  more = lt.s i2, n
  when more go loop(i2, c) else out
out:
  return c
}}
)";
  for (const char* start : {"s", "127:i8", "126:i8", "-128:i8"}) {
    const std::string text =
        fmt::format(fmt::runtime(form), std::string_view(start).substr(0, std::string_view(start).find(':')));
    Realm realm;
    auto plain = testing::must_read(realm, text), module = after(realm, "split-rounds", text);
    const bool may_split = start[0] == '-' || std::string_view(start).starts_with("126");
    EXPECT_EQ(write_text(*module) != write_text(*plain), may_split) << start;
    for (uint64_t first : {127u, 128u, 0u, 5u})
      for (uint64_t k : {0u, 5u, 127u, 129u, 250u}) {
        const Datum data[] = {{132}, {k}, {first}};
        Evaluator was(*plain), is(*module);
        ASSERT_EQ(was.call(Symbol(0), data).results.at(0).bits, is.call(Symbol(0), data).results.at(0).bits)
            << start << ", " << first << ", " << k << write_text(*module);
      }
  }
}

TEST(LoopPasses, LeaveLoopsWithoutAHead) {
  // The outer loop counts, but its rounds are not known to end.
  std::string counts = std::string(R"(module m
layout little
func f(n: i32, c: bool) {
enter:
  go look(0)
look(i: i32):
  more = lt.s i, 5
  when more go body else out
body:
  when c go one(n) else two(n)
)") + ring + R"(left:
  i2 = add i, 1
  go look(i2)
out:
  return
}
)";
  for (const char* pass : {"outcome", "unroll", "bulk", "unroll-by", "unswitch", "split-rounds"}) {
    Realm realm;
    EXPECT_EQ(write_text(*after(realm, pass, counts)), write_text(*testing::must_read(realm, counts)))
        << pass;
  }
  // What is asked for again and again is not one object.
  std::string asks = std::string(R"(module m
layout little
extern func take(i64) -> ptr returns, allocates
extern func give(ptr) returns, frees
func f(n: i32, c: bool) {
enter:
  when c go one(n) else two(n)
)") + ring + R"(left:
  return
}
)";
  asks.replace(asks.find("  a = eq"), 0, "  p = call take(8)\n  store k, [p]\n  call give(p)\n");
  Realm realm;
  Notes notes;
  EXPECT_NE(write_text(*after(realm, "frame", asks, &notes)).find("call take(8)"), std::string::npos);
  ASSERT_EQ(notes.size(), 1u);
  EXPECT_EQ(notes[0].why, "a loop comes to it");
}

// The sums of three loops in each other are one, which begins as the outermost one does; where anything looks
// at an inner one, it does not begin at 0, or is taken away, all stay.
TEST(StepPass, SumsOfANestAreOne) {
  const std::string nest = R"(module m
func f(n: i32, p: ptr) -> i32 {
enter:
  go outer(0, 0)
outer(i: i32, s: i32):
  go middle(0, 0)
middle(j: i32, t: i32):
  go inner(0, 0)
inner(k: i32, u: i32):
  v = mul k, j
  u2 = add u, v
  k2 = add k, 1
  more = lt.s k2, n
  when more go inner(k2, u2) else behind(u2)
behind(w: i32):
  t2 = add w, t
  j2 = add j, 1
  more2 = lt.s j2, n
  when more2 go middle(j2, t2) else last(t2)
last(x: i32):
  s2 = add s, x
  i2 = add i, 1
  more3 = lt.s i2, n
  when more3 go outer(i2, s2) else out
out:
  return s2
}
)";
  auto sums = [&](const std::string& from, const std::string& to) {
    std::string text = nest;
    if (!from.empty()) text.replace(text.find(from), from.size(), to);
    Realm realm;
    auto plain = testing::must_read(realm, text), module = after(realm, "step; sweep", text);
    for (uint64_t n : {1u, 2u, 5u}) {
      std::vector<uint8_t> memory(8);
      uint64_t results[2];
      for (const auto& m : {&plain, &module}) {
        Evaluator evaluator(**m);
        Datum given[] = {{n, 0}, evaluator.attach(memory, "memory")};
        results[m == &module] = evaluator.call((*m)->find("f"), given).results[0].bits;
      }
      EXPECT_EQ(results[0], results[1]) << text;
    }
    size_t out = 0;
    std::string is = write_text(*module);
    for (const char* add : {"= add u, v", "= add w, t", "= add s, x", "= sub s, x"})
      out += is.find(add) != is.npos;
    return out;
  };
  EXPECT_EQ(sums("", ""), 1u);
  EXPECT_EQ(sums("inner(0, 0)", "inner(0, 1)"), 2u);
  EXPECT_EQ(sums("  k2 = add", "  store u, [p]\n  k2 = add"), 2u);
  EXPECT_EQ(sums("s2 = add s, x", "s2 = sub s, x"), 2u);
  EXPECT_EQ(sums("v = mul k, j", "v = mul u, j"), 2u);
}

// A product with a number moves on by an addition where it takes more than one instruction, in each round,
// and no other loop keeps the register waiting.
TEST(StepPass, ProductsWithNumbersMoveOnWhereThatPays) {
  const std::string loop = R"(module m
layout little
func f(n: i64, m: i64, p: ptr, q: ptr, d: ptr sole) -> i64 {
enter:
  go outer(0, 0)
outer(j: i64, t: i64):
  w = mul j, 1000
  go inner(0, w)
inner(i: i64, s: i64):
  big = gt.s s, 100
  when big go rare else often
rare:
  u = mul i, 1001
  s4 = sub s, u
  go often2(s4)
often:
  go often2(s)
often2(s3: i64):
  v = mul i, {BY}
  s2 = add s3, v
  i2 = add i, 1
  more = lt.s i2, n
  when more go inner(i2, s2) else next
next:
  t2 = add t, s2
  j2 = add j, 1
  again = lt.s j2, n
  when again go outer(j2, t2) else out
out:
  return t2
}
)";
  for (int by : {-12, -7, 2, 3, 4, 5, 6, 7, 8, 9, 10, 24, 64, 100}) {
    std::string text = loop;
    text.replace(text.find("{BY}"), 4, std::to_string(by));
    Realm realm;
    auto plain = testing::must_read(realm, text), module = after(realm, "step; sweep", text);
    const std::string is = write_text(*module);
    const bool one = by == 2 || by == 3 || by == 4 || by == 5 || by == 8 || by == 9 || by == 64;
    EXPECT_EQ(is.find(fmt::format("mul i, {}\n", by)) != is.npos, one) << is;
    EXPECT_NE(is.find("mul j, 1000\n"), is.npos) << is;
    EXPECT_NE(is.find("mul i, 1001\n"), is.npos) << is;
    for (uint64_t n : {0, 1, 2, 7})
      EXPECT_EQ(effect(*module, n, 0, 3000).outcome.results[0].bits,
                effect(*plain, n, 0, 3000).outcome.results[0].bits);
  }
}

// Lanes that count apart, and a pointer whose step has no opposite, by a counter that goes down.
TEST(StepPass, TakesForAlikeOnlyWhatIs) {
  Realm realm;
  const std::string text = R"(module m
layout little
func f(n: i64, p: ptr) -> i32[4], i32[4], ptr {
enter:
  go look(0, {1, 2, 3, 4}, {1, 2, 3, 5}, p)
look(i: i64, a: i32[4], b: i32[4], q: ptr):
  a2 = add a, {1, 1, 1, 1}
  b2 = add b, {1, 1, 1, 2}
  v = load i8 [q]
  q2 = at [q - 9223372036854775808]
  i2 = add i, -1
  more = gt.s i2, n
  when more go look(i2, a2, b2, q2) else out
out:
  return a, b, q
}
)";
  EXPECT_EQ(write_text(*after(realm, "step", text)), write_text(*testing::must_read(realm, text)));
}

}  // namespace
}  // namespace porphyry
