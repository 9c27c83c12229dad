// Compile time: text to object by stage, against the host compiler on the same program in C, in one run;
// growth in the number and size of functions; memory.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/resource.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <thread>

#include "common.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/base/scratch.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/machine/allocate.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/select.h"
#include "porphyry/object/object.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/targets/targets.h"

namespace porphyry::bench {

std::string generated_text(size_t count, size_t loops) {
  std::string out = "module generated\n";
  for (size_t k = 0; k < count; ++k) {
    out += fmt::format("\nfunc work{}(n: i32, seed: i32) -> i32 {{\nenter:\n  go loop0(0, seed)\n", k);
    for (size_t l = 0; l < loops; ++l)
      out += fmt::format(R"(
loop{0}(i{0}: i32, x{0}: i32):
  a{0} = mul x{0}, {1}
  b{0} = add a{0}, i{0}
  c{0} = rem.u b{0}, {2}
  d{0} = shl c{0}, {3}
  e{0} = shr.u b{0}, 5
  f{0} = xor d{0}, e{0}
  odd{0} = and f{0}, 1
  is_odd{0} = ne odd{0}, 0
  when is_odd{0} go up{0} else next{0}(f{0})

up{0}:
  g{0} = add f{0}, {1}
  go next{0}(g{0})

next{0}(y{0}: i32):
  j{0} = add i{0}, 1
  more{0} = lt.s j{0}, n
  when more{0} go loop{0}(j{0}, y{0}) else {4}
)",
                         l, 2 * k + 3, k + 17, k % 7 + 1,
                         l + 1 == loops ? std::string("out") : fmt::format("loop{0}(0, y{1})", l + 1, l));
    out += fmt::format("\nout:\n  return y{}\n}}\n", loops - 1);
  }
  return out;
}

