// Instances: several of one program, what they import and share, threads, objects for C, the system
// interface.
#include <fmt/format.h>

#include <filesystem>
#include <thread>

#include "porphyry/call/session.h"
#include "porphyry/host/for_c.h"
#include "porphyry/host/wasi.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/object.h"
#include "support/process.h"
#include "support/wasm_build.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;
using namespace testing::wasm_text;

std::shared_ptr<const wasm::NativeCode> compiled(std::string bytes, bool guarded = true) {
  auto program = must_load(std::move(bytes), {.guarded = guarded});
  auto code = wasm::NativeCode::compile(program, *native_target());
  EXPECT_TRUE(code.good()) << render(code.why());
  return code ? *code : nullptr;
}

// Counts in memory and in a global.
std::string counter() {
  WasmModule m;
  uint32_t t = m.type("i", "i");
  m.memory(1, 10);
  uint32_t g = m.global('i', true, i32(0));
  m.exported("count", m.function(t, "",
                                 i32(8) + i32(8) + access(0x28) + get(0) + add + access(0x36) + op(0x23) +
                                     uleb(g) + i32(1) + add + op(0x24) + uleb(g) + i32(8) + access(0x28)));
  m.exported("calls", g, 3), m.exported("memory", 0, 2);
  m.exported("read", m.function(t, "", get(0) + access(0x28)));
  return m.bytes();
}

TEST(WasmHost, InstancesShareCodeAndNothingElse) {
  const Datum outside{0xfffffff0};
  for (bool guarded : {true, false}) {
    auto code = compiled(counter(), guarded);
    std::vector<std::jthread> threads;
    std::vector<std::string> wrong(8);
    for (size_t k = 0; k < wrong.size(); ++k)
      threads.emplace_back([&, k] {
        auto instance = make_instance(code, {});
        if (!instance) return void(wrong[k] = render(instance.why()));
        auto count = (*instance)->function<int32_t(int32_t)>("count");
        for (int32_t n = 1; n <= 1000; ++n)
          if (auto is = (*count)(static_cast<int32_t>(k)); !is || *is != n * static_cast<int32_t>(k))
            return void(wrong[k] = fmt::format("{} after {}", is ? *is : -1, n));
        if ((*instance)->global("calls")->bits != 1000) wrong[k] = "the global is shared";
        if ((*instance)->memory().size() != wasm::page_bytes || !(*instance)->grow_memory(2) ||
            (*instance)->memory().size() != 3 * wasm::page_bytes)
          wrong[k] = "the memory did not grow";
        // a trap of one thread is its own
        if ((*instance)->call("read", {&outside, 1}).end != wasm::CallResult::End::Trap) wrong[k] = "no trap";
      });
    threads.clear();
    for (const std::string& w : wrong) EXPECT_EQ(w, "");
  }
}

TEST(WasmHost, TypedCallsSayWhatIsWrong) {
  auto instance = make_instance(compiled(counter()), {});
  ASSERT_TRUE(instance.good()) << render(instance.why());
  EXPECT_EQ((*instance)->function<float(int32_t)>("count").why()[0].message,
            "'count' is of type (i32) -> i32, not (i32) -> f32");
  EXPECT_EQ((*instance)->function<float(int32_t)>("cuont").why()[0].message,
            "no function is exported as 'cuont'");
  EXPECT_EQ(outcome((*instance)->call("count", {})), "trap: 'count' takes 1 argument, but 0 are given");
}

std::string importer() {
  WasmModule m;
  uint32_t t = m.type("if", "i");
  uint32_t warn = m.import_function("orchard", "warn", t);
  m.import_memory("orchard", "memory", 1, 4);
  m.import_table("orchard", "table", 'r', 2);
  uint32_t base = m.import_global("orchard", "base", 'd', true);
  m.exported("f", m.function(m.type("i", "id"), "",
                             get(0) + f32(1.5) + call(warn) + i32(4) + get(0) + access(0x36) + op(0x23) +
                                 uleb(base) + f64(9) + op(0x24) + uleb(base)));
  m.exported("warn again", warn);
  return m.bytes();
}

