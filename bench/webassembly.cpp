// What modules that others made cost: reading, lowering, and running against the native library of the same
// algorithm, with pages as guards and with comparisons.
#include <argon2.h>
#include <fmt/format.h>
#include <kissfft/kiss_fft.h>
#include <lz4frame.h>
#include <malloc.h>
#include <png.h>
#include <sqlite3.h>
#include <xxhash.h>

#include <cmath>
#include <set>

#include "common.h"
#include "porphyry/machine/listing.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/object.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"
#include "support/corpus.h"

namespace porphyry::bench {
namespace {

using testing::Guest;

constexpr const char* modules[] = {"xxhash", "lexer", "argon2", "kissfft", "wasm-lz4", "lodepng", "sql-wasm"};

// ---- reading and lowering -------------------------------------------------------------------------------

size_t heap_bytes() { return mallinfo2().uordblks + mallinfo2().hblkhd; }

void reading(const std::string& name) {
  std::string bytes = testing::corpus_module(name);
  if (bytes.empty()) return;
  double seconds[2], memory[2];
  for (bool guarded : {false, true}) {
    auto read = [&] {
      auto realm = std::make_unique<Realm>();
      auto program = wasm::read_wasm(*realm, name, bytes, {.guarded = guarded});
      return std::pair(std::move(realm), std::move(program));
    };
    seconds[guarded] = least_seconds_to_make(read);
    size_t before = heap_bytes();
    auto kept = read();
    memory[guarded] = static_cast<double>(heap_bytes() - before) / static_cast<double>(bytes.size());
  }
  size_t code = 0;
  double object = least_seconds_to_make([&] {
    Realm realm;
    auto program = wasm::read_wasm(realm, name, bytes);
    auto lowered = machine::lower(std::move(program->module), *native_target(), {.keep_bodies = false});
    code = 0;
    for (const auto& f : lowered->functions) code += f.bytes.size();
    return elf_bytes(make_object(*lowered, *native_target()));
  });
  auto rate = [&](double s) { return static_cast<double>(bytes.size()) / s / 1e6; };
  fmt::print("{:<18}{:>9}{:>12.1f}{:>12.1f}{:>10.0f}{:>10.0f}{:>14.1f}\n", name, bytes.size(),
             rate(seconds[0]), rate(seconds[1]), memory[0], memory[1],
             object * 1e9 / static_cast<double>(code));
}

// ---- running --------------------------------------------------------------------------------------------

struct Work {
  const char *name, *module, *constructors, *malloc;
  std::function<std::function<void()>(Guest&)> guest;  // prepares, then gives the work
  std::function<void()> native;
};

// One way of running a module: an instance, and the work it was prepared for.
struct Prepared {
  std::shared_ptr<wasm::LoadedProgram> loaded;
  std::unique_ptr<wasm::Instance> instance;
  std::unique_ptr<Guest> guest;
  std::function<void()> run;
};
Result<Prepared> prepare(const Work& work, const std::string& bytes, bool guarded, std::string_view level) {
  auto loaded = wasm::load_program(work.module, bytes, {.guarded = guarded});
  if (!loaded) return loaded.why();
  run_pipeline(*(*loaded)->program.module, level_named(level)->pipeline());
  auto code =
      wasm::NativeCode::compile(*loaded, *native_target(), machine::LowerOptions::at(*level_named(level)));
  if (!code) return code.why();
  auto instance = make_instance(*code, testing::corpus_host((*loaded)->program));
  if (!instance) return instance.why();
  Prepared out{*loaded, std::move(*instance), nullptr, {}};
  out.guest = std::make_unique<Guest>(*out.instance, work.malloc);
  if (*work.constructors) (*out.guest)(work.constructors, {});
  out.run = work.guest(*out.guest);
  return out;
}

// All ways take turns, so that what else the machine does is not one way's alone.
void running(const Work& work) {
  std::string bytes = testing::corpus_module(work.module);
  if (bytes.empty()) return;
  std::vector<Prepared> ways;
  for (bool guarded : {true, false})
    for (const char* level : {"-O0", "-O1", "-O2"}) {
      auto way = prepare(work, bytes, guarded, level);
      if (!way) return fmt::print("{}: {}\n", work.name, render(way.why()));
      ways.push_back(std::move(*way));
    }
  constexpr int turns = 10;
  double native = 1e9;
  std::vector<double> times(ways.size(), 1e9);
  for (int turn = 0; turn < turns; ++turn) {
    native = std::min(native, least_seconds(work.native, 0.05));
    for (size_t k = 0; k < ways.size(); ++k) times[k] = std::min(times[k], least_seconds(ways[k].run, 0.05));
  }
  fmt::print("{:<18}", work.name);
  for (double t : times) fmt::print("{:>9.2f}", t / native);
  fmt::print("\n");
  for (const Prepared& way : ways)
    if (!way.guest->trouble.empty()) fmt::print("{}: {}\n", work.name, way.guest->trouble);
}

std::vector<uint8_t> readings(size_t n) {
  std::vector<uint8_t> out(n);
  for (size_t k = 0; k < n; ++k) out[k] = static_cast<uint8_t>((k * k >> 7) ^ (k % 13));
  return out;
}

Work hashing() {
  static const std::vector<uint8_t> input = readings(1 << 20);
  return {"xxhash 64",
          "xxhash",
          "",
          "",
          [](Guest& g) -> std::function<void()> {
            uint32_t at = g.put(input);
            return [&g, at] { g("xxh64", {at, input.size(), 1}); };
          },
          [] {
            if (XXH64(input.data(), input.size(), 1) == 0) std::abort();
          }};
}

Work decompressing() {
  static const std::vector<uint8_t> plain = readings(1 << 20);
  static const std::vector<char> packed = [] {
    std::vector<char> out(LZ4F_compressFrameBound(plain.size(), nullptr));
    out.resize(LZ4F_compressFrame(out.data(), out.size(), plain.data(), plain.size(), nullptr));
    return out;
  }();
  return {"lz4 frame",
          "wasm-lz4",
          "d",
          "e",
          [](Guest& g) -> std::function<void()> {
            uint64_t context = g("i", {});
            uint32_t in = g.put(packed), out = g.room(plain.size());
            return [&g, context, in, out] { g("h", {context, out, plain.size(), in, packed.size()}); };
          },
          [] {
            static std::vector<char> out(plain.size());
            LZ4F_dctx* context;
            LZ4F_createDecompressionContext(&context, LZ4F_VERSION);
            size_t n = out.size(), m = packed.size();
            LZ4F_decompress(context, out.data(), &n, packed.data(), &m, nullptr);
            LZ4F_freeDecompressionContext(context);
          }};
}

// The native library works in lanes; so does one of the two modules.
Work passwords(const char* name, const char* module) {
  return {name,
          module,
          "d",
          "f",
          [](Guest& g) -> std::function<void()> {
            uint32_t text = g.text("frost watch in the orchard"), out = g.room(32);
            return [&g, text, out] { g("e", {1, 1024, 1, text, 10, text, 16, out, 32, 0, 0, 2, 0x13}); };
          },
          [] {
            uint8_t out[32];
            argon2_hash(1, 1024, 1, "frost watc", 10, "frost watch in t", 16, out, 32, nullptr, 0, Argon2_id,
                        0x13);
          }};
}

Work transform() {
  static const std::vector<kiss_fft_cpx> in = [] {
    std::vector<kiss_fft_cpx> out(4096);
    for (size_t k = 0; k < out.size(); ++k) out[k] = {std::sin(0.01f * static_cast<float>(k)), 0};
    return out;
  }();
  return {"fft of 4,096",
          "kissfft",
          "g",
          "i",
          [](Guest& g) -> std::function<void()> {
            uint32_t from = g.put(in), to = g.room(in.size() * sizeof(kiss_fft_cpx));
            uint64_t plan = g("h", {in.size(), 0, 0, 0});
            return [&g, plan, from, to] { g("l", {plan, from, to}); };
          },
          [] {
            static kiss_fft_cfg plan = kiss_fft_alloc(static_cast<int>(in.size()), 0, nullptr, nullptr);
            static std::vector<kiss_fft_cpx> out(in.size());
            kiss_fft(plan, in.data(), out.data());
          }};
}

Work picture() {
  static const std::string file = [] {
    std::ifstream in(std::string(PORPHYRY_ROOT) + "/docs/screenshots/lower.png", std::ios::binary);
    return std::string(std::istreambuf_iterator<char>(in), {});
  }();
  return {"png, 1280 x 800",
          "lodepng",
          "_initialize",
          "malloc",
          [](Guest& g) -> std::function<void()> {
            uint32_t in = g.put(std::vector<char>(file.begin(), file.end())), told = g.room(12);
            return [&g, in, told] {
              g("lodepng_decode32", {told, told + 4, told + 8, in, file.size()});
              g("free", {g.get<uint32_t>(told)});
            };
          },
          [] {
            png_image image{};
            image.version = PNG_IMAGE_VERSION;
            png_image_begin_read_from_memory(&image, file.data(), file.size());
            image.format = PNG_FORMAT_RGBA;
            static std::vector<uint8_t> out;
            out.resize(PNG_IMAGE_SIZE(image));
            png_image_finish_read(&image, nullptr, out.data(), 0, nullptr);
          }};
}

const char* const query =
    "with recursive m(k) as (select 0 union all select k + 1 from m where k < 20000) "
    "select sum(k * k % 97), count(distinct k % 1000), max(printf('%d', k)) from m";

Work database() {
  return {"sqlite query",
          "sql-wasm",
          "P",
          "",
          [](Guest& g) -> std::function<void()> {
            auto room = std::make_shared<Guest>(g);
            uint32_t handle = room->room(64), name = room->text(":memory:"), text = room->text(query);
            (*room)("Ha", {name, handle});
            uint32_t db = room->get<uint32_t>(handle);
            return [room, db, text] { (*room)("W", {db, text, 0, 0, 0}); };
          },
          [] {
            static sqlite3* db = [] {
              sqlite3* out;
              sqlite3_open(":memory:", &out);
              return out;
            }();
            sqlite3_exec(db, query, nullptr, nullptr, nullptr);
          }};
}

// Branches that trap, on comparisons with the size of a memory or of a table: all of a module's, and those in
// loops that hold no other.
struct Checks {
  size_t all = 0, in_loops = 0;
};
Checks checks_of(const Module& module) {
  Checks out;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    Facts facts(f);
    const Loops& loops = facts.get<Loops>();
    std::set<uint32_t> outer;
    for (Block b : f.blocks())
      if (Block h = loops.header(b); h.exists() && loops.outer(h).exists())
        outer.insert(loops.outer(h).index);
    for (Block b : f.blocks()) {
      Instruction end = f.terminator(b);
      if (f.op(end) != Op::When || f.hint(end) != Function::Hint::Rarely) continue;
      ++out.all;
      out.in_loops += loops.depth(b) > 0 && !outer.contains(loops.header(b).index);
    }
  }
  return out;
}

void checks_left(const char* name) {
  Realm realm;
  auto program = wasm::read_wasm(realm, name, testing::corpus_module(name));
  if (!program) return fmt::print("{}: {}\n", name, render(program.why()));
  Checks before = checks_of(*program->module);
  run_pipeline(*program->module, level_named("-O1")->pipeline());
  Checks after = checks_of(*program->module);
  auto left = [](size_t a, size_t b) {
    return b ? 100.0 * static_cast<double>(a) / static_cast<double>(b) : 0;
  };
  const size_t asked = before.all + program->spared_checks;
  fmt::print("{:<18}{:>10}{:>10}{:>10}{:>8.1f} %{:>8.1f} %{:>10}{:>10}{:>8.1f} %\n", name, asked, before.all,
             after.all, left(after.all, asked), left(after.all, before.all), before.in_loops, after.in_loops,
             left(after.in_loops, before.in_loops));
}

// What was put into the frame for want of registers, at -O2, and why values lost theirs.
void spilled(const char* name) {
  Realm realm;
  auto program = wasm::read_wasm(realm, name, testing::corpus_module(name));
  if (!program) return fmt::print("{}: {}\n", name, render(program.why()));
  run_pipeline(*program->module, level_named("-O2")->pipeline());
  const machine::Target& target = *native_target();
  machine::LowerOptions options = machine::LowerOptions::at(*level_named("-O2"));
  options.explain = true;
  auto lowered = machine::lower(std::move(program->module), target, options);
  if (!lowered) return fmt::print("{}: {}\n", name, render(lowered.why()));
  unsigned instructions = 0, all = 0, in_loops = 0, reasons[3] = {};
  for (const auto& f : lowered->functions) {
    const auto t = machine::totals_of(f, target);
    instructions += t.instructions, all += t.spills + t.reloads, in_loops += t.spilled_in_loops;
    if (f.explained)
      for (const auto& r : f.explained->split_reasons) ++reasons[static_cast<size_t>(r.why)];
  }
  fmt::print("{:<18}{:>13}{:>10}{:>10}{:>8.1f} %{:>10}{:>10}{:>14}\n", name, instructions, all, in_loops,
             100.0 * in_loops / std::max(instructions, 1u), reasons[0], reasons[1], reasons[2]);
}

}  // namespace