namespace {

std::string generated_c(size_t count) {
  std::string out = "#include <stdint.h>\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "int32_t work{0}(int32_t n, int32_t seed) {{ uint32_t x = seed; for (int32_t i = 0;;) {{ uint32_t a "
        "= x * {1}u, b = a + i, c = b % {2}u, d = c << {3}, e = b >> 5, f = d ^ e; "
        "if (f & 1) f += {1}u; x = f; if (!(++i < n)) return x; }} }}\n",
        k, 2 * k + 3, k + 17, k % 7 + 1);
  return out;
}

size_t instructions_in(const Module& module) {
  size_t n = 0;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    for (Block b : f.blocks()) n += f.instructions(b).count();
  }
  return n;
}

// Seconds of each stage, each taking what the one before made.
struct Stages {
  double read = 0, copy = 0, legalize = 0, select = 0, allocate = 0, emit = 0, object = 0;
  double total = 0;  // text to object in one go
  size_t instructions = 0, bytes = 0;
};

Stages compile(const std::string& text) {
  Stages t;
  const machine::Target& target = *native_target();
  Realm realm;
  std::unique_ptr<Module> module, legal;
  t.read = seconds_of([&] { module = std::move(*load_text(realm, SourceText("generated", text))); });
  t.instructions = instructions_in(*module);
  t.copy = seconds_of([&] { legal = clone(*module); });
  machine::Coverage coverage(target, target.usual_features);
  t.legalize = seconds_of([&] { machine::legalize(*legal, target, coverage); });
  machine::LoweredModule lowered;
  machine::RuleIndex rules(target, target.usual_features);
  auto clock = [] { return std::chrono::steady_clock::now(); };
  auto since = [&](auto start) { return std::chrono::duration<double>(clock() - start).count(); };
  machine::LowerMemory memory;
  for (Symbol s : legal->functions()) {
    auto start = clock();
    memory.code.reset(), memory.work.reset();
    auto selected = machine::select(*legal, s, rules, &memory.code, &memory.work);
    memory.work.reset();
    t.select += since(start), start = clock();
    auto allocation =
        machine::allocate(std::move(selected->code), target, {memory.work, memory.more_work}, false);
    t.allocate += since(start), start = clock();
    machine::lay_out_frame(allocation.code, target);
    lowered.functions.push_back(machine::emit(allocation.code, target));
    lowered.functions.back().symbol = s;
    t.emit += since(start);
  }
  lowered.legal = std::move(legal);
  t.object = seconds_of([&] { t.bytes = elf_bytes(make_object(lowered, target)).size(); });
  return t;
}

double in_one_go(const std::string& text, const char* level = "-O0") {
  Realm realm;
  Pipeline passes = level_named(level)->pipeline();
  Result<std::unique_ptr<Module>> module = Diagnostics{};
  Result<machine::LoweredModule> lowered = Diagnostics{};  // giving them back does not count
  return seconds_of([&] {
    module = load_text(realm, SourceText("generated", text));
    if (!run_pipeline(**module, passes).empty()) std::exit(1);
    lowered = machine::lower(std::move(*module), *native_target(), {.exported = true, .keep_bodies = false});
    if (elf_bytes(make_object(*lowered, *native_target())).empty()) std::exit(1);
  });
}

// Keeps the least of each stage; gives the time in one go of this run.
double keep_least(Stages& best, const std::string& text) {
  Stages t = compile(text);
  t.total = in_one_go(text);
  if (best.instructions == 0) best = t;
  for (double Stages::*stage : {&Stages::read, &Stages::copy, &Stages::legalize, &Stages::select,
                                &Stages::allocate, &Stages::emit, &Stages::object, &Stages::total})
    best.*stage = std::min(best.*stage, t.*stage);
  return t.total;
}

// Loops inside of each other, each with a counter and a sum.
std::string nest_text(size_t depth) {
  std::string out = "module m\nlayout little\nfunc f(n: i32, p: ptr) -> i32 {\nenter:\n  go h0(0, 0)\n", ends;
  for (size_t k = 0; k < depth; ++k) {
    out += fmt::format(
        "h{0}(i{0}: i32, s{0}: i32):\n  c{0} = lt.s i{0}, n\n  when c{0} go b{0} else e{0}\nb{0}:\n", k);
    if (k + 1 < depth) out += fmt::format("  go h{}(0, s{})\n", k + 1, k);
    ends = (k == 0 ? std::string("e0:\n  return s0\n")
                   : fmt::format("e{0}:\n  x{1} = add i{1}, 1\n  go h{1}(x{1}, s{0})\n", k, k - 1)) +
           ends;
  }
  size_t last = depth - 1;
  out += fmt::format(
      "  v = load i32 [p]\n  t = add s{0}, v\n  store t, [p]\n  x{0} = add i{0}, 1\n  go h{0}(x{0}, t)\n",
      last);
  return out + ends + "}\n";
}

std::string loops_text(size_t count) {
  std::string out = "module m\nlayout little\nfunc f(n: i32, p: ptr) -> i32 {\nenter:\n  go h0(0, 0)\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "h{0}(i{0}: i32, s{0}: i32):\n  c{0} = lt.s i{0}, n\n  when c{0} go b{0} else e{0}\nb{0}:\n"
        "  v{0} = load i32 [p + {1}]\n  t{0} = xor s{0}, v{0}\n  x{0} = add i{0}, 1\n  go h{0}(x{0}, "
        "t{0})\ne{0}:\n  {2}\n",
        k, 4 * k, k + 1 < count ? fmt::format("go h{}(0, s{})", k + 1, k) : fmt::format("return s{}", k));
  return out + "}\n";
}

// Functions of which each calls the next one, the last one the first one of a ring.
std::string calls_text(size_t count, bool ring) {
  std::string out = "module m\nlayout little\n";
  for (size_t k = 0; k < count; ++k) {
    bool last = k + 1 == count && !ring;
    out += fmt::format("func f{}(n: i32) -> i32 {{\ne:\n", k);
    if (!last)
      out += fmt::format(
          "  m = xor n, {0}\n  c = lt.s m, 0\n  when c go a else b\na:\n  return m\nb:\n  k = sub m, 1\n"
          "  r = call f{1}(k)\n  s = add r, {0}\n  return s\n}}\n",
          k, (k + 1) % count);
    else
      out += "  return n\n}\n";
  }
  return out;
}

// So many chooses one behind the other, each of so many cases.
std::string choose_text(size_t count, size_t cases) {
  std::string out = "module m\nfunc f(x: i32) -> i32 {\nenter:\n  go choose0\n";
  for (size_t c = 0; c < count; ++c) {
    out += fmt::format("\nchoose{}:\n  choose x {{\n", c);
    for (size_t k = 0; k < cases; ++k) out += fmt::format("    {}: b{},\n", 3 * k + c, k % 100);
    out += fmt::format("    else: choose{}\n  }}\n", c + 1);
  }
  for (size_t k = 0; k < 100; ++k) out += fmt::format("\nb{}:\n  return {}\n", k, k);
  return out + fmt::format("\nchoose{}:\n  return -1\n}}\n", count);
}

// One block of loads, sums and stores.
std::string block_text(size_t instructions) {
  std::string out = "module m\nfunc f(a: i64, p: ptr) -> i64 {\ne:\n  x0 = add a, 1\n";
  size_t n = instructions / 5;
  for (size_t k = 0; k < n; ++k)
    out += fmt::format(
        "  l{0} = load i64 [p + {1}]\n  y{0} = mul x{0}, l{0}\n  z{0} = xor y{0}, {0}\n  store z{0}, [p + "
        "{1}]\n  x{2} = add "
        "z{0}, x{0}\n",
        k, k % 12 * 8, k + 1);
  return out + fmt::format("  return x{}\n}}\n", n);
}
// Branches that meet, one behind the other, three blocks each.
std::string row_text(size_t count) {
  std::string out = "module m\nfunc f(a: i64, p: ptr) -> i64 {\nb0:\n  go c0(a)\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "c{0}(x{0}: i64):\n  l{0} = load i64 [p + {2}]\n  q{0} = lt.u x{0}, l{0}\n  when q{0} go d{0} else "
        "e{0}\nd{0}:\n  y{0} "
        "= add x{0}, {0}\n  store y{0}, [p + {2}]\n  go c{1}(y{0})\ne{0}:\n  go c{1}(l{0})\n",
        k, k + 1, k % 32 * 8);
  return out + fmt::format("c{0}(x{0}: i64):\n  return x{0}\n}}\n", count);
}
// Slots whose addresses are known elsewhere.
std::string slots_text(size_t count) {
  std::string out = "module m\nextern func g(ptr)\nfunc f(a: i64) -> i64 {\ne:\n";
  for (size_t k = 0; k < count; ++k) out += fmt::format("  s{0} = reserve 8\n  store a, [s{0}]\n", k);
  for (size_t k = 0; k < count; ++k) out += fmt::format("  call g(s{0})\n", k);
  out += "  x0 = add a, 0\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format("  l{0} = load i64 [s{0}]\n  x{1} = add x{0}, l{0}\n", k, k + 1);
  return out + fmt::format("  return x{}\n}}\n", count);
}

constexpr const char* checked_module =
    "module m\nkinds k {\n  bytes grows from 65536 to 4294901760\n}\nextern func g()\n";
// Checks of one base, each of a little more than the one before.
std::string checks_text(size_t count) {
  std::string out(checked_module);
  out += "func f(m: ptr, r: ptr, p: i32) {\ne:\n  i = widen.u i64 p\n  go b0\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "b{0}:\n  s{0} = load i64 [r + 8] as k.bytes\n  e{0} = add i, {1}\n  o{0} = gt.u e{0}, s{0}\n  when "
        "o{0} "
        "rarely go t else c{0}\nc{0}:\n  store 1:i8, [m + i + {0}] guarded\n  call g()\n  go b{1}\n",
        k, k + 1);
  return out + fmt::format("b{}:\n  return\nt:\n  trap\n}}\n", count);
}
// Functions that check what they are given, and call each other with it.
std::string contracts_text(size_t count) {
  std::string out = std::string(checked_module) +
                    "func f(m: ptr, r: ptr, p: i32, n: i32) {\ne:\n  call f0(m, r, p, n)\n  return\n}\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "local func f{}(m: ptr, r: ptr, p: i32, n: i32) {{\ne:\n  z = eq n, 0\n  when z go q else b\nq:\n  "
        "return\nb:\n  i = widen.u i64 p\n  s = load i64 [r + 8] as k.bytes\n  e1 = add i, 4\n  o = gt.u e1, "
        "s\n  "
        "when o rarely go t else c\nc:\n  store n, [m + i] guarded\n  l = add n, -1\n  call f{}(m, r, p, "
        "l)\n  call "
        "f{}(m, r, p, l)\n  return\nt:\n  trap\n}}\n",
        k, (k + 1) % count, (k * 7 + 3) % count);
  return out;
}

// Each turn measures both, as machines have quick and slow minutes; the middle of the turns' ratios counts.
void growth(const char* what, const std::string& small, const std::string& large, const char* level = "-O0") {
  std::vector<double> ones, tens, times;
  for (int turn = 0; turn < 7; ++turn) {
    double one = 1e9, ten = 1e9;
    for (int k = 0; k < 4; ++k) one = std::min(one, in_one_go(small, level));
    for (int k = 0; k < 2; ++k) ten = std::min(ten, in_one_go(large, level));
    ones.push_back(one), tens.push_back(ten), times.push_back(ten / one);
  }
  Spread t = spread_of(times);
  fmt::print("  {:<50} {:>9.2f} {:>9.2f} {:>7.1f}   {:.1f} to {:.1f}\n", what, spread_of(ones).middle * 1e3,
             spread_of(tens).middle * 1e3, t.middle, t.least, t.most);
}

// A line of /proc/self/status, in bytes.
size_t status_bytes(const char* what) {
  std::ifstream status("/proc/self/status");
  for (std::string line; std::getline(status, line);)
    if (line.starts_with(what)) return std::strtoull(line.c_str() + std::strlen(what) + 1, nullptr, 10) << 10;
  return 0;
}

// The most that lowering takes at once above the module, in bytes an instruction of it.
double peak_memory(const std::string& text) {
  Realm realm;
  auto module = std::move(*load_text(realm, SourceText("generated", text)));
  malloc_trim(0);
  std::ofstream("/proc/self/clear_refs") << 5;  // the peak is counted from here
  size_t before = status_bytes("VmRSS:");
  auto instructions = static_cast<double>(instructions_in(*module));
  auto lowered =
      machine::lower(std::move(module), *native_target(), {.exported = true, .keep_bodies = false});
  if (elf_bytes(make_object(*lowered, *native_target())).empty()) std::exit(1);
  return static_cast<double>(status_bytes("VmHWM:") - before) / instructions;
}

// How much sooner two threads are done with two modules than one with both.
Spread two_threads(const std::string& text) {
  std::vector<double> times;
  for (int turn = 0; turn < 15; ++turn) {
    double one = 1e9, two = 1e9;
    for (int k = 0; k < 3; ++k) {
      one = std::min(one, seconds_of([&] { in_one_go(text), in_one_go(text); }));
      two = std::min(two, seconds_of([&] {
                       std::jthread other([&] { in_one_go(text); });
                       in_one_go(text);
                     }));
    }
    times.push_back(one / two);
  }
  return spread_of(times);
}

}  // namespace

