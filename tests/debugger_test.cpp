// The system's debugger steps through random programs line by line and reads every variable. Where variables
// are observed, it sees the lines in the order in which the evaluator passes them, each variable with the
// value it has there; at the other levels what it can read are values that the variable has, in the order in
// which it has them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/object/object.h"
#include "porphyry/passes/passes.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

// A program as a front end would write it: each statement on a line of its own, variables in slots, a `watch`
// where one gets a value.
class LinedProgram {
 public:
  explicit LinedProgram(uint64_t seed) : random_(seed) {
    text_ = "module posts\nsource 1 \"posts.frost\"\n\nfunc f(n: i64, base: f64, tag: i8) -> i64 {\nstart:\n";
    for (const Variable& v : variables()) put("{}_slot = reserve {} align 16", v.name, v.bytes);
    for (const Variable& v : variables()) {
      ++line_;
      set(v, v.start);
    }
    statements(3, 4 + random_() % 6);
    ++line_;
    const std::string r = fresh();
    put("{} = load i64 [count_slot]", r);
    put("return {}", r);
    text_ += "}\n";
  }
  const std::string& text() const { return text_; }

  struct Variable {
    const char *name, *type, *start;
    unsigned bytes;
  };
  static std::span<const Variable> variables() {
    static constexpr Variable all[] = {
        {"count", "i64", "n", 8},  {"level", "f64", "base", 8},           {"mark", "i8", "tag", 1},
        {"steps", "i32", "7", 4},  {"frosty", "bool", "false", 1},        {"dew", "f32", "0.5", 4},
        {"tally", "i13", "-5", 2}, {"row", "i32[4]", "{1, -2, 3, 4}", 16}};
    return all;
  }

 private:
  template <class... Arguments>
  void put(const char* form, const Arguments&... arguments) {
    text_ += "  " + fmt::format(fmt::runtime(form), arguments...);
    if (line_) text_ += fmt::format(" @1:{}:1", line_);
    text_ += "\n";
  }
  std::string fresh() { return fmt::format("t{}", ++temporaries_); }
  const Variable& any(bool number) {
    for (;;)
      if (const Variable& v = variables()[random_() % variables().size()];
          !number || std::string_view(v.type) != "bool")
        return v;
  }
  std::string get(const Variable& v) {
    std::string t = fresh();
    put("{} = load {} [{}_slot]", t, v.type, v.name);
    return t;
  }
  void set(const Variable& v, const std::string& value) {
    put("store {}{}, [{}_slot]", value, value[0] == 't' || value == v.start ? colon(v, value) : "", v.name);
    const std::string t = get(v);
    put("watch {} = {}", v.name, t);
  }
  // Literals say their type.
  static std::string colon(const Variable& v, const std::string& value) {
    const bool is_literal = value[0] == '{' || value[0] == '-' ||
                            std::isdigit(static_cast<unsigned char>(value[0])) || value == "false";
    return is_literal ? std::string(":") + v.type : "";
  }

  void assignment() {
    const Variable& v = any(true);
    const std::string a = get(v), t = fresh();
    const bool is_float = v.type[0] == 'f';
    const char* operations[] = {"add", "sub", "mul", is_float ? "max" : "xor"};
    const char* op = operations[random_() % 4];
    if (random_() % 2)
      put("{} = {} {}, {}", t, op, a, get(v));
    else if (is_float)
      put("{} = {} {}, {}.25", t, op, a, random_() % 9);
    else
      put("{} = {} {}, {}", t, op, a, random_() % 90 + 1);
    set(v, t);
  }
  void comparison() {
    const std::string a = get(variables()[0]), t = fresh();
    put("{} = lt.s {}, {}", t, a, random_() % 50);
    set(variables()[4], t);
  }

