// WebAssembly read as IR: control, memory, tables, what is wrong, hostile bytes, sizes.
#include <fmt/format.h>

#include <map>
#include <random>
#include <set>
#include <sstream>

#include "porphyry/formats/format.h"
#include "porphyry/formats/packed.h"
#include "porphyry/machine/lower.h"
#include "porphyry/print/print.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/wasm_build.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;
using namespace testing::wasm_text;

// Runs a call on all engines; what comes out must be this.
void expect(const std::string& bytes, const std::vector<std::pair<std::vector<uint64_t>, std::string>>& calls,
            const char* name = "f") {
  for (const Engine& e : engines) {
    auto instance = instance_of(e, bytes);
    ASSERT_TRUE(instance.good()) << e.name << render(instance.why());
    for (const auto& [arguments, should] : calls) {
      std::vector<Datum> given;
      for (uint64_t a : arguments) given.push_back({a});
      EXPECT_EQ(outcome((*instance)->call(name, given)), should)
          << e.name << " " << fmt::format("{}", fmt::join(arguments, " "));
    }
  }
}

std::string one_function(std::string_view parameters, std::string_view results, std::string_view locals,
                         const std::string& code) {
  WasmModule m;
  m.memory(1, 3);
  m.exported("f", m.function(m.type(parameters, results), locals, code));
  return m.bytes();
}

// Eight bytes as i64.load reads them.
std::string number(std::string_view bytes) {
  int64_t n;
  std::memcpy(&n, bytes.data(), 8);
  return std::to_string(n);
}

TEST(Wasm, LoopsAndLocals) {
  // the sum and the product of 1 to n, in one loop
  expect(one_function("i", "il", "il",
                      i64(1) + set(2) +
                          block("", loop("", get(0) + op(0x45) + branch_if(1) + get(1) + get(0) + add +
                                                 set(1) + get(2) + get(0) + op(0xad) + op(0x7e) + set(2) +
                                                 get(0) + i32(1) + sub + set(0) + branch(0))) +
                          get(1) + get(2)),
         {{{0}, "0, 1"}, {{5}, "15, 120"}, {{20}, "210, 2432902008176640000"}});
  // a local that only one way writes, read behind both; another one that is never written
  expect(
      one_function("ii", "i", "ii", get(0) + if_("", get(1) + i32(3) + mul + set(2)) + get(2) + get(3) + add),
      {{{0, 7}, "0"}, {{1, 7}, "21"}});
}

TEST(Wasm, ValuesOnTheStackCrossBlocks) {
  // parameters and several results of blocks, by numbers of types
  WasmModule m;
  m.type("ii", "ii");
  m.exported("f",
             m.function(m.type("ii", "i"), "",
                        get(0) + get(1) + block("0", add + i32(10) + get(0) + branch_if(0) + drop + i32(1)) +
                            op(0x6b)));
  expect(m.bytes(), {{{2, 3}, "4294967291"}, {{0, 3}, "2"}});
  // a loop with a parameter: n halved until it is odd
  WasmModule n;
  n.type("i", "i");
  n.exported("f",
             n.function(n.type("i", "i"), "i",
                        get(0) + loop("0", tee(1) + i32(1) + op(0x71) +
                                               if_("i", get(1), get(1) + i32(1) + op(0x76) + branch(1)))));
  expect(n.bytes(), {{{48}, "3"}, {{7}, "7"}});
}

TEST(Wasm, BranchesByTable) {
  std::string table = op(0x0e) + uleb(3) + uleb(0) + uleb(1) + uleb(1) + uleb(2);
  std::string code = block(
      "i", block("i", block("i", i32(100) + get(0) + table) + i32(1) + add + branch(1)) + i32(20) + add);
  expect(one_function("i", "i", "", code),
         {{{0}, "101"}, {{1}, "120"}, {{2}, "120"}, {{3}, "100"}, {{0xffffffff}, "100"}});
}