TEST(WasmHost, EverythingMissingIsToldAtOnce) {
  wasm::Imports imports;
  imports.function("orchard", "warn", [](int32_t) {});
  imports.add_memory("orchard", "memory", std::make_shared<wasm::HostMemory>(wasm::Limits{1, 9}));
  auto made = make_instance(compiled(importer()), imports);
  ASSERT_FALSE(made.good());
  EXPECT_EQ(made.why()[0].message,
            "4 imports are missing, or of another type:\n"
            "  orchard.warn, a function (i32, f32) -> i32: what is given is a function (i32)\n"
            "  orchard.memory, a memory of 1 to 4 pages: what is given is a memory of 1 to 9 pages\n"
            "  orchard.table, a table of 2 or more elements of funcref: nothing gives it\n"
            "  orchard.base, a mutable global of f64: nothing gives it");
}

TEST(WasmHost, ImportsAreUsed) {
  for (const Engine& e : engines) {
    wasm::Imports imports;
    int calls = 0;
    imports.function("orchard", "warn", [&](wasm::Instance& in, int32_t post, float degrees) {
      return ++calls,
             static_cast<int32_t>(in.memory().size() / 1000) + post + static_cast<int32_t>(degrees * 2);
    });
    auto memory = std::make_shared<wasm::HostMemory>(wasm::Limits{2, 4});
    auto global = std::make_shared<wasm::HostGlobal>(wasm::HostGlobal{wasm::ValueType::F64, true});
    global->words[0] = std::bit_cast<uint64_t>(0.25);
    imports.add_memory("orchard", "memory", memory);
    imports.add_table("orchard", "table",
                      std::make_shared<wasm::HostTable>(wasm::ValueType::FuncRef, wasm::Limits{2, 5}));
    imports.add_global("orchard", "base", global);
    auto instance = instance_of(e, importer(), imports);
    ASSERT_TRUE(instance.good()) << e.name << render(instance.why());
    Datum seven{7};
    EXPECT_EQ(outcome((*instance)->call("f", {&seven, 1})),
              fmt::format("{}, {}", 7 + 3 + 131, std::bit_cast<int64_t>(0.25)))
        << e.name;
    const Datum two[] = {{1}, {std::bit_cast<uint32_t>(0.5f)}};
    EXPECT_EQ(outcome((*instance)->call("warn again", two)), std::to_string(2 + 131)) << e.name;
    EXPECT_EQ(calls, 2);
    EXPECT_EQ(memory->bytes()[4], 7);
    EXPECT_EQ(global->words[0], std::bit_cast<uint64_t>(9.0));
  }
}

TEST(WasmHost, HostsMayTrapAndWhatIsNotNeededMayBeMissing) {
  WasmModule m;
  m.exported("f", m.import_function("orchard", "alarm", m.type("", "")));
  wasm::Imports imports;
  imports.missing_functions_trap = true;
  for (const Engine& e : engines) {
    auto instance = instance_of(e, m.bytes(), imports);
    ASSERT_TRUE(instance.good()) << e.name << render(instance.why());
    EXPECT_EQ(outcome((*instance)->call("f", {})), "trap: the imported function 'orchard.alarm' is not given")
        << e.name;
  }
}

// One instance's functions, memory and table in another; a trap inside of it ends the outer call.
TEST(WasmHost, InstancesImportFromOneAnother) {
  WasmModule first;
  uint32_t t = first.type("i", "i");
  first.memory(1, 2);
  first.table('r', 3, 3);
  uint32_t f = first.function(t, "", get(0) + access(0x28));
  first.elements(0, {f});
  first.exported("read", f), first.exported("memory", 0, 2), first.exported("table", 0, 1);
  first.exported("through",
                 first.function(first.type("ii", "i"), "", get(1) + get(0) + op(0x11) + uleb(t) + uleb(0)));
  auto a = make_instance(compiled(first.bytes()), {});
  ASSERT_TRUE(a.good()) << render(a.why());
  WasmModule second;
  uint32_t u = second.type("i", "i");
  uint32_t read = second.import_function("first", "read", u);
  second.import_memory("first", "memory", 1, 2);
  second.import_table("first", "table", 'r', 3);
  uint32_t twice = second.function(u, "", get(0) + i32(2) + op(0x6c));
  second.elements(1, {twice, read});
  second.exported("f", second.function(u, "", i32(16) + get(0) + access(0x36) + i32(16) + call(read)));
  second.exported("g", second.function(u, "", get(0) + call(read)));
  wasm::Imports imports;
  imports.add_exports("first", **a);
  auto b = make_instance(compiled(second.bytes()), imports);
  ASSERT_TRUE(b.good()) << render(b.why());
  Datum n{41};
  EXPECT_EQ(outcome((*b)->call("f", {&n, 1})), "41");
  EXPECT_EQ((*a)->memory()[16], 41);
  const Datum twice_of[] = {{1}, {21}}, read_of[] = {{2}, {16}};
  EXPECT_EQ(outcome((*a)->call("through", twice_of)), "42");
  EXPECT_EQ(outcome((*a)->call("through", read_of)), "41");
  Datum outside{0xffff0000};
  wasm::CallResult trap = (*b)->call("g", {&outside, 1});
  EXPECT_EQ(trap.end, wasm::CallResult::End::Trap);
  EXPECT_EQ(outcome((*b)->call("f", {&n, 1})), "41");
}