  void statements(int depth, size_t count) {
    for (size_t k = 0; k < count; ++k) {
      ++line_;
      switch (depth > 0 ? random_() % 6 : random_() % 3) {
        case 4: branch(depth); break;
        case 5: loop(depth); break;
        case 2: comparison(); break;
        default: assignment();
      }
    }
  }
  void branch(int depth) {
    const unsigned number = ++blocks_;
    put("when {} go yes{} else no{}", get(variables()[4]), number, number);
    text_ += fmt::format("yes{}:\n", number);
    statements(depth - 1, 1 + random_() % 3);
    ++line_, put("go join{}", number);
    text_ += fmt::format("no{}:\n", number);
    statements(depth - 1, random_() % 3);
    ++line_, put("go join{}", number);
    text_ += fmt::format("join{}:\n", number);
  }
  void loop(int depth) {
    const unsigned number = ++blocks_;
    put("go loop{}(0)", number);
    text_ += fmt::format("loop{0}(i{0}: i32):\n", number);
    statements(depth - 1, 1 + random_() % 3);
    ++line_;
    put("i{0}_next = add i{0}, 1", number);
    put("more{0} = lt.s i{0}_next, {1}", number, 1 + random_() % 3);
    put("when more{0} go loop{0}(i{0}_next) else behind{0}", number);
    text_ += fmt::format("behind{}:\n", number);
  }

  std::mt19937_64 random_;
  std::string text_;
  unsigned line_ = 0, temporaries_ = 0, blocks_ = 0;
};

// A place at which a run stops, and what is known of the variables there, as text.
struct Stop {
  uint32_t line;
  std::map<std::string, std::string> values;
};

std::string number_text(Type t, std::span<const Datum> lanes) {
  std::string out;
  for (Datum d : lanes) {
    uint64_t bits = t.bits() < 64 ? d.bits & ((uint64_t(1) << t.bits()) - 1) : d.bits;
    out += fmt::format("{}{:x}", out.empty() ? "" : " ", bits);
  }
  return out;
}

constexpr uint64_t arguments[] = {23, 0x4004000000000000, 0xfd};  // 23, 2.5, -3

// What the evaluator passes, with all that the variables have had before.
std::vector<Stop> passed(const Module& source, std::map<std::string, std::vector<std::string>>& histories) {
  auto module = clone(source);
  EXPECT_EQ(render(run_pipeline(*module, *read_pipeline("mark-lines", standard_passes()))), "");
  std::vector<Stop> out;
  std::map<std::string, std::string> now;
  const Function& f = module->function(Symbol(0));
  EvaluatorOptions options;
  options.see = [&](const Sighting& s) {
    if (f.op(s.at) == Op::Here) {
      const uint32_t line = module->position(f.position(s.at)).line;
      if (out.empty() || out.back().line != line) out.push_back({line, now});
      return;
    }
    const std::string name(module->text(f.watched(s.at)));
    const std::string value = number_text(f.type(f.operand(s.at, 0)).element(), s.value);
    now[name] = value;
    histories[name].push_back(value);
  };
  Evaluator evaluator(*module, options);
  Datum data[3];
  for (size_t k = 0; k < 3; ++k) data[k].bits = arguments[k];
  const Outcome end = evaluator.call(Symbol(0), data);
  EXPECT_EQ(end.end, Outcome::End::Result) << end.message;
  return out;
}