void compile_costs(const std::string& folder) {
  constexpr size_t count = 2000;
  std::string text = generated_text(count, 1);
  Stages t;
  std::string source = folder + "/generated.c";
  (void)write_file(source, generated_c(count));
  // The least of a few runs, ours and the host's in turn: machines have quick and slow minutes.
  double host[4] = {1e9, 1e9, 1e9, 1e9};
  std::vector<double> ratios;  // of each turn: both met the same minute
  const char* const levels[] = {"-O1", "-O2", "-O3"};
  double at[3] = {1e9, 1e9, 1e9};
  for (int round = 0; round < 9; ++round) {
    double ours = 1e9;
    for (int k = 0; k < 3; ++k) ours = std::min(ours, keep_least(t, text));
    for (size_t l = 0; l < 3; ++l)
      for (int k = 0; k < 2; ++k) at[l] = std::min(at[l], in_one_go(text, levels[l]));
    for (int level = 0; level < (round == 0 ? 4 : 1); ++level) {
      double theirs = seconds_of([&] {
        auto command = fmt::format("gcc -O{} -c {} -o {}/generated.o", level, source, folder);
        if (std::system(command.c_str()) != 0) std::exit(1);
      });
      host[level] = std::min(host[level], theirs);
      if (level == 0) ratios.push_back(theirs / ours);
    }
  }
  Spread ratio = spread_of(ratios);
  auto row = [&](const std::string& what, double s) {
    fmt::print("  {:<38} {:>9.1f} {:>12.3f}\n", what, s / count * 1e6,
               s / static_cast<double>(t.instructions) * 1e6);
  };
  fmt::print(
      "\nCompile time, {} functions of {} instructions: a loop with a multiply, a remainder, shifts, a "
      "branch\n\n",
      count, t.instructions / count);
  fmt::print("  {:<38} {:>9} {:>12}\n", "", "us/func.", "us/instr.");
  row("text read and verified", t.read);
  row("copied", t.copy);
  row("legalized", t.legalize);
  row("selected", t.select);
  row("allocated", t.allocate);
  row("laid out, encoded", t.emit);
  row("object file", t.object);
  row("text to object, in one go", t.total);
  for (size_t l = 0; l < 3; ++l) row(fmt::format("text to object at {}", levels[l]), at[l]);
  for (int level = 0; level < 4; ++level)
    row(fmt::format("host compiler -O{}, C to object", level), host[level]);
  fmt::print(
      "\n  text to object is {:.1f} times as fast as the host compiler at -O0 (at least 40 is asked): the "
      "middle of {} turns, {:.1f} to {:.1f}\n",
      ratio.middle, ratios.size(), ratio.least, ratio.most);
  for (size_t l = 0; l < 3; ++l)
    fmt::print(
        "  at {} it takes {:.2f} times as long as at -O0{}, and is {:.1f} times as fast as the host compiler "
        "(at least 40)\n",
        levels[l], at[l] / t.total, l == 0 ? " (at most 3.2 is asked)" : "", host[l + 1] / at[l]);
  fmt::print("\n  {:<50} {:>9} {:>9} {:>7}   {}\n", "growth, milliseconds", "one", "ten", "times",
             "from, to");
  growth("2,000 and 20,000 functions", text, generated_text(10 * count, 1));
  growth("one function of 10,000 and 100,000 instructions", generated_text(1, 714), generated_text(1, 7143));
  growth("choose of 1,000 and 10,000 cases", choose_text(1, 1000), choose_text(1, 10000));
  growth("30 and 300 chooses of 70 cases", choose_text(30, 70), choose_text(300, 70));
  growth("-O1: 2,000 and 20,000 functions", text, generated_text(10 * count, 1), "-O1");
  growth("-O1: one block of 10,000 and 100,000 instructions", block_text(10'000), block_text(100'000), "-O1");
  growth("-O1: 1,000 and 10,000 blocks in a row", row_text(333), row_text(3'333), "-O1");
  growth("-O1: choose of 1,000 and 10,000 cases", choose_text(1, 1000), choose_text(1, 10000), "-O1");
  growth("-O1: 500 and 5,000 stores to as many slots", slots_text(500), slots_text(5'000), "-O1");
  growth("-O1: 1,000 and 10,000 checks of one base", checks_text(1'000), checks_text(10'000), "-O1");
  growth("-O1: 500 and 5,000 functions that check", contracts_text(500), contracts_text(5'000), "-O1");
  growth("-O2: nests of 30 and 300 loops", nest_text(30), nest_text(300), "-O2");
  growth("-O2: 1,000 and 10,000 loops in a row", loops_text(1'000), loops_text(10'000), "-O2");
  growth("-O2: chains of 1,000 and 10,000 calls", calls_text(1'000, false), calls_text(10'000, false), "-O2");
  growth("-O2: rings of 100 and 1,000 functions", calls_text(100, true), calls_text(1'000, true), "-O2");
  fmt::print(
      "\n  peak memory above the module: {:.0f} bytes an instruction in {} functions, {:.0f} in one of "
      "100,000\n",
      peak_memory(text), count, peak_memory(generated_text(1, 7143)));
  Spread two = two_threads(text);
  fmt::print("  two threads, a module each: {:.2f} times as fast as one ({:.2f} to {:.2f} in 15 turns)\n",
             two.middle, two.least, two.most);
}

}  // namespace porphyry::bench