// Code without comparisons takes no memory that nothing guards.
TEST(WasmHost, GuardedCodeWantsAGuardedMemory) {
  WasmModule first;
  first.memory(1, 2);
  first.exported("memory", 0, 2);
  WasmModule second;
  second.import_memory("first", "memory", 1, 2);
  second.exported("f", second.function(second.type("i", "i"), "", get(0) + access(0x28)));
  for (bool guarded : {false, true}) {
    auto a = make_instance(compiled(first.bytes(), guarded), {});
    ASSERT_TRUE(a.good()) << render(a.why());
    wasm::Imports imports;
    imports.add_exports("first", **a);
    auto b = make_instance(compiled(second.bytes(), true), imports);
    EXPECT_EQ(b.good(), guarded);
    if (!guarded) {
      EXPECT_EQ(b.why()[0].message, "the memory 'memory' of another instance has no pages that guard it");
      EXPECT_TRUE(make_instance(compiled(second.bytes(), false), imports).good());
    }
  }
}

TEST(WasmHost, SegmentsThatDoNotFitAreTold) {
  WasmModule m;
  m.memory(1);
  m.data(65530, "frostwatch");
  for (const Engine& e : engines) {
    auto instance = instance_of(e, m.bytes());
    ASSERT_FALSE(instance.good()) << e.name;
    EXPECT_TRUE(instance.why()[0].message.starts_with("a segment does not fit the memory or table, at byte "))
        << e.name << render(instance.why());
  }
}

TEST(WasmHost, CallsOfAFile) {
  WasmModule m;
  uint32_t t = m.type("i", "i");
  m.memory(1, 9);
  m.exported("sum",
             m.function(m.type("ii", "f"), "f",
                        block("", loop("", get(1) + op(0x45) + branch_if(1) + get(2) + get(0) + access(0x2a) +
                                               op(0x92) + set(2) + get(0) + i32(4) + add + set(0) + get(1) +
                                               i32(-1) + add + set(1) + branch(0))) +
                            get(2)));
  m.exported("twice", m.function(t, "", get(0) + get(0) + add));
  for (const Engine& e : engines) {
    auto instance = instance_of(e, m.bytes());
    ASSERT_TRUE(instance.good()) << render(instance.why());
    wasm::Session session(**instance);
    auto all = session.run_file(
        SourceText("calls.txt", fmt::format("# a night\nn = twice 18\ntwice $n\ntwice $1  # again\nsum "
                                            "file:{}/demo/night.txt:f32:2 4\nsum 0 $n\n",
                                            PORPHYRY_ROOT)));
    ASSERT_TRUE(all.good()) << render(all.why());
    ASSERT_EQ(all->size(), 5u);
    EXPECT_EQ((*all)[1].results[0], "72");
    EXPECT_EQ((*all)[2].results[0], "72");
    EXPECT_EQ((*all)[4].results[0], "0.0");
    auto wrong = session.run_file(SourceText("calls.txt", "twice $n\ntwice $m 3\n"));
    EXPECT_EQ(
        render(wrong.why()),
        "calls.txt:2:1: 'twice' is called with 2 arguments\n    twice $m 3\n    ^^^^^^^^^^\n  expected: 1 "
        "for twice(i32) -> i32\n");
  }
}