// What the debugger sees of the same run.
std::vector<Stop> debugged(const Module& module, const Level& level, const testing::TemporaryFolder& folder) {
  auto optimized = clone(module);
  EXPECT_EQ(render(run_pipeline(*optimized, level.pipeline())), "");
  auto options = machine::LowerOptions::at(level);
  options.exported = true, options.check_allocation = true;
  if (options.variables == machine::Variables::Ignored) options.variables = machine::Variables::Followed;
  auto lowered = machine::lower(*optimized, *native_target(), options);
  EXPECT_TRUE(lowered.good()) << render(lowered.why());
  folder.write("f.o", elf_bytes(make_object(*lowered, *native_target())));
  folder.write("main.c", "long f(long, double, signed char);\nint main() { return f(23, 2.5, -3) & 1; }\n");
  folder.write("steps.py", R"(
import gdb, struct
def bits(v):
    t = v.type.strip_typedefs()
    if t.code == gdb.TYPE_CODE_ARRAY:
        return " ".join(bits(v[k]) for k in range(t.range()[0], t.range()[1] + 1))
    if t.code == gdb.TYPE_CODE_FLT:
        form = ("<f", "<I") if t.sizeof == 4 else ("<d", "<Q")
        return "%x" % struct.unpack(form[1], struct.pack(form[0], float(v)))[0]
    wide = {"i13": 13, "bool": 1}.get(t.name, 8 * t.sizeof)
    return "%x" % (int(v) & ((1 << wide) - 1))
gdb.execute("break f", to_string=True)
gdb.execute("run", to_string=True)
while gdb.selected_thread() and gdb.selected_frame().name() == "f":
    frame = gdb.selected_frame()
    out = ["stop", str(frame.find_sal().line)]
    for s in frame.block():
        if s.is_variable or s.is_argument:
            v = s.value(frame)
            out.append(s.name + "=" + ("gone" if v.is_optimized_out else bits(v)))
    print(";".join(out))
    gdb.execute("step", to_string=True)
)");
  const testing::Ran ran = testing::run_command(fmt::format(
      "cd {} && cc -g0 -no-pie main.c f.o -o program && gdb -nx -batch -ex 'set debuginfod enabled off' "
      "-ex 'source steps.py' program 2>&1",
      folder.file(".")));
  std::vector<Stop> out;
  std::istringstream text(ran.out);
  for (std::string row; std::getline(text, row);) {
    if (!row.starts_with("stop;")) continue;
    std::istringstream words(row.substr(5));
    std::string word;
    std::getline(words, word, ';');
    Stop stop{static_cast<uint32_t>(std::stoul(word)), {}};
    while (std::getline(words, word, ';'))
      stop.values[word.substr(0, word.find('='))] = word.substr(word.find('=') + 1);
    out.push_back(std::move(stop));
  }
  EXPECT_FALSE(out.empty()) << ran.out;
  return out;
}

TEST(Debugger, ReadsEveryVariableAtEveryLine) {
  size_t stops = 0, values = 0, at_levels[2] = {0, 0};
  for (uint64_t seed = 1; seed <= 1 + testing::part_of(4); ++seed) {
    Realm realm;
    const LinedProgram program(seed);
    auto module = testing::must_read(realm, program.text());
    std::map<std::string, std::vector<std::string>> histories;
    const std::vector<Stop> should = passed(*module, histories);
    const testing::TemporaryFolder folder;
    const std::vector<Stop> is = debugged(*module, *level_named("-Og"), folder);
    ASSERT_EQ(is.size(), should.size()) << program.text();
    for (size_t k = 0; k < is.size(); ++k, ++stops) {
      ASSERT_EQ(is[k].line, should[k].line) << "stop " << k << " of seed " << seed << "\n" << program.text();
      for (const auto& [name, value] : should[k].values) {
        ASSERT_EQ(is[k].values.at(name), value)
            << name << " at line " << is[k].line << ", stop " << k << " of seed " << seed << "\n"
            << program.text();
        ++values;
      }
    }
    for (const Level& level : all_levels()) {
      if (level.observe) continue;
      std::map<std::string, size_t> reached;
      for (const Stop& stop : debugged(*module, level, folder))
        for (const auto& [name, value] : stop.values) {
          const auto history = histories.find(name);
          if (history == histories.end()) continue;  // a parameter
          ++at_levels[value != "gone"];
          size_t& at = reached[name];
          if (value == "gone") continue;
          const auto found =
              std::find(history->second.begin() + static_cast<ptrdiff_t>(at), history->second.end(), value);
          ASSERT_TRUE(found != history->second.end()) << name << " is " << value << " at line " << stop.line
                                                      << ", " << level.name << ", seed " << seed << "\n"
                                                      << program.text();
          at = static_cast<size_t>(found - history->second.begin());
        }
    }
  }
  std::printf("%zu stops with %zu values; at other levels %zu read, %zu gone\n", stops, values, at_levels[1],
              at_levels[0]);
  EXPECT_GT(values, 400u / testing::checked_part);
  EXPECT_GT(at_levels[1], at_levels[0] / 8);
}