void webassembly_costs() {
  if (testing::corpus_module("xxhash").empty())
    return fmt::print("\nWebAssembly: no modules; scripts/corpus fetches them\n");
  fmt::print(
      "\nWebAssembly: reading with validation and SSA, MB of the file a second; memory, bytes a byte of the "
      "file\n");
  fmt::print("{:<18}{:>9}{:>12}{:>12}{:>10}{:>10}{:>14}\n", "module", "bytes", "checked", "guarded", "memory",
             "guarded", "ns a byte of code");
  for (const char* name : modules) reading(name);
  fmt::print("\nWebAssembly: checks of bounds that the format asks for, as read (-O0), and left at -O1\n");
  fmt::print("{:<18}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}\n", "module", "asked", "read", "left",
             "of asked", "of read", "in loops", "left", "of read");
  for (const char* name : modules) checks_left(name);
  fmt::print(
      "\nWebAssembly: spills and reloads at -O2, in all and in loops; values that lost their register where "
      "all hold dearer ones, to one that is dearer, and where calls take each of them\n");
  fmt::print("{:<18}{:>13}{:>10}{:>10}{:>10}{:>10}{:>10}{:>14}\n", "module", "instructions", "spilled",
             "in loops", "of instr.", "crowded", "outbid", "none lasts");
  for (const char* name : modules) spilled(name);
  fmt::print("\nWebAssembly at work: time to the native library's\n{:<18}{:>27}{:>27}\n{:<18}", "",
             "with guard pages", "with checks", "");
  for (int k = 0; k < 6; ++k) fmt::print("{:>9}", fmt::format("-O{}", k % 3));
  fmt::print("\n");
  for (const Work& w : {hashing(), decompressing(), passwords("argon2id, 1 MB", "argon2"),
                        passwords("the same, lanes", "argon2-simd"), transform(), picture(), database()})
    running(w);
  fmt::print(
      "Where the programs differ: one module of argon2 works in lanes, the library in plain numbers.\n"
      "The picture's module inflates by code of its own, the library by zlib's, and restores rows in\n"
      "lanes. What levels and checks make is read along a line, what registers cost in the table above.\n");
}

}  // namespace porphyry::bench