TEST(WasmHost, ObjectsForC) {
  TemporaryFolder folder;
  Realm realm;
  WasmModule m;
  uint32_t t = m.type("il", "li");
  uint32_t host = m.import_function("orchard", "pair of", t);
  m.memory(1, 3);
  m.data(4, "frost");
  m.exported("memory", 0, 2);
  m.exported("make", m.function(m.type("i", "l"), "", get(0) + i64(5) + call(host) + op(0xad) + op(0x7c)));
  m.exported("swap", m.function(t, "", get(1) + get(0)));
  m.exported("free", m.global('i', true, i32(77)), 3);
  auto program = wasm::read_wasm(realm, "post.wasm", m.bytes());
  ASSERT_TRUE(program.good()) << render(program.why());
  auto header = wasm::prepare_for_c(*program, "post");
  ASSERT_TRUE(header.good()) << render(header.why());
  ASSERT_EQ(render(verify(*program->module)), "");
  auto code = machine::lower(std::move(program->module), *native_target(), {.exported = true});
  ASSERT_TRUE(code.good()) << render(code.why());
  folder.write("post.h", *header);
  folder.write("post.o", elf_bytes(make_object(*code, *native_target())));
  folder.write("main.c", R"(
#include "post.h"
#include <stdio.h>
static void pair_of(void* context, int32_t a, int64_t b, int64_t* first, int32_t* second) { *first = a + b + *(int*)context, *second = -1; }
int main(void) {
  int one = 1000;
  post_imports imports = {.orchard_pair_of = pair_of, .context = &one};
  post *a = post_make_instance(&imports), *b = post_make_instance(&imports);
  int64_t l; int32_t i;
  post_swap(a, 3, 4, &l, &i);
  printf("%lld %lld %d", (long long)post_make(a, 2), (long long)l, i);
  post_memory(a)[4] = 'F', *post_free(a) = 5;
  printf(" %s %s %d %d", post_memory(a) + 4, post_memory(b) + 4, *post_free(a), *post_free(b));
  printf(" %d", post_memory_grow(a, 2));
  printf(" %d", post_memory_grow(a, 1));
  printf(" %d\n", (int)post_memory_bytes(a));
  post_free_instance(a), post_free_instance(b), post_free_instance(0);
}
)");
  for (const char* compiler : {"gcc -std=c17", "g++ -x c++ -std=c++20"}) {
    auto built =
        run_command(fmt::format("cd {} && {} -c main.c -o main.o && g++ main.o post.o -o main && ./main 2>&1",
                                folder.file(""), compiler));
    EXPECT_EQ(built.out, "4294968302 4 3 Frost frost 5 77 1 -1 196608\n");
  }
}

// A module that passes every function of the interface on, so that each can be called from here.
struct WasiProcess {
  std::unique_ptr<wasm::Instance> instance;
  std::string written, errors;

  explicit WasiProcess(wasm::WasiOptions options) {
    options.output = [this](std::string_view s) { written += s; };
    options.errors = [this](std::string_view s) { errors += s; };
    wasm::Imports imports;
    add_wasi(imports, std::move(options));
    WasmModule m;
    for (auto [name, parameters, results] : functions) {
      uint32_t t = m.type(parameters, results);
      m.exported(name, m.import_function(wasm::wasi_module, name, t));
    }
    m.memory(4);
    m.exported("memory", 0, 2);
    auto made = make_instance(compiled(m.bytes()), imports);
    EXPECT_TRUE(made.good()) << render(made.why());
    if (made) instance = std::move(*made);
  }
  static constexpr std::tuple<const char*, const char*, const char*> functions[] = {
      {"args_get", "ii", "i"},
      {"args_sizes_get", "ii", "i"},
      {"environ_get", "ii", "i"},
      {"environ_sizes_get", "ii", "i"},
      {"clock_time_get", "ili", "i"},
      {"random_get", "ii", "i"},
      {"fd_write", "iiii", "i"},
      {"fd_read", "iiii", "i"},
      {"fd_seek", "ilii", "i"},
      {"fd_close", "i", "i"},
      {"fd_prestat_get", "ii", "i"},
      {"fd_prestat_dir_name", "iii", "i"},
      {"fd_readdir", "iiili", "i"},
      {"fd_filestat_get", "ii", "i"},
      {"path_open", "iiiiillii", "i"},
      {"path_create_directory", "iii", "i"},
      {"path_unlink_file", "iii", "i"},
      {"path_filestat_get", "iiiii", "i"},
      {"path_symlink", "iiiii", "i"},
      {"path_rename", "iiiiii", "i"},
      {"path_remove_directory", "iii", "i"},
      {"poll_oneoff", "iiii", "i"},
      {"proc_exit", "i", ""}};