// A function that was put in place of two calls is a frame of its own in each, with its own variables.
// A value that is the bits of another one has no register of its own: the variable is in the other's.
TEST(Debugger, IsToldOfValuesThatShareARegister) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
source 1 "frost.fml"
func f(a: i32, p: ptr) -> i8 {
enter:
  c = lt.s a, 5     @1:1:1
  x = widen.u i8 c  @1:2:1
  watch cold = x    @1:2:1
  store x, [p]      @1:3:1
  k = bits i64 p    @1:4:1
  watch number = k  @1:4:1
  store k, [p + 8]  @1:5:1
  return x          @1:6:1
}
)");
  auto lowered = machine::lower(*module, *native_target(), {.variables = machine::Variables::Followed});
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  std::vector<std::string_view> told;
  for (const auto& fact : lowered->functions[0].variables) {
    if (fact.is_parameter) continue;
    told.push_back(realm.text(fact.name));
    ASSERT_EQ(fact.stays.size(), 1u) << told.back();
    EXPECT_EQ(fact.stays[0].to, lowered->functions[0].bytes.size()) << told.back() << ", to the end";
  }
  EXPECT_EQ(told, (std::vector<std::string_view>{"cold", "number"}));
}

TEST(Debugger, SeesCallsThatWereInlined) {
  const std::string text = R"(module posts
source 1 "posts.frost"

local func gap(base: i64, t: i64) -> i64 {
enter:
  cold = sub base, t            @1:2:3
  watch cold = cold            @1:2:3
  g = max.s cold, 0             @1:4:3
  sq = mul g, g                  @1:5:3
  return sq                      @1:6:3
}

func both(base: i64, a: ptr) -> i64 {
enter:
  x = load i64 [a]               @1:9:3
  g1 = call gap(base, x)         @1:10:3
  y = load i64 [a + 8]           @1:11:3
  g2 = call gap(base, y)         @1:12:3
  cold = add g1, g2             @1:13:3
  watch cold = cold            @1:13:3
  store cold, [a]               @1:14:3
  return cold                   @1:15:3
}
)";
  Realm realm;
  auto module = testing::must_read(realm, text);
  const Level level = *level_named("-O2");
  ASSERT_EQ(render(run_pipeline(*module, level.pipeline())), "");
  auto options = machine::LowerOptions::at(level);
  options.exported = true, options.variables = machine::Variables::Followed;
  auto lowered = machine::lower(*module, *native_target(), options);
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  const testing::TemporaryFolder folder;
  folder.write("f.o", elf_bytes(make_object(*lowered, *native_target())));
  folder.write("main.c",
               "long both(long, long*);\nint main() { long a[2] = {3, 4}; return both(10, a) != 85; }\n");
  const testing::Ran ran = testing::run_command(
      fmt::format("cd {} && cc -g0 -no-pie main.c f.o -o program && ./program && gdb -nx -batch -ex 'set "
                  "debuginfod enabled off' "
                  "-ex 'break posts.frost:4' -ex run -ex 'bt 2' -ex 'print cold' -ex continue -ex 'bt 2' "
                  "-ex 'print cold' "
                  "-ex 'break posts.frost:14' -ex continue -ex 'print cold' program 2>&1",
                  folder.file(".")));
  std::string told;
  std::istringstream rows(ran.out);
  for (std::string row; std::getline(rows, row);)
    if (row.starts_with("#") || row.starts_with("$")) told += row + "\n";
  const std::string should[] = {"#0  gap () at ./posts.frost:4\n",
                                "#1  both (base=10, a=0x",
                                ") at ./posts.frost:10\n",
                                "$1 = 7\n",
                                "#0  gap () at ./posts.frost:4\n",
                                ") at ./posts.frost:12\n",
                                "$2 = 6\n",
                                "$3 = 85\n"};
  size_t at = 0;
  for (const std::string& part : should) {
    at = told.find(part, at);
    ASSERT_NE(at, told.npos) << part << "in\n" << ran.out;
    at += part.size();
  }
}

}  // namespace
}  // namespace porphyry
