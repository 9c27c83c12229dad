// C structures by value, against the host compiler: random signatures, called both with structures as
// arguments and as results.
#include <dlfcn.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/ir/pen.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/listing.h"
#include "porphyry/machine/passing.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using namespace machine;

using types::i64, types::ptr;

struct Spelled {
  CType type;
  std::string name;  // in C
};

class SignatureMaker {
 public:
  explicit SignatureMaker(uint64_t seed) : random_(seed) {}

  size_t below(size_t n) { return random_() % n; }
  Spelled scalar() {
    static const std::pair<Type, const char*> all[] = {{Type::integer(8), "uint8_t"},
                                                       {Type::integer(16), "uint16_t"},
                                                       {Type::integer(32), "uint32_t"},
                                                       {i64, "uint64_t"},
                                                       {Type::f32(), "float"},
                                                       {Type::f64(), "double"},
                                                       {ptr, "void*"}};
    auto [type, name] = all[below(std::size(all))];
    return {CType::of(type), name};
  }
  Spelled structure(int depth = 0) {
    std::string body;
    std::vector<CType> members;
    for (size_t k = 0, n = 1 + below(4); k < n; ++k) {
      Spelled m = depth < 1 && below(5) == 0 ? structure(depth + 1) : scalar();
      m.type.count = below(4) == 0 ? 1 + below(3) : 1;
      body += fmt::format("  {} m{}[{}];\n", m.name, k, m.type.count);
      members.push_back(std::move(m.type));
    }
    std::string name = fmt::format("S{}", structures_++);
    declared_ += "typedef struct {\n" + body + "} " + name + ";\n";
    return {CType::structure(std::move(members)), name};
  }
  // One that fits the 64 bytes an argument has in the test.
  Spelled small_structure() {
    for (;;)
      if (Spelled s = structure(); c_layout(s.type).bytes <= 64) return s;
  }
  Spelled any() { return below(2) ? small_structure() : scalar(); }
  std::string declared() const { return declared_; }

 private:
  std::mt19937_64 random_;
  std::string declared_;
  size_t structures_ = 0;
};

// The part at `from`, as its parameter wants it; bytes beyond the end are not read.
Value load_part(Pen& pen, Value from, int64_t at, uint64_t bytes, Type as) {
  if (!as.is_integer() && bytes == as.bytes()) return pen.load(as, from, {}, 1, at);
  Type raw = Type::integer(static_cast<unsigned>(8 * bytes)), word = Type::integer(as.bits());
  Value v = pen.load(raw, from, {}, 1, at);
  if (raw != word) v = pen.convert(Op::WidenU, word, v);
  return as == word ? v : pen.convert(Op::Bits, as, v);
}
void store_part(Pen& pen, Value v, Value to, int64_t at, uint64_t bytes) {
  Type t = pen.function().type(v), word = Type::integer(t.bits()),
       raw = Type::integer(static_cast<unsigned>(8 * bytes));
  if (bytes == t.bytes()) return pen.store(v, to, {}, 1, at);
  if (t != word) v = pen.convert(Op::Bits, word, v);
  pen.store(pen.convert(Op::Narrow, raw, v), to, {}, 1, at);
}