// What cannot be reached is checked, whatever is on the stack, and never runs.
TEST(Wasm, UnreachableCode) {
  expect(one_function("i", "i", "",
                      get(0) + if_("i", i32(1) + op(0x0f) + add, i32(3) + branch(1) + unreachable + drop)),
         {{{1}, "1"}, {{0}, "3"}});
  expect(one_function("", "i", "",
                      block("i", i32(4) + branch(0) + op(0x1b) + loop("", branch(0)) + if_("", op(1)))),
         {{{}, "4"}});
  expect(one_function("", "i", "", unreachable), {{{}, "trap: 'unreachable' was reached (unreachable)"}});
  // br_table in unreachable code may lead to blocks of several types
  expect(one_function(
             "", "", "",
             block("d", block("f", unreachable + op(0x0e) + uleb(1) + uleb(0) + uleb(1)) + drop + f64(0)) +
                 drop),
         {{{}, "trap: 'unreachable' was reached (unreachable)"}});
}

TEST(Wasm, MemoryIsBounded) {
  std::string load = get(0) + access(0x28, 4);
  expect(one_function("i", "i", "", load),
         {{{0}, "0"},
          {{65528}, "0"},
          {{65529}, "trap: an access outside of the memory (i32.load)"},
          {{0xffffffff}, "trap: an access outside of the memory (i32.load)"}});
  // a store that traps stores nothing; narrow stores keep their neighbours
  expect(one_function("ii", "l", "", get(0) + get(1) + access(0x3b) + i32(0) + access(0x29)),
         {{{1, 0x1ff}, "130816"},
          {{3, 7}, "117571328"},
          {{65535, 0}, "trap: an access outside of the memory (i32.store16)"}});
  // growing, up to the most; what was there stays
  expect(one_function("i", "iii", "i",
                      i32(65532) + i32(77) + access(0x36) + get(0) + op(0x40) + op(0) + op(0x3f) + op(0) +
                          i32(65532) + access(0x28)),
         {{{1}, "1, 2, 77"},
          {{2}, "4294967295, 2, 77"},
          {{1}, "2, 3, 77"},
          {{0}, "3, 3, 77"},
          {{0xffffffff}, "4294967295, 3, 77"}});
}

TEST(Wasm, BulkMemory) {
  std::string copy = get(0) + get(1) + get(2) + prefixed(10) + op(0) + op(0) + i32(8) + access(0x29);
  WasmModule m;
  m.memory(1);
  m.data(0, "frostwatch");
  m.exported("f", m.function(m.type("iii", "l"), "", copy));
  // ranges that overlap, both ways; none at all at the very end
  expect(m.bytes(), {{{8, 0, 8}, number("frostwat")},
                     {{1, 0, 9}, number("tfostwat")},
                     {{65536, 0, 0}, number("tfostwat")},
                     {{65530, 0, 8}, "trap: an access outside of the memory (memory.copy)"},
                     {{0, 0xfffffff0, 32}, "trap: an access outside of the memory (memory.copy)"}});
  WasmModule n;
  n.memory(1);
  n.passive_data("orchard!");
  n.exported("f",
             n.function(n.type("iii", "l"), "",
                        get(0) + get(1) + get(2) + prefixed(8) + uleb(0) + op(0) + i32(0) + access(0x29)));
  n.exported("g", n.function(n.type("", ""), "", prefixed(9) + uleb(0)));
  expect(n.bytes(), {{{0, 0, 8}, number("orchard!")},
                     {{0, 1, 8}, "trap: an access outside of the memory or the data segment (memory.init)"}});
  WasmModule fill;
  fill.memory(1);
  fill.exported("f", fill.function(fill.type("iii", "l"), "",
                                   get(0) + get(1) + get(2) + prefixed(11) + op(0) + i32(0) + access(0x29)));
  expect(fill.bytes(), {{{2, 0x1ab, 3}, number(std::string_view("\0\0\xab\xab\xab\0\0\0", 8))},
                        {{65535, 0, 2}, "trap: an access outside of the memory (memory.fill)"}});
}

