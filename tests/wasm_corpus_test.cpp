// Real modules, compiled from C by others: each is read, verified, lowered, and run on the evaluator and on
// the processor at each level; what it computes is compared with the native library of the same algorithm.
#include <argon2.h>
#include <fmt/format.h>
#include <kissfft/kiss_fft.h>
#include <lz4frame.h>
#include <png.h>
#include <sqlite3.h>
#include <xxhash.h>

#include <cmath>
#include <random>
#include <set>

#include "support/corpus.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;

std::vector<uint8_t> bytes_of(size_t n, uint64_t seed) {
  std::mt19937_64 random(seed);
  std::vector<uint8_t> out(n);
  for (uint8_t& b : out) b = static_cast<uint8_t>(random() % 7 ? random() % 16 : random());
  return out;
}

// Every engine with the pipeline of its level; and, on the processor, each pass alone.
std::vector<std::pair<Engine, std::string>> engines_and_passes() {
  std::vector<std::pair<Engine, std::string>> out;
  for (const Engine& e : engines) out.emplace_back(e, level_named(e.level)->pipeline().text());
  if (checked_part == 1)
    for (const auto& pass : standard_passes().all())
      out.emplace_back(Engine{.name = pass->name.c_str(), .native = true}, pass->name);
  return out;
}

