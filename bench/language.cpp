// What the language itself costs, with the growth from small modules to large ones.
#include <fmt/format.h>
#include <malloc.h>

#include <cstring>
#include <thread>

#include "common.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"

namespace porphyry::bench {
namespace {

constexpr size_t loops = 6;  // in a function

// The function of generated_text, written by calls.
void build_function(Module& module, size_t number) {
  Type i32 = Type::integer(32);
  Symbol s = module.add_function(fmt::format("work{}", number), {{i32, i32}, {i32}});
  Function& f = module.function(s);
  Pen pen(module, f);
  Value n = f.parameters()[0], last = f.parameters()[1];
  Block before = f.add_block();
  auto number_of = [&](int64_t v) { return pen.integer(i32, v); };
  Block loop = f.add_block();
  pen.at_end(before).go(loop, {number_of(0), last});
  for (size_t l = 0; l < loops; ++l) {
    Block up = f.add_block(), next = f.add_block(), out = f.add_block();
    Value i = f.add_parameter(loop, i32), x = f.add_parameter(loop, i32), y = f.add_parameter(next, i32);
    pen.at_end(loop);
    Value a = pen.mul(x, number_of(3)), b = pen.add(a, i);
    Value c = pen.write(Op::RemU, {b, number_of(1000)});
    Value d = pen.write(Op::Shl, {c, number_of(2)}), e = pen.write(Op::ShrU, {b, number_of(5)});
    Value g = pen.write(Op::Xor, {d, e}), odd = pen.write(Op::And, {g, number_of(1)});
    pen.when(pen.write(Op::Ne, {odd, number_of(0)}), up, {}, next, {g});
    pen.at_end(up);
    pen.go(next, {pen.add(g, number_of(3))});
    pen.at_end(next);
    Value j = pen.add(i, number_of(1)), more = pen.write(Op::LtS, {j, n});
    if (l + 1 < loops)
      pen.when(more, loop, {j, y}, out, {number_of(0), y});
    else
      pen.when(more, loop, {j, y}, out, {});
    loop = out, last = y;
  }
  pen.at_end(loop);
  pen.return_values({last});
}

// Bytes that the program holds from the allocator, with its overhead.
double held_bytes() {
  struct mallinfo2 m = mallinfo2();
  return static_cast<double>(m.uordblks + m.hblkhd);
}

struct Row {
  size_t instructions;
  double pen, read, verify, write, pack, unpack, copy;  // seconds
  double memory, text, packed;                          // bytes
};

struct Made {
  Realm realm;
  std::unique_ptr<Module> module;
};

Row measure(size_t functions) {
  Row row{};
  row.instructions = functions * instructions_of(loops);
  double budget = row.instructions > 200'000 ? 0.0 : 0.15;
  row.pen = least_seconds_to_make(
      [&] {
        auto made = std::make_unique<Made>();
        made->module = std::make_unique<Module>(made->realm);
        for (size_t k = 0; k < functions; ++k) build_function(*made->module, k);
        return made;
      },
      budget);
  SourceText source("generated.por", generated_text(functions, loops));
  row.text = static_cast<double>(source.text().size());
  row.read = least_seconds_to_make(
      [&] {
        auto made = std::make_unique<Made>();
        made->module = std::move(read_text(made->realm, source).module);
        return made;
      },
      budget);
  double before = held_bytes();
  Realm realm;
  auto module = load_text(realm, source);
  row.memory = held_bytes() - before;
  row.verify = least_seconds([&] { verify(**module); }, budget);
  row.write = least_seconds([&] { write_text(**module); }, budget);
  std::string packed = write_packed(**module);
  row.packed = static_cast<double>(packed.size());
  row.pack = least_seconds([&] { write_packed(**module); }, budget);
  row.unpack = least_seconds_to_make(
      [&] {
        auto made = std::make_unique<Made>();
        made->module = std::move(*read_packed(made->realm, "generated.porb", packed));
        return made;
      },
      budget);
  row.copy = least_seconds_to_make([&] { return clone(**module); }, budget);
  return row;
}

// Copying bytes as fast as this machine does, into fresh memory as a clone does.
double copy_bytes_a_second() {
  std::vector<char> from(64 << 20, 1);
  return 64e6 * 1.048576 / least_seconds_to_make([&] { return std::vector<char>(from); }, 0.3);
}

void evaluator_speed() {
  Realm realm;
  SourceText source("generated.por", generated_text(1, 1));
  auto module = load_text(realm, source);
  Evaluator e(**module, {.step_limit = ~uint64_t(0)});
  Datum arguments[] = {{1'000'000, 0}, {1, 0}};
  uint64_t steps = 0;
  double t = least_seconds([&] { steps = e.call((*module)->find("work0"), arguments).steps; }, 0.5);
  fmt::print("\nThe evaluator: {:.0f} million operations a second\n", static_cast<double>(steps) / t / 1e6);
}

// Each thread reads, verifies, copies and evaluates modules of its own, in realms of its own.
void work_apart(const std::string& text, int rounds) {
  for (int k = 0; k < rounds; ++k) {
    Realm realm;
    SourceText source("generated.por", text);
    auto module = load_text(realm, source);
    auto copy = clone(**module);
    Evaluator e(*copy);
    Datum arguments[] = {{20000, 0}, {7, 0}};
    e.call(copy->find("work0"), arguments);
  }
}

void thread_speed() {
  std::string text = generated_text(100, loops);
  double one = least_seconds([&] { work_apart(text, 8); }, 0.6);
  double two = least_seconds(
      [&] {
        std::thread other([&] { work_apart(text, 8); });
        work_apart(text, 8);
        other.join();
      },
      0.6);
  fmt::print("Two threads in two realms do {:.2f} times the work of one\n", 2 * one / two);
}

}  // namespace

void language_costs(size_t most) {
  fmt::print("The language, functions of {} instructions\n\n", instructions_of(loops));
  fmt::print("  {:>12} {:>9} {:>8} {:>8} {:>8} {:>8} {:>8} {:>7} {:>8} {:>7}\n", "instructions", "pen M/s",
             "text MB/s", "verify", "write", "pack", "unpack", "ratio", "copy GB/s", "bytes");
  Row first{}, last{};
  mallopt(M_MMAP_THRESHOLD, 1 << 30);  // memory that was given back is taken again, as in a long run
  mallopt(M_TRIM_THRESHOLD, 2000 << 20);
  for (size_t n = 1000; n <= most; n *= 10) {
    Row r = measure(n / instructions_of(loops) + 1);
    double m = static_cast<double>(r.instructions) / 1e6;
    fmt::print("  {:>12} {:>9.1f} {:>8.1f} {:>8.1f} {:>8.1f} {:>8.1f} {:>8.1f} {:>7.1f} {:>8.2f} {:>7.1f}\n",
               r.instructions, m / r.pen, r.text / r.read / 1e6, m / r.verify, m / r.write, m / r.pack,
               m / r.unpack, r.read / r.unpack, r.memory / r.copy / 1e9,
               r.memory / static_cast<double>(r.instructions));
    if (n == 1000) first = r;
    last = r;
  }
  double times = static_cast<double>(last.instructions) / static_cast<double>(first.instructions);
  fmt::print(
      "\n  growth, {:.0f} times the instructions: pen {:.2f}, reading {:.2f}, verifying {:.2f}, unpacking "
      "{:.2f}, copying {:.2f} times the time an instruction\n",
      times, last.pen / first.pen / times, last.read / first.read / times, last.verify / first.verify / times,
      last.unpack / first.unpack / times, last.copy / first.copy / times);
  fmt::print(
      "  verify, write, pack and unpack in million instructions a second; ratio: reading text against "
      "unpacking;\n  bytes in memory an instruction ({:.1f} as text, {:.1f} packed); plain copying of "
      "memory: "
      "{:.2f} GB/s\n",
      last.text / static_cast<double>(last.instructions),
      last.packed / static_cast<double>(last.instructions), copy_bytes_a_second() / 1e9);
  evaluator_speed();
  thread_speed();
}

}  // namespace porphyry::bench