TEST(Wasm, CallsThroughTables) {
  WasmModule m;
  uint32_t unary = m.type("i", "i"), other = m.type("l", "l");
  uint32_t twice = m.function(unary, "", get(0) + get(0) + add), wide = m.function(other, "", get(0));
  m.table('r', 4, 8);
  m.elements(1, {twice, wide});
  m.exported("f", m.function(m.type("ii", "i"), "", get(1) + get(0) + op(0x11) + uleb(unary) + uleb(0)));
  expect(m.bytes(), {{{1, 21}, "42"},
                     {{0, 1}, "trap: the table has no function of this type there (call_indirect)"},
                     {{2, 1}, "trap: the table has no function of this type there (call_indirect)"},
                     {{4, 1}, "trap: the table has no function of this type there (call_indirect)"}});
  // tables grow, are filled and copied; references are compared
  WasmModule t;
  uint32_t none = t.type("", "i");
  uint32_t seven = t.function(none, "", i32(7));
  t.exported("seven", seven);
  t.table('r', 2, 10);
  std::string reference = op(0xd2) + uleb(seven);
  std::string grow = reference + get(0) + prefixed(15) + uleb(0) + drop;
  std::string copied = i32(0) + i32(2) + i32(1) + prefixed(14) + uleb(0) + uleb(0);
  t.exported("f", t.function(t.type("i", "iii"), "",
                             grow + copied + prefixed(16) + uleb(0) + i32(0) + op(0x25) + uleb(0) + op(0xd1) +
                                 i32(0) + op(0x11) + uleb(none) + uleb(0)));
  expect(t.bytes(), {{{3}, "5, 0, 7"}, {{5}, "10, 0, 7"}, {{1}, "10, 0, 7"}});
  WasmModule p;
  uint32_t p_none = p.type("", "i"), one = p.function(p_none, "", i32(1)),
           two = p.function(p_none, "", i32(2));
  p.table('r', 4);
  p.passive_elements({one, two});
  p.exported("f", p.function(p.type("iii", "i"), "",
                             get(0) + get(1) + get(2) + prefixed(12) + uleb(0) + uleb(0) + get(0) + op(0x11) +
                                 uleb(p_none) + uleb(0)));
  expect(p.bytes(),
         {{{0, 0, 2}, "1"},
          {{3, 1, 1}, "2"},
          {{3, 1, 2}, "trap: an access outside of the table or the element segment (table.init)"}});
}

TEST(Wasm, GlobalsAndStart) {
  WasmModule m;
  uint32_t nothing = m.type("", "");
  uint32_t count = m.global('l', true, i64(40)), fixed = m.global('f', false, f32(2.5f));
  uint32_t start =
      m.function(nothing, "", op(0x23) + uleb(count) + i64(2) + op(0x7c) + op(0x24) + uleb(count));
  m.start(start);
  m.exported("f", m.function(m.type("", "lf"), "", op(0x23) + uleb(count) + op(0x23) + uleb(fixed)));
  expect(m.bytes(), {{{}, "42, 1075838976"}});
}

TEST(Wasm, EndlessRecursionIsATrap) {
  WasmModule m;
  m.exported("f", m.function(m.type("l", "l"), "", get(0) + i64(1) + op(0x7c) + call(0) + i64(1) + op(0x7c)));
  auto native = instance_of(engines[2], m.bytes());
  ASSERT_TRUE(native.good()) << render(native.why());
  Datum zero;
  for (int k = 0; k < 3; ++k)
    EXPECT_EQ(outcome((*native)->call("f", {&zero, 1})), "trap: the stack is exhausted");
}

// Positions are offsets in the file; names are those of exports and of the name section.
TEST(Wasm, NamesAndPositions) {
  WasmModule m;
  m.exported("chill", m.function(m.type("ii", "i"), "", get(0) + get(1) + add));
  m.function(0, "", get(0));
  std::string locals = op(2) + name(uleb(1) + uleb(0) + uleb(1) + uleb(1) + name("base"));
  std::string functions = op(1) + name(uleb(1) + uleb(1) + name("wet bulb"));
  m.section(0, name("name") + functions + locals);
  auto program = must_load(m.bytes());
  ASSERT_NE(program, nullptr);
  std::string text = write_text(*program->program.module);
  EXPECT_NE(text.find("func chill(instance: ptr, v"), std::string::npos) << text;
  EXPECT_NE(text.find("local func \"wet bulb\"("), std::string::npos) << text;
  size_t at = m.bytes().find(get(0) + get(1) + add) + 4;
  EXPECT_NE(text.find(fmt::format("@1:{}:1", at)), std::string::npos) << at << text;
}