// Runs `check` on every engine, on an instance whose constructors have run.
template <class Check>
void on_every_engine(const std::string& module, const std::string& constructors, const std::string& malloc,
                     Check check) {
  std::string bytes = corpus_module(module);
  if (bytes.empty()) GTEST_SKIP() << "the module " << module << " was not fetched: scripts/corpus";
  size_t number = 0;
  for (const auto& [engine, pipeline] : engines_and_passes()) {
    const Engine& e = engine;
    // Where addresses are checked, a large module takes a few of them.
    if (checked_part > 1 && bytes.size() > 500'000 && ++number % 3 != 0) continue;
    auto program = must_load(bytes, {.guarded = e.guarded});
    ASSERT_NE(program, nullptr);
    auto level = level_named(e.level);
    run_pipeline(*program->program.module, *read_pipeline(pipeline), {.threads = 0});
    ASSERT_EQ(render(verify(*program->program.module)), "");
    wasm::Imports imports = corpus_host(program->program);
    Result<std::unique_ptr<wasm::Instance>> instance = Diagnostics();
    if (e.native) {
      auto code = wasm::NativeCode::compile(program, *native_target(), machine::LowerOptions::at(*level));
      ASSERT_TRUE(code.good()) << render(code.why());
      instance = make_instance(*code, imports);
    } else {
      instance = make_evaluated_instance(program, imports, {.step_limit = 20'000'000'000});
    }
    ASSERT_TRUE(instance.good()) << e.name << render(instance.why());
    Guest guest(**instance, malloc);
    if (!constructors.empty()) guest(constructors, {});
    check(guest, e);
    EXPECT_EQ(guest.trouble, "") << e.name;
  }
}

TEST(WasmCorpus, XxHash) {
  on_every_engine("xxhash", "", "", [](Guest& guest, const Engine& e) {
    for (size_t n :
         {0u, 1u, 3u, 4u, 15u, 16u, 17u, 31u, 32u, 33u, 100u, 1000u, e.native ? 1000000u : 5000u}) {
      std::vector<uint8_t> input = bytes_of(n, n);
      uint32_t at = guest.put(input);
      EXPECT_EQ(guest("xxh32", {at, n, 7}), XXH32(input.data(), n, 7)) << e.name << " " << n;
      EXPECT_EQ(guest("xxh64", {at, n, 9}), XXH64(input.data(), n, 9)) << e.name << " " << n;
    }
    if (!e.native) return;
    std::vector<uint8_t> input = bytes_of(77, 5);
    uint32_t at = guest.put(input);
    guest.simulate();
    EXPECT_EQ(guest("xxh32", {at, 77, 7}), XXH32(input.data(), 77, 7)) << e.name << ", simulated";
    EXPECT_EQ(guest("xxh64", {at, 77, 9}), XXH64(input.data(), 77, 9)) << e.name << ", simulated";
  });
}

TEST(WasmCorpus, Argon2) {
  for (const char* module : {"argon2", "argon2-simd"})
    on_every_engine(module, "d", "f", [](Guest& guest, const Engine& e) {
      for (auto [type, memory, lanes] :
           {std::tuple(Argon2_d, 64u, 1u), {Argon2_i, 32u, 2u}, {Argon2_id, e.native ? 4096u : 16u, 1u}}) {
        std::string password = "frost watch", salt = "orchard salt";
        uint32_t pass_at = guest.text(password), salt_at = guest.text(salt), hash_at = guest.room(32),
                 text_at = guest.room(200);
        uint64_t error = guest("e", {2, memory, lanes, pass_at, password.size(), salt_at, salt.size(),
                                     hash_at, 32, text_at, 200, static_cast<uint64_t>(type), 0x13});
        std::vector<uint8_t> should(32);
        ASSERT_EQ(argon2_hash(2, memory, lanes, password.data(), password.size(), salt.data(), salt.size(),
                              should.data(), 32, nullptr, 0, type, 0x13),
                  ARGON2_OK);
        EXPECT_EQ(error, 0u) << e.name;
        EXPECT_EQ(guest.many<uint8_t>(hash_at, 32), should) << e.name << " " << memory;
      }
    });
}

TEST(WasmCorpus, KissFft) {
  on_every_engine("kissfft", "g", "i", [](Guest& guest, const Engine& e) {
    for (int n : {1, 8, 12, 30, 77, e.native ? 1024 : 64}) {
      std::vector<kiss_fft_cpx> in(static_cast<size_t>(n)), should(in.size());
      for (size_t k = 0; k < in.size(); ++k)
        in[k] = {static_cast<float>(std::sin(0.3 * double(k))), static_cast<float>(double(k % 5) - 2)};
      kiss_fft_cfg plan = kiss_fft_alloc(n, 0, nullptr, nullptr);
      kiss_fft(plan, in.data(), should.data());
      kiss_fft_free(plan);
      uint32_t from = guest.put(in), to = guest.room(in.size() * sizeof(kiss_fft_cpx));
      uint64_t config = guest("h", {static_cast<uint64_t>(n), 0, 0, 0});
      guest("l", {config, from, to});
      std::vector<kiss_fft_cpx> is = guest.many<kiss_fft_cpx>(to, in.size());
      for (size_t k = 0; k < in.size(); ++k)
        ASSERT_TRUE(std::abs(is[k].r - should[k].r) < 2e-4 && std::abs(is[k].i - should[k].i) < 2e-4)
            << e.name
            << fmt::format(" {} of {}: {} {} instead of {} {}", k, n, is[k].r, is[k].i, should[k].r,
                           should[k].i);
    }
  });
}

std::vector<uint8_t> decoded_png(const std::string& bytes, uint32_t& width, uint32_t& height) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  png_image_begin_read_from_memory(&image, bytes.data(), bytes.size());
  image.format = PNG_FORMAT_RGBA;
  std::vector<uint8_t> out(PNG_IMAGE_SIZE(image));
  png_image_finish_read(&image, nullptr, out.data(), 0, nullptr);
  width = image.width, height = image.height;
  return out;
}
std::string small_png(uint32_t width, uint32_t height) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.width = width, image.height = height, image.format = PNG_FORMAT_RGBA;
  std::vector<uint8_t> pixels = bytes_of(size_t(4) * width * height, 3);
  png_alloc_size_t size = 0;
  png_image_write_get_memory_size(image, size, 0, pixels.data(), 0, nullptr);
  std::string out(size, 0);
  png_image_write_to_memory(&image, out.data(), &size, 0, pixels.data(), 0, nullptr);
  out.resize(size);
  return out;
}

TEST(WasmCorpus, LodePng) {
  on_every_engine("lodepng", "_initialize", "malloc", [](Guest& guest, const Engine& e) {
    std::vector<std::string> files = {small_png(17, 9)};
    if (e.native)
      for (const auto& f :
           std::filesystem::directory_iterator(std::string(PORPHYRY_ROOT) + "/docs/screenshots"))
        if (files.size() < 4) files.push_back(contents(f.path().string()));
    for (const std::string& file : files) {
      uint32_t width, height, in = guest.put(std::vector<char>(file.begin(), file.end())),
                              told = guest.room(12);
      std::vector<uint8_t> should = decoded_png(file, width, height);
      EXPECT_EQ(guest("lodepng_decode32", {told, told + 4, told + 8, in, file.size()}), 0u) << e.name;
      ASSERT_EQ(guest.get<uint32_t>(told + 4), width) << e.name;
      ASSERT_EQ(guest.get<uint32_t>(told + 8), height) << e.name;
      EXPECT_EQ(guest.many<uint8_t>(guest.get<uint32_t>(told), should.size()), should) << e.name;
      // and back: what the module packs, the library reads
      uint32_t pixels = guest.put(should), out = guest.room(8);
      if (width * height > 20000) continue;
      EXPECT_EQ(guest("lodepng_encode32", {out, out + 4, pixels, width, height}), 0u) << e.name;
      std::vector<char> packed = guest.many<char>(guest.get<uint32_t>(out), guest.get<uint32_t>(out + 4));
      EXPECT_EQ(decoded_png(std::string(packed.begin(), packed.end()), width, height), should) << e.name;
    }
  });
}

TEST(WasmCorpus, Lz4) {
  on_every_engine("wasm-lz4", "d", "e", [](Guest& guest, const Engine& e) {
    uint64_t context = guest("i", {});
    for (size_t n : {0u, 1u, 100u, 5000u, e.native ? 3000000u : 20000u}) {
      std::vector<uint8_t> should = bytes_of(n, n);
      std::vector<char> packed(LZ4F_compressFrameBound(n, nullptr));
      packed.resize(LZ4F_compressFrame(packed.data(), packed.size(), should.data(), n, nullptr));
      uint32_t in = guest.put(packed), out = guest.room(n + 1);
      EXPECT_EQ(guest("h", {context, out, n, in, packed.size()}), n) << e.name;
      EXPECT_EQ(guest.many<uint8_t>(out, n), should) << e.name << " " << n;
    }
  });
}

// Where imports are in a script, told by the lexer and, for names that occur nowhere else, by a search.
TEST(WasmCorpus, ModuleLexer) {
  std::string script;
  std::vector<std::string> names;
  for (int k = 0; k < 40; ++k) {
    names.push_back(fmt::format("./post_{}.js", k));
    script +=
        k % 3 == 0 ? fmt::format("import {{ wet as wet{} }} from '{}';\n", k, names.back())
        : k % 3 == 1
            ? fmt::format("/* import 'no' */ import * as n{} from \"{}\"; // import 'no'\n", k, names.back())
            : fmt::format("const f{} = `${{'import'}}` + /im[/]port/.test(x) ? 1 : 2;\nexport * from '{}';\n",
                          k, names.back());
  }
  for (const char* module : {"lexer", "lexer.minimal"})
    on_every_engine(module, "_initialize", "", [&](Guest& guest, const Engine& e) {
      guest.room(4 * script.size() + 1000);  // as its own script makes it
      uint64_t at = guest("sa", {script.size()});
      std::vector<uint16_t> wide(script.begin(), script.end());
      wide.push_back(0);
      guest.write(static_cast<uint32_t>(at), wide);
      ASSERT_EQ(guest("parse", {}), 1u) << e.name << " at " << guest("e", {});
      std::vector<std::string> found;
      while (guest("ri", {})) {
        uint64_t from = guest("is", {}), to = guest("ie", {});
        std::string name = script.substr(from, to - from);
        if (name.starts_with('\'') || name.starts_with('"')) name = name.substr(1, name.size() - 2);
        found.push_back(name);
        if (found.size() > 100) break;
      }
      EXPECT_EQ(found, names) << e.name;
    });
}

const char* const statements[] = {
    "create table posts(id integer primary key, name text, height real)",
    "create table readings(post integer, minute integer, dry real, wet real)",
    "create index by_post on readings(post, minute)",
    "insert into posts values (1, 'gate', 1.5), (2, 'hollow', 0.5), (3, 'ridge', 4.25)",
    "with recursive m(k) as (select 0 union all select k + 1 from m where k < 199) insert into readings "
    "select 1 + k % 3, k, 4.0 - k * 0.05, 3.0 - k * 0.0625 + (k % 7) * 0.1 from m",
    "select name, count(*), printf('%.6f', min(dry)), round(avg(wet), 3) from readings join posts on post = "
    "id group by name "
    "order by name",
    "select post, minute, printf('%.6f', dry - wet) as gap from readings where wet < -2 order by dry - wet "
    "desc, minute limit 5",
    "update readings set wet = null where minute % 50 = 0",
    "select count(*), count(wet), printf('%.6f', total(dry)), group_concat(distinct post) from readings",
    "select upper(name) || printf('-%05.2f', height), hex(zeroblob(3)), typeof(height), length(name) from "
    "posts where name like '%o%'",
    "select strftime('%Y-%m-%d', 1700000000, 'unixepoch'), json_extract('{\"a\":[1,2,{\"b\":7}]}', "
    "'$.a[2].b'), abs(-9223372036854775807), 7 / 2, 7 % -3, 1e300 > 10",
    "select printf('%.6f', sum(dry) over (order by minute rows 3 preceding)) from readings where post = 2 "
    "limit 6",
    "delete from readings where post = 3",
    "select count(*) from readings",
    "pragma integrity_check",
    "select nothing from nowhere"};

std::vector<std::string> native_rows() {
  sqlite3* db = nullptr;
  sqlite3_open(":memory:", &db);
  std::vector<std::string> out;
  for (const char* s : statements) {
    sqlite3_stmt* prepared = nullptr;
    if (sqlite3_prepare_v2(db, s, -1, &prepared, nullptr) != SQLITE_OK) out.push_back(sqlite3_errmsg(db));
    while (prepared && sqlite3_step(prepared) == SQLITE_ROW) {
      std::string row;
      for (int c = 0; c < sqlite3_column_count(prepared); ++c) {
        auto text = reinterpret_cast<const char*>(sqlite3_column_text(prepared, c));
        row += std::string(text ? text : "null") + "|";
      }
      out.push_back(row);
    }
    sqlite3_finalize(prepared);
  }
  sqlite3_close_v2(db);
  return out;
}

TEST(WasmCorpus, Sqlite) {
  const std::vector<std::string> should = native_rows();
  on_every_engine("sql-wasm-debug", "emscripten_stack_init", "malloc", [&](Guest& guest, const Engine& e) {
    guest("__set_stack_limits",
          {guest("emscripten_stack_get_base", {}), guest("emscripten_stack_get_end", {})});
    guest("__wasm_call_ctors", {});
    uint32_t handle = guest.room(8), name = guest.text(":memory:");
    ASSERT_EQ(guest("sqlite3_open", {name, handle}), 0u) << e.name << guest.trouble;
    uint32_t db = guest.get<uint32_t>(handle);
    std::vector<std::string> is;
    for (const char* s : statements) {
      uint32_t text = guest.text(s), prepared = guest.room(8);
      if (guest("sqlite3_prepare_v2", {db, text, ~uint64_t(0) & 0xffffffff, prepared, 0}) != 0)
        is.push_back(guest.text_at(static_cast<uint32_t>(guest("sqlite3_errmsg", {db}))));
      uint32_t statement = guest.get<uint32_t>(prepared);
      while (statement && guest("sqlite3_step", {statement}) == SQLITE_ROW && guest.trouble.empty()) {
        std::string row;
        uint64_t columns = guest("sqlite3_column_count", {statement});
        for (uint64_t c = 0; c < columns; ++c) {
          auto value = static_cast<uint32_t>(guest("sqlite3_column_text", {statement, c}));
          row += (value ? guest.text_at(value) : "null") + "|";
        }
        is.push_back(row);
      }
      guest("sqlite3_finalize", {statement});
    }
    EXPECT_EQ(is, should) << e.name;
  });
}

// The whole of a large module, lowered at each level for objects.
TEST(WasmCorpus, TheWholeOfALargeModuleIsLowered) {
  std::string bytes = corpus_module("sql-wasm");
  if (bytes.empty()) GTEST_SKIP() << "the module sql-wasm was not fetched: scripts/corpus";
  for (const Level& level : all_levels()) {
    if (checked_part > 1 && level.name != "-O2") continue;
    auto program = must_load(bytes);
    ASSERT_NE(program, nullptr);
    EXPECT_GT(program->program.functions.size(), 1500u);
    run_pipeline(*program->program.module, level.pipeline());
    auto code = machine::lower(std::move(program->program.module), *native_target(),
                               machine::LowerOptions::at(level));
    ASSERT_TRUE(code.good()) << level.name << render(code.why());
  }
}

// Running a level again changes next to nothing; and of the checks that the format asks for more than half go
// in each module, of those that the reader wrote 44 in 100 in all.
TEST(WasmCorpus, ALevelLeavesNothingForItselfToDo) {
  std::set<std::string> functions, changed;
  size_t checks[2] = {};
  for (const char* module : {"xxhash", "kissfft", "lodepng", "wasm-lz4", "argon2", "lexer", "sql-wasm"}) {
    if (testing::checked_part > 1 && module == std::string("sql-wasm")) continue;
    std::string bytes = corpus_module(module);
    if (bytes.empty()) GTEST_SKIP() << "no corpus: scripts/corpus fetches it";
    Realm realm;
    auto program = wasm::read_wasm(realm, module, bytes);
    ASSERT_TRUE(program.good()) << render(program.why());
    Module& m = *program->module;
    auto count = [&] {
      size_t n = 0;
      for (Symbol s : m.functions())
        for (Block b : m.function(s).blocks()) {
          Instruction end = m.function(s).terminator(b);
          n += m.function(s).op(end) == Op::When && m.function(s).hint(end) == Function::Hint::Rarely;
        }
      return n;
    };
    const size_t read = count(), asked = read + program->spared_checks;
    ASSERT_TRUE(run_pipeline(m, level_named("-O1")->pipeline()).empty());
    const size_t left = count();
    EXPECT_LT(left * 2, asked) << module;
    checks[0] += read, checks[1] += left;
    std::vector<StepRecord> again;
    ASSERT_TRUE(run_pipeline(m, level_named("-O1")->pipeline(), {.steps = &again}).empty());
    for (const StepRecord& s : again) {
      functions.insert(module + (":" + s.function));
      if (s.changed) changed.insert(module + (":" + s.function));
    }
  }
  std::string names;
  for (const std::string& f : changed) names += f + " ";
  // Where addresses are checked the large module is left out, and the others are too few to count.
  if (testing::checked_part == 1) {
    EXPECT_LE(changed.size() * 100, functions.size()) << "not done after one run: " << names;
    EXPECT_LT(checks[1] * 100, checks[0] * 56) << checks[0] << " checks became " << checks[1];
  }
}

}  // namespace
}  // namespace porphyry