TEST(Passing, CStructuresGoAndComeAsTheHostCompilerHasThem) {
  constexpr size_t count = 200;
  SignatureMaker maker(7);
  Realm realm;
  Module module(realm, "structures");
  std::string code = "#include <stdint.h>\n#include <string.h>\n", functions;
  std::vector<std::vector<CType>> taken(count);
  std::vector<CType> given(count);
  const Convention& convention = native_target()->convention;
  size_t in_memory = 0, in_parts = 0;
  for (size_t k = 0; k < count; ++k) {
    // take: puts its arguments one behind the other where its first one says.
    CSignature take{{CType::of(ptr)}, std::nullopt};
    std::string parameters = "unsigned char* out", body;
    for (size_t p = 0, n = 1 + maker.below(6); p < n; ++p) {
      Spelled s = maker.any();
      parameters += fmt::format(", {} p{}", s.name, p);
      body += fmt::format(" memcpy(out, &p{0}, sizeof p{0}); out += 64;", p);
      take.parameters.push_back(s.type);
      taken[k].push_back(s.type);
    }
    functions += fmt::format("void take{}({}) {{{} }}\n", k, parameters, body);
    Passing way = passing(convention, take);
    Symbol callee = module.add_extern_function(fmt::format("take{}", k), way.legal);
    Symbol f = module.add_function(fmt::format("call_take{}", k), {{ptr, ptr}, {}});
    Pen pen(module, module.function(f));
    pen.at_end(module.function(f).add_block());
    auto p = module.function(f).parameters();
    std::vector<Value> arguments;
    for (size_t a = 0; a < way.parameters.size(); ++a) {
      auto [owner, part] = way.parameters[a];
      Type t = way.legal.parameters[a];
      if (owner <= 0) {
        arguments.push_back(owner == 0 ? p[1] : pen.integer(t, 0));
        continue;
      }
      uint64_t size = c_layout(take.parameters[static_cast<size_t>(owner)]).bytes;
      arguments.push_back(
          load_part(pen, p[0], 64 * (owner - 1) + 8 * part, std::min<uint64_t>(8, size - 8 * part), t));
    }
    pen.call(callee, arguments);
    pen.return_values({});

    // give: a structure of the bytes that its argument points to.
    Spelled s = maker.small_structure();
    given[k] = s.type;
    functions += fmt::format(
        "{0} give{1}(const unsigned char* in) {{ {0} s; memcpy(&s, in, sizeof s); return s; }}\n", s.name, k);
    Passing back = passing(convention, CSignature{{CType::of(ptr)}, s.type});
    ++(back.through_memory ? in_memory : in_parts);
    Symbol giver = module.add_extern_function(fmt::format("give{}", k), back.legal);
    Symbol g = module.add_function(fmt::format("call_give{}", k), {{ptr, ptr}, {}});
    Pen pen2(module, module.function(g));
    pen2.at_end(module.function(g).add_block());
    auto q = module.function(g).parameters();
    std::vector<Value> to{q[0]};
    if (back.through_memory) to.insert(to.begin(), q[1]);
    auto results = pen2.call(giver, to);
    uint64_t size = c_layout(s.type).bytes;
    for (size_t r = 0; r < results.size() && !back.through_memory; ++r)
      store_part(pen2, results[r], q[1], static_cast<int64_t>(8 * r), std::min<uint64_t>(8, size - 8 * r));
    pen2.return_values({});
  }
  EXPECT_GT(in_memory, 20u);
  EXPECT_GT(in_parts, 20u);

  testing::TemporaryFolder folder;
  folder.write("s.c", code + maker.declared() + functions);
  auto made = testing::run_command("cd " + folder.file("") + " && gcc -O1 -w -shared -fPIC s.c -o s.so 2>&1");
  ASSERT_EQ(made.status, 0) << made.out;
  void* library = dlopen(folder.file("s.so").c_str(), RTLD_NOW);
  ASSERT_NE(library, nullptr);
  auto jit = Jit::compile(module, *native_target(), {.check_allocation = true},
                          [&](std::string_view name) { return dlsym(library, std::string(name).c_str()); });
  ASSERT_TRUE(jit.good()) << render(jit.why());
  std::mt19937_64 random(1);
  std::vector<unsigned char> in(64 * 8), out(64 * 8);
  auto same = [&](const CType& c, size_t at) {  // padding may hold anything
    for (auto [offset, type] : c_layout(c).members)
      if (std::memcmp(&in[at + offset], &out[at + offset], type.bytes()) != 0) return false;
    return true;
  };
  for (size_t k = 0; k < count; ++k) {
    auto run = [&](const std::string& name) {
      for (unsigned char& b : in) b = static_cast<unsigned char>(random());
      std::fill(out.begin(), out.end(), 0);
      (*(*jit)->function<void(void*, void*)>(name))(in.data(), out.data());
    };
    run(fmt::format("call_take{}", k));
    for (size_t p = 0; p < taken[k].size(); ++p)
      ASSERT_TRUE(same(taken[k][p], 64 * p)) << "take" << k << ", p" << p;
    run(fmt::format("call_give{}", k));
    ASSERT_TRUE(same(given[k], 0)) << "give" << k;
  }
  dlclose(library);
}

// A frame of many pages is touched page by page before the stack pointer goes down.
TEST(Frame, TouchesEachPageOnTheWay) {
  Realm realm;
  auto module =
      testing::must_read(realm,
                         "module m\nextern func far(ptr)\nfunc f() {\na:\n  p = reserve 20000 align "
                         "64\n  call far(p)\n  return\n}\n");
  auto lowered = lower(*module, *native_target());
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  std::vector<std::string> touched;
  for (const EmittedLine& l : lowered->functions[0].lines) {
    std::string text = spell(*native_target(), instruction_at(*native_target(), lowered->functions[0], l));
    if (text.starts_with("mov qword ptr [rsp - ")) touched.push_back(text.substr(21, text.find(']') - 21));
    if (text.starts_with("sub rsp")) break;
  }
  EXPECT_EQ(touched, (std::vector<std::string>{"4096", "8192", "12288", "16384"}));
  auto jit = Jit::compile(*module, *native_target(), {}, [](std::string_view) {
    return reinterpret_cast<void*>(+[](char* p) { p[19999] = 1; });
  });
  ASSERT_TRUE(jit.good()) << render(jit.why());
  (*(*jit)->function<void()>("f"))();
}

}  // namespace
}  // namespace porphyry