// Line tables of the host compiler, in each version of the format, against another reader of them.
TEST(Wasm, LineTablesBecomePositions) {
  TemporaryFolder folder;
  for (int version : {2, 3, 4, 5}) {
    auto built = run_command(
        fmt::format("cd {} && g++ -gdwarf-{} -gstrict-dwarf -O1 -c {}/bench/twins.cpp -o t.o && ld -Ttext=0 "
                    "-e 0 --unresolved-symbols=ignore-all t.o -o t 2>/dev/null; "
                    "for s in debug_line debug_line_str debug_str; do objcopy -O binary --only-section=.$s "
                    "--set-section-flags .$s=alloc t $s; done; "
                    "readelf -wL t | awk '$2 ~ /^[0-9]+$/ && $3 ~ /^(0x)?[0-9a-f]+$/ {{ print $2, $3 }}'",
                    folder.file(""), version, PORPHYRY_ROOT));
    std::map<uint64_t, std::set<uint32_t>> should;  // by address
    std::istringstream rows(built.out);
    std::string line, address;
    while (rows >> line >> address)
      should[std::stoull(address, nullptr, 16)].insert(static_cast<uint32_t>(std::stoul(line)));
    ASSERT_GT(should.size(), 200u) << built.out.substr(0, 500);
    // a function of as many instructions as the code has bytes
    size_t size = should.rbegin()->first + 1;
    WasmModule m;
    m.memory(1);
    std::string code;
    for (size_t k = 0; k < size; k += 6) code += i32(0) + op(0x2d) + uleb(0) + uleb(0) + drop;
    m.function(m.type("", ""), "", code);
    for (const char* s : {"debug_line", "debug_line_str", "debug_str"})
      if (std::string content = contents(folder.file(s)); !content.empty())
        m.section(0, name(std::string(".") + s) + content);
    auto program = must_load(m.bytes());
    ASSERT_NE(program, nullptr);
    const Module& module = *program->program.module;
    const Function& f = module.function(program->program.functions[0].symbol);
    // The section begins with the number of functions, the size of the body, the number of locals.
    size_t start = m.bytes().find(code.substr(0, 12)) - 2 - uleb(code.size() + 2).size(), checked = 0;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        const PositionRow& row = module.position(f.position(i));
        if (f.op(i) != Op::Load || !row.merged_with.exists()) continue;
        uint64_t at = module.position(row.merged_with).line - start;
        auto after = should.upper_bound(at);
        if (after == should.begin()) continue;
        EXPECT_TRUE((--after)->second.contains(row.line)) << version << ": " << row.line << " at " << at;
        ++checked;
      }
    EXPECT_GT(checked, size / 12) << version;
    EXPECT_NE(module.sources.back().name.find('/'), std::string::npos) << module.sources.back().name;
  }
}

// ---- what is wrong --------------------------------------------------------------------------------------

std::string wrong_of(const std::string& bytes) {
  Realm realm;
  auto program = wasm::read_wasm(realm, "w.wasm", bytes);
  return program.good() ? "nothing" : render(program.why());
}

TEST(Wasm, EachWrongFunctionIsTold) {
  WasmModule m;
  uint32_t t = m.type("if", "i");
  m.function(t, "", get(0) + get(1) + add);
  m.function(t, "", get(0));
  m.function(t, "", get(0) + get(0));
  m.function(t, "", add);
  m.function(t, "", get(0) + get(5));
  std::string told = wrong_of(m.bytes());
  for (const char* part : {"function 0: 'i32.add' takes i32, but f32 is on the stack", "expected: i32",
                           "function 2: 1 value is left on the stack where the block ends",
                           "function 3: 'i32.add' takes i32 from the stack, but the block has none there",
                           "function 4: there is no local 5"})
    EXPECT_NE(told.find(part), std::string::npos) << part << "\n" << told;
  EXPECT_EQ(told.find("function 1"), std::string::npos) << told;
  size_t at = m.bytes().find(get(0) + get(1) + add) + 4;
  EXPECT_NE(told.find(fmt::format("byte {} ({:#x}), function 0", at, at)), std::string::npos) << told;
}