  uint64_t operator()(const char* name, std::vector<uint64_t> arguments) {
    std::vector<Datum> given;
    for (uint64_t a : arguments) given.push_back({a});
    wasm::CallResult run = instance->call(name, given);
    EXPECT_EQ(run.end, wasm::CallResult::End::Result) << run.message;
    return run.results.empty() ? ~uint64_t(0) : run.results[0].bits;
  }
  void put(uint32_t at, std::string_view text) {
    std::copy(text.begin(), text.end(), instance->memory().begin() + at);
  }
  uint32_t word(uint32_t at) {
    uint32_t out;
    std::memcpy(&out, instance->memory().data() + at, 4);
    return out;
  }
  void set_word(uint32_t at, uint32_t v) { std::memcpy(instance->memory().data() + at, &v, 4); }
  std::string text(uint32_t at, size_t size) {
    return std::string(reinterpret_cast<char*>(instance->memory().data()) + at, size);
  }
  // Opens a path under the folder (file 3): the error, and the file's number.
  std::pair<uint64_t, uint32_t> open(std::string_view path, uint32_t how = 0, uint64_t rights = 2 | 64) {
    put(1000, path);
    uint64_t error = (*this)("path_open", {3, 0, 1000, path.size(), how, rights, 0, 0, 900});
    return {error, word(900)};
  }
  uint64_t write(uint32_t file, std::string_view what) {
    put(2000, what), set_word(800, 2000), set_word(804, static_cast<uint32_t>(what.size()));
    return (*this)("fd_write", {file, 800, 1, 808});
  }
  std::string read(uint32_t file, uint32_t room = 100) {
    set_word(800, 3000), set_word(804, room);
    uint64_t error = (*this)("fd_read", {file, 800, 1, 808});
    return error ? "error " + std::to_string(error) : text(3000, word(808));
  }
};

TEST(Wasi, ArgumentsEnvironmentClocksAndChance) {
  WasiProcess p({.arguments = {"station", "-n", "3"},
                 .environment = {{"POST", "7"}},
                 .seed = 5,
                 .fixed_clock = 1'700'000'000'000'000'000});
  EXPECT_EQ(p("args_sizes_get", {0, 4}), 0u);
  EXPECT_EQ(p.word(0), 3u);
  EXPECT_EQ(p.word(4), 13u);
  EXPECT_EQ(p("args_get", {16, 64}), 0u);
  EXPECT_EQ(p.text(64, 13), std::string("station\0-n\0003\0", 13));
  EXPECT_EQ(p.word(20), 72u);
  EXPECT_EQ(p("environ_get", {16, 64}), 0u);
  EXPECT_EQ(p.text(64, 7), std::string("POST=7\0", 7));
  EXPECT_EQ(p("clock_time_get", {0, 1, 128}), 0u);
  EXPECT_EQ(p.word(128), static_cast<uint32_t>(1'700'000'000'000'000'000));
  EXPECT_EQ(p("random_get", {256, 32}), 0u);
  WasiProcess same({.seed = 5}), other({.seed = 6});
  EXPECT_EQ(same("random_get", {256, 32}), 0u);
  EXPECT_EQ(other("random_get", {256, 32}), 0u);
  EXPECT_EQ(p.text(256, 32), same.text(256, 32));
  EXPECT_NE(p.text(256, 32), other.text(256, 32));
  EXPECT_EQ(p("random_get", {0x40000 - 4, 8}), 21u);  // outside of the memory
  Datum three{3};
  wasm::CallResult end = p.instance->call("proc_exit", {&three, 1});
  EXPECT_EQ(end.end, wasm::CallResult::End::Exit);
  EXPECT_EQ(end.exit_code, 3u);
}

