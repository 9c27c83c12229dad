// The tool on WebAssembly: every verb that reads a module, runs by export, by a file of calls, as a command.
#include <fmt/format.h>

#include <fstream>
#include <sstream>

#include "support/process.h"
#include "support/wasm_build.h"

namespace porphyry {
namespace {

using namespace testing;
using namespace testing::wasm_text;

// Sums readings, and says so when it is run as a command.
std::string station() {
  WasmModule m;
  uint32_t write = m.import_function("wasi_snapshot_preview1", "fd_write", m.type("iiii", "i"));
  uint32_t exit = m.import_function("wasi_snapshot_preview1", "proc_exit", m.type("i", ""));
  uint32_t sizes = m.import_function("wasi_snapshot_preview1", "args_sizes_get", m.type("ii", "i"));
  m.memory(1, 9);
  m.data(16, "frost watch\n"), m.data(0, raw(int32_t(16)) + raw(int32_t(12)));
  m.exported("memory", 0, 2);
  uint32_t sum = m.function(m.type("ii", "f"), "f",
                            block("", loop("", get(1) + op(0x45) + branch_if(1) + get(2) + get(0) +
                                                   access(0x2a) + op(0x92) + set(2) + get(0) + i32(4) + add +
                                                   set(0) + get(1) + i32(-1) + add + set(1) + branch(0))) +
                                get(2));
  m.exported("sum", sum);
  m.exported("clear", m.function(m.type("ii", ""), "", get(0) + i32(0) + get(1) + prefixed(11) + op(0)));
  m.exported("divide", m.function(m.type("ii", "i"), "", get(0) + get(1) + op(0x6d)));
  std::string said = i32(1) + i32(0) + i32(1) + i32(8) + call(write) + op(0x1a);
  m.exported("_start", m.function(m.type("", ""), "",
                                  said + i32(32) + i32(36) + call(sizes) + op(0x1a) + i32(32) + access(0x28) +
                                      call(exit)));
  return m.bytes();
}

struct ToolWasm : ::testing::Test {
  TemporaryFolder folder;
  std::string file = folder.write("station.wasm", station());
  Ran tool(const std::string& arguments) const {
    return run_command(fmt::format("cd {} && {} {} 2>&1", folder.file(""), PORPHYRY_TOOL, arguments));
  }
};

TEST_F(ToolWasm, EveryVerbReadsIt) {
  EXPECT_EQ(tool("check station.wasm").status, 0);
  EXPECT_NE(tool("show station.wasm --function sum").out.find("func sum(instance: ptr, v"),
            std::string::npos);
  EXPECT_NE(tool("optimize station.wasm").out.find("func sum("), std::string::npos);
  EXPECT_NE(tool("lower station.wasm -O1 --function sum").out.find("ret"), std::string::npos);
  EXPECT_EQ(tool("why station.wasm").status, 0);
  EXPECT_EQ(tool("pack station.wasm -o s.porb && " PORPHYRY_TOOL " check s.porb").status, 0);
  EXPECT_EQ(tool("unpack station.wasm -o s.por && " PORPHYRY_TOOL " check s.por").status, 0);
  EXPECT_EQ(run_command(fmt::format("{} check < {}", PORPHYRY_TOOL, file)).status, 0);
  folder.write("cut.wasm", station().substr(0, 200));
  Ran cut = tool("check cut.wasm");
  EXPECT_EQ(cut.status, 1);
  EXPECT_NE(cut.out.find("cut.wasm: byte "), std::string::npos) << cut.out;
}

TEST_F(ToolWasm, RunsAnExport) {
  double should = 0;
  std::ifstream night(PORPHYRY_ROOT "/demo/night.txt");
  int rows = 0;
  for (std::string line; rows < 4 && std::getline(night, line);) {
    std::istringstream words(line.substr(0, line.find('#')));
    double minute, dry;
    if (words >> minute >> dry) should += dry, ++rows;
  }
  ASSERT_EQ(rows, 4);
  for (const char* how : {"--on eval", "--on native", "--on native --guarded -O1", "--on sim"}) {
    Ran sum = tool(fmt::format("run station.wasm sum file:{}/demo/night.txt:f32:2 4 {}", PORPHYRY_ROOT, how));
    EXPECT_EQ(sum.status, 0) << how << sum.out;
    EXPECT_NEAR(std::stod(sum.out), should, 1e-4) << how;
  }
  EXPECT_EQ(tool("run station.wasm clear zero:4 2 --memory --on native").out, "zero:4: unchanged\n");
  EXPECT_EQ(tool("run station.wasm divide 7 -2").out, "-3\n");
  Ran trap = tool("run station.wasm divide 7 0 --on native");
  EXPECT_EQ(trap.status, 1);
  EXPECT_NE(trap.out.find("a trap: a division by zero, or with a quotient that does not fit (i32.div_s), in "
                          "'divide' at byte "),
            std::string::npos)
      << trap.out;
  EXPECT_EQ(tool("run station.wasm sun 1 2").status, 2);
  EXPECT_EQ(tool("run station.wasm divide 1").status, 2);
  EXPECT_NE(tool("run station.wasm divide 1.5 2").out.find("'1.5' is not a number of type i32"),
            std::string::npos);
}

TEST_F(ToolWasm, RunsCallsOfAFileInOneInstance) {
  folder.write(
      "calls.txt",
      "# what is left of a division is kept\nleft = divide 84 2\ndivide $left 4\ndivide $1 0\ndivide 1 1\n");
  Ran ran = tool("run station.wasm --calls calls.txt --on native");
  EXPECT_EQ(ran.status, 1);
  EXPECT_EQ(ran.out.substr(0, ran.out.find("a trap")),
            "divide 84 2 = 42\ndivide $left 4 = 10\ndivide $1 0\n");
  EXPECT_NE(ran.out.find(", called as 'divide $1 0'"), std::string::npos) << ran.out;
  EXPECT_EQ(tool("run station.wasm divide 1 1 --calls calls.txt").status, 2);
}

TEST_F(ToolWasm, RunsACommand) {
  Ran ran = tool("run station.wasm --on native");
  EXPECT_EQ(ran.out, "frost watch\n");
  EXPECT_EQ(ran.status, 1);
  Ran more = tool("run station.wasm _start one two --on eval --env POST=7");
  EXPECT_EQ(more.out, "frost watch\n");
  EXPECT_EQ(more.status, 3);
  EXPECT_EQ(tool("run station.wasm --env POST").status, 2);
  EXPECT_EQ(tool("run station.wasm --folder nowhere").status, 2);
}

TEST_F(ToolWasm, ImportsThatNobodyGivesAreTold) {
  WasmModule m;
  m.import_function("orchard", "warn", m.type("", ""));
  m.exported("f", m.function(0, "", ""));
  folder.write("warn.wasm", m.bytes());
  Ran ran = tool("run warn.wasm f");
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.out.find(
                "1 import is missing, or of another type:\n  orchard.warn, a function (): nothing gives it"),
            std::string::npos)
      << ran.out;
}

TEST_F(ToolWasm, GivesAnObjectAndItsHeader) {
  ASSERT_EQ(tool("lower station.wasm -O1 -o station.o --header station.h").status, 0);
  folder.write("main.c",
               "#include \"station.h\"\n#include <stdio.h>\nstatic int32_t w(void* c, int32_t a, int32_t b, "
               "int32_t d, int32_t e) { return 0; }\nstatic void x(void* c, int32_t n) {}\nstatic int32_t "
               "s(void* c, int32_t a, int32_t b) { return 0; }\n"
               "int main(void) { station_imports i = {w, x, s, 0}; station* it = station_make_instance(&i); "
               "float f[2] = {1.5f, 2.25f}; __builtin_memcpy(station_memory(it) + 64, f, 8);\n"
               "printf(\"%g %d\\n\", station_sum(it, 64, 2), station_divide(it, 9, 2)); "
               "station_free_instance(it); }\n");
  Ran built =
      run_command(fmt::format("cd {} && gcc main.c station.o -o main 2>&1 && ./main", folder.file("")));
  EXPECT_EQ(built.out, "3.75 4\n");
  folder.write("m.por", "module m\nfunc f() {\na:\n  return\n}\n");
  EXPECT_EQ(tool("lower m.por -o m.o --header m.h").status, 2);
  EXPECT_EQ(tool("run m.por f --calls calls.txt").status, 2);
}

}  // namespace
}  // namespace porphyry