TEST(Wasm, WrongModulesSayWhatAndWhere) {
  auto code = [](std::string_view p, std::string_view r, const std::string& c) {
    return one_function(p, r, "", c);
  };
  const std::string good = code("", "", "");
  const std::pair<std::string, const char*> rows[] = {
      {"", "do not begin as a module does"},
      {good.substr(0, 7), "another version"},
      {good.substr(0, good.size() - 3), "does not fit the"},
      {good + op(13) + op(0), "there is no section 13"},
      {good + op(1) + op(1) + op(0), "comes twice, or behind a later one"},
      {std::string("\0asm\1\0\0\0", 8) + op(3) + op(2) + op(1) + op(0), "there is no type 0"},
      {std::string("\0asm\1\0\0\0", 8) + op(1) + op(6) + "\xff\xff\xff\xff\x0f\x60",
       "are more than the bytes that are left"},
      {std::string("\0asm\1\0\0\0", 8) + op(1) + op(5) + "\xff\xff\xff\xff\x7f", "does not fit 32 bits"},
      {code("", "", block("", op(0x0b))), "code behind the function's end"},
      {code("", "i", block("l", i64(1))), "takes i32, but i64 is on the stack"},
      {code("", "", branch(7)), "there is no block around this 7"},
      {code("", "", if_("i", i32(1))), "takes i32 from the stack"},
      {code("", "", i32(1) + if_("i", i32(1))), "'if' without 'else'"},
      {code("", "", op(5)), "'else' outside of an 'if'"},
      {code("", "", call(9)), "there is no function 9"},
      {code("", "", i32(0) + op(0x28) + uleb(3) + uleb(0) + drop),
       "an alignment of 2^3 bytes for an access of 4"},
      {code("", "", op(0xd2) + uleb(3)), "there is no function 3"},
      {code("", "", i32(0) + op(0x25) + uleb(0) + drop), "there is no table 0"},
      {code("", "", op(0x23) + uleb(0)), "there is no global 0"},
      {code("", "", prefixed(9) + uleb(0)), "data segments are named, but not announced"},
      {code("", "", op(0x06)), "no such instruction"},
      {code("", "", op(0xfe) + op(0)), "no such instruction"},
      {code("", "", i32(1)), "1 value is left"},
      {code("", "i", "\x41\xff\xff\xff\xff\x4f" + std::string()), "does not fit 32 bits and a sign"},
  };
  for (const auto& [bytes, part] : rows)
    EXPECT_NE(wrong_of(bytes).find(part), std::string::npos) << part << "\n" << wrong_of(bytes);
}

// A module of everything, for damage.
std::string full_module() {
  WasmModule m;
  uint32_t t = m.type("ii", "i"), nothing = m.type("", "");
  m.import_function("orchard", "warn", nothing);
  m.import_global("orchard", "base", 'i', false);
  m.memory(1, 4);
  m.table('r', 4, 9);
  m.global('d', true, f64(1.5));
  uint32_t f = m.function(t, "lf",
                          get(0) +
                              if_("i", loop("i", get(0) + i32(1) + sub + tee(0) + branch_if(0) + get(1)),
                                  get(1) + i32(3) + op(0x6d)) +
                              i32(8) + get(1) + access(0x36, 4) + i32(0) + access(0x2d) + add);
  m.elements(1, {f, 0});
  m.passive_elements({f});
  m.data(16, "frost"), m.passive_data("watch");
  m.exported("f", f), m.exported("memory", 0, 2);
  m.function(nothing, "",
             i32(0) + i32(1) + i32(2) + prefixed(8) + uleb(1) + op(0) + i32(5) + i32(6) + i32(1) + op(0x11) +
                 uleb(t) + uleb(0) + drop);
  m.section(0, name("name") + op(1) + name(uleb(1) + uleb(f) + name("wet")));
  return m.bytes();
}

TEST(Wasm, DamagedBytesGiveReasons) {
  const std::string whole = full_module();
  Realm first;
  ASSERT_TRUE(wasm::read_wasm(first, "w", whole).good()) << wrong_of(whole);
  std::mt19937_64 random(9);
  size_t refused = 0, rounds = testing::part_of(20000);
  for (size_t k = 0; k < rounds; ++k) {
    std::string bytes = whole;
    if (k < whole.size())
      bytes.resize(k);
    else
      for (size_t n = 1 + random() % 4; n > 0; --n)
        bytes[8 + random() % (bytes.size() - 8)] = static_cast<char>(random() % 3   ? random()
                                                                     : random() % 2 ? 0xff
                                                                                    : 0x80);
    Realm realm;
    auto program = wasm::read_wasm(realm, "w", bytes);
    refused += !program.good();
    if (!program) {
      ASSERT_FALSE(program.why().empty() || program.why()[0].message.empty()) << k;
    } else if (k % 8 == 0) {
      ASSERT_EQ(render(verify(*program->module)), "") << k;
    }
  }
  EXPECT_GT(refused, rounds / 2);
}

