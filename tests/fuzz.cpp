// Feeds a reader what nobody wrote: good files with bytes changed, cut, doubled, swapped and mixed, and plain
// noise. Whatever comes, the reader gives diagnostics or a module; what passes the verifier is written, read
// again and run for a little while.
//
//   porphyry_fuzz text|packed|wasm COUNT [SEED]        says how much was refused, or dies showing the last
//   input's seed
#include <fmt/format.h>

#include <cstdlib>
#include <cstring>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/format.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/print.h"
#include "porphyry/sample/sample.h"
#include "support/wasm_random.h"

namespace {

using namespace porphyry;

class Mutator {
 public:
  explicit Mutator(uint64_t seed) : random_(seed) {}

  size_t below(size_t n) { return n ? random_() % n : 0; }

  std::string changed(std::string s, const std::string& other, size_t from) {
    for (size_t k = below(3) ? 1 : 1 + below(5); k-- > 0;) {
      if (s.size() <= from) return s;
      size_t at = from + below(s.size() - from), n = 1 + below(std::min<size_t>(40, s.size() - at));
      switch (below(13)) {
        case 0: s[at] = static_cast<char>(random_()); break;
        case 1: s[at] = static_cast<char>(s[at] ^ 1 << below(8)); break;
        case 2: s.erase(at, n); break;
        case 3: s.resize(at); break;
        case 4: s.insert(at, s.substr(from + below(s.size() - from), n)); break;
        case 5: s.insert(at, word()); break;
        case 6: s.replace(at, n, other.substr(below(other.size()), n)); break;
        case 7: s.insert(at, std::string(1 + below(300), s[at])); break;
        case 8:
        case 9:  // a small step away, which often means something
          s[at] = static_cast<char>(s[at] + (below(2) ? 1 : -1));
          break;
        case 10:
        case 11:  // another digit
          for (size_t tries = 0; tries < 200 && !(s[at] >= '0' && s[at] <= '9'); ++tries)
            at = from + below(s.size() - from);
          s[at] = static_cast<char>('0' + below(10));
          break;
        default: std::memset(s.data() + at, below(2) ? 0 : 0xff, n);
      }
    }
    return s;
  }
  std::string noise(size_t most) {
    std::string s(below(most), 0);
    for (char& c : s) c = static_cast<char>(below(4) ? 32 + below(96) : random_());
    return s;
  }

 private:
  std::string word() {
    static const char* const words[] = {
        "(",           ")", "[",  "]",      "{",          "}",    "\n",  "func ", "i128", "f32[1024]",
        "99999999999", "-", "\"", "kinds ", "@1:2:3 in ", "and ", "as ", "nan(",  "else", "where "};
    return words[below(std::size(words))];
  }
  std::mt19937_64 random_;
};

// What is read must be fit for use.
void use(const Module& module, bool run) {
  std::string text = write_text(module);
  Realm realm;
  std::string packed = write_packed(module);
  if (!load_packed(realm, "again.porb", packed)) std::abort();
  if (!run) return;
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    Symbol s(k);
    if (!module.is_function(s)) continue;
    size_t lanes = 0;
    for (Type t : module.function(s).signature().parameters) lanes += t.lanes();
    if (lanes > 4096) continue;
    Evaluator e(module, {.step_limit = 2000, .frame_limit = 100, .memory_limit = 1 << 20});
    e.call(s, std::vector<Datum>(lanes));
  }
}

Result<std::unique_ptr<Module>> load_as(std::string_view form, Realm& realm, const SourceText& source) {
  auto module = format_named(form)->load(realm, source);
  if (!module || form != "wasm") return module;
  if (Diagnostics wrong = verify(**module); !wrong.empty()) std::abort();  // it does not verify itself
  return module;
}

std::string sealed(std::string bytes) {
  if (bytes.size() < packed_header_bytes) return bytes;
  uint64_t size = bytes.size() - packed_header_bytes;
  uint64_t sum = packed_checksum(std::string_view(bytes).substr(packed_header_bytes));
  for (unsigned k = 0; k < 8; ++k) {
    bytes[8 + k] = static_cast<char>(size >> 8 * k);
    bytes[16 + k] = static_cast<char>(sum >> 8 * k);
  }
  return bytes;
}

}  // namespace

int main(int count, char** arguments) {
  bool text = count > 1 && std::strcmp(arguments[1], "text") == 0;
  bool packed = count > 1 && std::strcmp(arguments[1], "packed") == 0;
  bool wasm = count > 1 && std::strcmp(arguments[1], "wasm") == 0;
  if (count < 3 || !(text || packed || wasm))
    return fmt::print(stderr, "porphyry_fuzz text|packed|wasm COUNT [SEED]\n"), 2;
  uint64_t inputs = std::strtoull(arguments[2], nullptr, 10),
           seed = count > 3 ? std::strtoull(arguments[3], nullptr, 10) : 1;
  uint64_t refused = 0, loaded = 0;
  std::string good, other;
  for (uint64_t k = 0; k < inputs; ++k) {
    Mutator m(seed + k);
    if (k % 50 == 0) {  // another pair of good files now and then
      Realm realm;
      auto small = [&](uint64_t n) {
        if (wasm) return testing::WasmSample(n).make();
        Sample s = make_sample(realm, {.seed = n, .functions = 1, .statements = 6});
        return text ? write_text(*s.module) : write_packed(*s.module);
      };
      other = good.empty() ? small(seed + k + 7) : good;
      good = small(seed + k);
      if (k == 0)
        if (auto file = read_file(PORPHYRY_ROOT "/tests/data/language.por"); file && text) good = *file;
    }
    std::string input = m.below(20) == 0 ? m.noise(400)
                                         : m.changed(good, other,
                                                     text          ? 0
                                                     : wasm        ? m.below(10) ? 8 : 0
                                                     : m.below(10) ? 24
                                                                   : 0);
    if (packed && m.below(20)) input = sealed(input);
    Realm realm;
    SourceText source("fuzz", input);
    auto module = load_as(arguments[1], realm, source);
    if (!module && module.why().empty())
      return fmt::print("seed {}: refused without a reason\n", seed + k), 1;
    ++(module.good() ? loaded : refused);
    if (module) use(**module, k % 4 == 0);
  }
  fmt::print("{} inputs: {} refused with reasons, {} read\n", inputs, refused, loaded);
}