TEST(Wasi, StreamsAndFiles) {
  TemporaryFolder folder;
  folder.write("night.txt", "frost at four\n");
  std::filesystem::create_directory(folder.file("posts"));
  std::string input = "wet bulb";
  WasiProcess p({.folder = folder.file(""), .input = [&](std::span<uint8_t> to) {
                   size_t n = std::min(to.size(), input.size());
                   std::copy_n(input.begin(), n, to.begin());
                   input.erase(0, n);
                   return n;
                 }});
  EXPECT_EQ(p.write(1, "to output"), 0u);
  EXPECT_EQ(p.write(2, "to errors"), 0u);
  EXPECT_EQ(p.written + "|" + p.errors, "to output|to errors");
  EXPECT_EQ(p.read(0, 3), "wet");
  EXPECT_EQ(p.read(0), " bulb");
  EXPECT_EQ(p.read(0), "");
  EXPECT_EQ(p("fd_prestat_get", {3, 0}), 0u);
  EXPECT_EQ(p.word(4), 1u);
  EXPECT_EQ(p("fd_prestat_get", {4, 0}), 8u);
  auto [error, night] = p.open("night.txt");
  ASSERT_EQ(error, 0u);
  EXPECT_EQ(p.read(night, 5), "frost");
  EXPECT_EQ(p("fd_seek", {night, static_cast<uint64_t>(-5), 2, 900}), 0u);
  EXPECT_EQ(p.read(night), "four\n");
  EXPECT_EQ(p("fd_close", {night}), 0u);
  EXPECT_EQ(p("fd_close", {night}), 8u);
  auto [made, post] = p.open("posts/7.txt", 1 | 4);
  ASSERT_EQ(made, 0u);
  EXPECT_EQ(p.write(post, "3.5 degrees"), 0u);
  EXPECT_EQ(contents(folder.file("posts/7.txt")), "3.5 degrees");
  EXPECT_EQ(p.open("posts/7.txt", 1 | 4).first, 20u);
  EXPECT_EQ(p.open("none.txt").first, 44u);
  p.put(1000, "posts/7.txtposts/8.txt");
  EXPECT_EQ(p("path_rename", {3, 1000, 11, 3, 1011, 11}), 0u);
  EXPECT_TRUE(std::filesystem::exists(folder.file("posts/8.txt")));
  auto [opened, list] = p.open("posts", 2);
  ASSERT_EQ(opened, 0u);
  EXPECT_EQ(p("fd_readdir", {list, 4000, 500, 0, 900}), 0u);
  EXPECT_NE(p.text(4000, p.word(900)).find("8.txt"), std::string::npos);
  p.put(1000, "posts/8.txt");
  EXPECT_EQ(p("path_unlink_file", {3, 1000, 11}), 0u);
  EXPECT_EQ(p("path_remove_directory", {3, 1000, 5}), 0u);
  EXPECT_FALSE(std::filesystem::exists(folder.file("posts")));
}

TEST(Wasi, NothingOutsideOfTheFolderIsReached) {
  TemporaryFolder folder;
  std::filesystem::create_directories(folder.file("inside/deep"));
  folder.write("secret.txt", "secret");
  folder.write("inside/open.txt", "open");
  std::filesystem::create_symlink("../secret.txt", folder.file("inside/link.txt"));
  std::filesystem::create_symlink("..", folder.file("inside/out"));
  std::filesystem::create_symlink("open.txt", folder.file("inside/harmless"));
  WasiProcess p({.folder = folder.file("inside")});
  for (const char* path : {"../secret.txt", "deep/../../secret.txt", "/etc/passwd", "link.txt",
                           "out/secret.txt", "deep/../out/secret.txt", "..", "deep/../..", "out", "harmless"})
    EXPECT_NE(p.open(path).first, 0u) << path;
  for (const char* path : {"open.txt", "./open.txt", "deep/../open.txt", "deep/./../deep/../open.txt"})
    EXPECT_EQ(p.open(path).first, 0u) << path;
  auto [error, deep] = p.open("deep", 2);
  ASSERT_EQ(error, 0u);
  p.put(1000, "../open.txt../../secret.txt");
  EXPECT_EQ(p("path_open", {deep, 0, 1000, 11, 0, 2, 0, 0, 900}), 0u);
  EXPECT_EQ(p("path_open", {deep, 0, 1011, 16, 0, 2, 0, 0, 900}), 76u);
  p.put(1000, "a../b");
  EXPECT_EQ(p("path_symlink", {1000, 4, 3, 1004, 1}), 58u);
  p.put(1000, "out/new.txt");
  EXPECT_NE(p("path_create_directory", {3, 1000, 11}), 0u);
}

}  // namespace
}  // namespace porphyry