// Few bytes that ask for much: every one is refused, or costs no more than the bytes are worth.
TEST(Wasm, SmallBytesWithLargeClaims) {
  const std::string head("\0asm\1\0\0\0", 8), many = "\xff\xff\xff\xff\x0f";
  for (unsigned id = 1; id <= 11; ++id) EXPECT_NE(wrong_of(head + op(id) + op(5) + many), "nothing") << id;
  // a million functions, each with 50,000 locals; a thousand parameters each
  WasmModule m;
  uint32_t t = m.type("", "");
  for (int k = 0; k < 20000; ++k) m.whole_function(t, uleb(1) + uleb(49000) + "\x7f" + op(0x0b));
  EXPECT_NE(wrong_of(m.bytes()).find("more locals, together"), std::string::npos);
  WasmModule n;
  uint32_t wide = n.type(std::string(1000, 'i'), std::string(1000, 'l'));
  for (int k = 0; k < 20000; ++k) n.whole_function(wide, uleb(0) + unreachable + op(0x0b));
  EXPECT_NE(wrong_of(n.bytes()).find("more parameters, together"), std::string::npos);
  WasmModule c;
  uint32_t gives = c.type("", std::string(1000, 'l')), none = c.type("", "");
  uint32_t f = c.function(gives, "", unreachable);
  std::string calls;
  for (int k = 0; k < 20000; ++k) calls += call(f);
  c.function(none, "", calls + unreachable);
  EXPECT_NE(wrong_of(c.bytes()).find("more results, together"), std::string::npos);
}

// ---- sizes ----------------------------------------------------------------------------------------------

std::string nest(int depth) {
  std::string code, ends;
  for (int k = 0; k < depth; ++k)
    code += std::string("\x02\x40", 2) + get(0) + branch_if(0) + get(0) + i32(1) + add + set(0),
        ends += op(0x0b);
  return one_function("i", "i", "", code + ends + get(0));
}
std::string table_of(int ways) {
  std::string table = op(0x0e) + uleb(static_cast<uint64_t>(ways) - 1), code, open;
  for (int k = 0; k < ways; ++k) table += uleb(static_cast<uint64_t>(k)), open += std::string("\x02\x40", 2);
  for (int k = 0; k < ways; ++k) code += op(0x0b) + get(1) + i32(k) + add + set(1);
  return one_function("i", "i", "i", open + get(0) + table + code + get(1));
}

TEST(Wasm, LargeFunctionsAreRead) {
  expect(nest(static_cast<int>(testing::part_of(10000))), {{{5}, "5"}, {{0}, "1"}});
  expect(table_of(static_cast<int>(testing::part_of(10000))),
         {{{testing::part_of(10000) - 1}, std::to_string(testing::part_of(10000) - 1)}});
  std::string deep;
  for (int k = 0; k < 100000; ++k) deep += std::string("\x03\x40", 2);
  EXPECT_NE(wrong_of(one_function("", "", "", deep)), "nothing");
  deep += std::string(100000, '\x0b');
  EXPECT_EQ(wrong_of(one_function("", "", "", deep)), "nothing");
}

// What was read is a module like any other: written, packed and read again.
TEST(Wasm, WhatWasReadCanBeWritten) {
  Realm realm;
  auto module = load_module(realm, SourceText("w.wasm", full_module()));
  ASSERT_TRUE(module.good()) << render(module.why());
  std::string text = write_text(**module);
  Realm other, third;
  auto again = load_module(other, SourceText("w.por", text));
  ASSERT_TRUE(again.good()) << render(again.why());
  EXPECT_EQ(write_text(**again), text);
  auto packed = load_module(third, SourceText("w.porb", write_packed(**module)));
  ASSERT_TRUE(packed.good()) << render(packed.why());
  EXPECT_EQ(write_packed(**packed), write_packed(**module));
}

}  // namespace
}  // namespace porphyry
