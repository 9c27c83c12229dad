// Objects of random programs as the system's own readers see them: symbols, sections, relocations, where
// instructions begin, source lines, call frames. Nothing here asks our reader.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <set>
#include <sstream>

#include "porphyry/object/object.h"
#include "porphyry/render/listing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::run_command;

std::vector<std::vector<std::string>> words_of(const std::string& text) {
  std::vector<std::vector<std::string>> out;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) {
    std::istringstream row(line);
    out.emplace_back();
    for (std::string word; row >> word;) out.back().push_back(word);
  }
  return out;
}

// A program, what it became, and the file.
class Judged {
 public:
  explicit Judged(uint64_t seed) {
    program_ = make_sample(realm_, {.seed = seed, .layout = MemoryLayout{}, .lanes = seed % 3 ? 0u : 40u});
    auto made =
        machine::lower(*program_.module, *native_target(),
                       {.variables = seed % 2 ? machine::Variables::Followed : machine::Variables::Observed,
                        .exported = true});
    EXPECT_TRUE(made.good()) << render(made.why());
    lowered = std::move(*made);
    object = make_object(lowered, *native_target());
    file = folder_.write("o.o", elf_bytes(object));
  }
  const Module& module() const { return *program_.module; }
  std::string asked(const std::string& command) const {
    testing::Ran r = run_command("LC_ALL=C " + command + " " + file + " 2>&1");
    EXPECT_EQ(r.status, 0) << command << "\n" << r.out;
    return r.out;
  }

  machine::LoweredModule lowered;
  ObjectFile object;
  std::string file;

 private:
  testing::TemporaryFolder folder_;
  Realm realm_;
  Sample program_;
};

struct NamedPlace {
  std::string section;
  uint64_t at, size;
};

// By name: where the system's reader finds the symbol.
std::map<std::string, NamedPlace> places_of(const Judged& judged) {
  std::map<std::string, NamedPlace> out;
  // OBJECT is: value, flags …, section <tab> size name
  for (const auto& w : words_of(judged.asked("objdump -t -w"))) {
    if (w.size() < 4 || w[0].size() != 16) continue;
    out[w.back()] = {w[w.size() - 3], std::stoull(w[0], nullptr, 16),
                     std::stoull(w[w.size() - 2], nullptr, 16)};
  }
  return out;
}

TEST(Judges, SymbolsAreThoseOfTheModule) {
  size_t functions = 0, data = 0;
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Judged judged(seed);
    std::map<std::string, std::vector<std::string>> rows;
    for (auto& w : words_of(judged.asked("readelf -W -s")))
      if (w.size() == 8 && w[0].back() == ':')
        rows[w[7]] = w;  // number, value, size, type, bind, visibility, section, name
    std::map<Symbol, size_t> sizes;
    for (const auto& f : judged.lowered.functions) sizes[f.symbol] = f.bytes.size();
    for (size_t k = 0; k < judged.module().symbol_count(); ++k) {
      const SymbolRow& row = judged.module()[Symbol(k)];
      std::string name(judged.module().symbol_name(Symbol(k)));
      auto found = rows.find(name);
      if (row.kind == SymbolKind::ExternFunction || row.kind == SymbolKind::ExternData) {
        if (found == rows.end()) continue;  // nobody uses it
        EXPECT_EQ(found->second[6], "UND") << name;
        continue;
      }
      ASSERT_TRUE(found != rows.end()) << name;
      const auto& w = found->second;
      EXPECT_EQ(w[3], row.kind == SymbolKind::Function ? "FUNC" : "OBJECT") << name;
      EXPECT_EQ(w[4], row.is_local ? "LOCAL" : row.is_weak ? "WEAK" : "GLOBAL") << name;
      uint64_t size = row.kind == SymbolKind::Function ? sizes[Symbol(k)] : row.data.size();
      EXPECT_EQ(std::stoull(w[2], nullptr, 0), size) << name;
      ++(row.kind == SymbolKind::Function ? functions : data);
    }
  }
  EXPECT_GT(functions, 100u);
  EXPECT_GT(data, 25u);
}

// Assembled text and object: the same instructions at the same places, relocations, and call frames.
TEST(Judges, AssembledTextIsTheSameObject) {
  for (uint64_t seed = 1; seed <= testing::part_of(30); ++seed) {
    Judged judged(seed);
    testing::TemporaryFolder folder;
    std::string source = folder.write("o.s", render_assembly(judged.lowered, *native_target()));
    auto made = run_command("as " + source + " -o " + folder.file("o.o") + " 2>&1");
    ASSERT_EQ(made.status, 0) << "seed " << seed << ": " << made.out.substr(0, 500);
    for (const char* question :
         {"objdump -d -r", "objdump --dwarf=frames-interp", "readelf -W --debug-dump=info,loc,Ranges"}) {
      auto told = [&](const std::string& file) {
        return run_command("LC_ALL=C " + std::string(question) + " " + file + " | tail -n +3").out;
      };
      ASSERT_TRUE(told(judged.file) == told(folder.file("o.o"))) << "seed " << seed << ": " << question;
    }
  }
}

TEST(Judges, NothingIsOddAboutTheFiles) {
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Judged judged(seed);
    std::string all = judged.asked("readelf -W -a --debug-dump=info,abbrev,frames,rawline,loc,Ranges");
    for (const char* word : {"Warning", "warning:", "Error", "error:", "corrupt", "unknown value"})
      EXPECT_EQ(all.find(word), std::string::npos) << seed << ": " << all.substr(all.find(word), 200);
    // A linker takes it as it is and makes another object of it.
    EXPECT_EQ(run_command("ld -r " + judged.file + " -o " + judged.file + ".again 2>&1").out, "");
    // Section sizes and alignments.
    std::map<std::string, std::vector<std::string>> rows;
    for (auto& w : words_of(judged.asked("readelf -W -S"))) {
      size_t first = !w.empty() && w[0] == "[" ? 2 : 1;  // [ 1] or [12]
      if (w.size() >= first + 9 && w[0][0] == '[')
        rows[w[first]] = {w.begin() + static_cast<ptrdiff_t>(first), w.end()};
    }
    for (const ObjectFile::Section& s : judged.object.sections) {
      ASSERT_TRUE(rows.contains(s.name)) << s.name;
      const auto& w = rows[s.name];  // name type address offset size entry flags …
      EXPECT_EQ(w[1] == "NOBITS", s.zeros) << s.name;
      EXPECT_EQ(std::stoull(w[4], nullptr, 16), s.zeros ? s.size : s.bytes.size()) << s.name;
      EXPECT_EQ(std::stoull(w.back()), s.align) << s.name;
      std::string flags = w.size() > 9 ? w[6] : "";
      EXPECT_EQ(flags.find('X') != flags.npos, s.is_code) << s.name;
      EXPECT_EQ(flags.find('W') != flags.npos, s.writable) << s.name;
    }
  }
}

TEST(Judges, RelocationsAreThoseThatWereMeant) {
  size_t all = 0;
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Judged judged(seed);
    std::multiset<std::string> is, should;
    std::string section;
    for (const auto& w : words_of(judged.asked("readelf -W -r"))) {
      if (w.size() > 2 && w[0] == "Relocation") section = w[2].substr(1, w[2].size() - 2);  // '.rela.text'
      if (w.size() >= 5 && w[0].size() == 16)
        is.insert(fmt::format("{} {:x} {:x}", section, std::stoull(w[0], nullptr, 16),
                              std::stoull(w[1], nullptr, 16)));
    }
    for (const ObjectFile::Section& s : judged.object.sections)
      for (const ObjectFile::Relocation& r : s.relocations) {
        ASSERT_LT(r.offset, s.bytes.size());
        ASSERT_LT(r.symbol, judged.object.symbols.size());
        // Local symbols stand first in a file, so their numbers are the writer's: only the type is compared.
        should.insert(fmt::format(".rela{} {:x} {}", s.name, r.offset, r.type));
      }
    std::multiset<std::string> types;
    for (const std::string& row : is) {
      uint64_t info = std::stoull(row.substr(row.rfind(' ')), nullptr, 16);
      types.insert(row.substr(0, row.rfind(' ')) + " " + std::to_string(info & 0xffffffff));
    }
    EXPECT_EQ(types, should);
    all += should.size();
  }
  EXPECT_GT(all, 500u);
}

// Where instructions begin, by the system's disassembly.
TEST(Judges, InstructionsBeginWhereTheyWereWritten) {
  size_t lines = 0;
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Judged judged(seed);
    auto places = places_of(judged);
    std::map<std::string, std::set<uint64_t>> starts;  // by section
    std::string section;
    for (const auto& w : words_of(judged.asked("objdump -d -w --no-show-raw-insn"))) {
      if (w.size() >= 4 && w[0] == "Disassembly") section = w[3].substr(0, w[3].size() - 1);
      if (w.size() >= 2 && w[0].back() == ':' && w[0].find_first_not_of("0123456789abcdef:") == w[0].npos)
        starts[section].insert(std::stoull(w[0], nullptr, 16));
    }
    for (const auto& f : judged.lowered.functions) {
      ASSERT_TRUE(places.contains(f.name)) << f.name;
      const NamedPlace& place = places[f.name];
      EXPECT_EQ(place.size, f.bytes.size());
      const auto& there = starts[place.section];
      std::set<uint64_t> is(there.lower_bound(place.at), there.lower_bound(place.at + place.size)), should;
      for (const auto& l : f.lines) should.insert(place.at + l.offset);
      EXPECT_EQ(is, should) << f.name << " of " << seed;
      lines += should.size();
    }
  }
  EXPECT_GT(lines, 5000u);
}

// The line of each instruction that came from one, by the system's reader of line tables.
TEST(Judges, LinesAreThoseOfThePositions) {
  size_t compared = 0;
  for (uint64_t seed = 1; seed <= 25; ++seed) {
    Judged judged(seed);
    auto places = places_of(judged);
    // file, line, address, …: a row holds up to the next one.
    std::map<uint64_t, uint64_t> rows;
    for (const auto& w : words_of(judged.asked("objdump --dwarf=decodedline -w")))
      if (w.size() >= 3 && w[2].starts_with("0x") && w[1].find_first_not_of("0123456789") == w[1].npos)
        rows[std::stoull(w[2], nullptr, 16)] = std::stoull(w[1]);
    if (rows.empty()) continue;
    for (const auto& f : judged.lowered.functions) {
      const NamedPlace& place = places[f.name];
      if (place.section != ".text") continue;  // addresses of another section begin at zero, too
      for (const auto& l : f.lines) {
        if (!l.position.exists()) continue;
        // Lines of code that was inlined say where it came from.
        const PositionRow& meant = judged.lowered.legal->position(l.position);
        if (meant.line == 0) continue;
        auto row = rows.upper_bound(place.at + l.offset);
        ASSERT_TRUE(row != rows.begin()) << f.name << " + " << l.offset << " has no row, seed " << seed;
        EXPECT_EQ((--row)->second, meant.line) << f.name << " + " << l.offset << " of " << seed;
        ++compared;
      }
    }
  }
  EXPECT_GT(compared, 1000u);
}

// Every function has its call frames, and they begin and end with it.
TEST(Judges, CallFramesCoverEachFunction) {
  for (uint64_t seed = 1; seed <= 15; ++seed) {
    Judged judged(seed);
    std::string linked = judged.file + ".so";
    ASSERT_EQ(run_command("gcc -shared -nostdlib -Wl,--unresolved-symbols=ignore-all -Wl,--build-id=none " +
                          judged.file + " -o " + linked + " 2>&1")
                  .status,
              0);
    std::map<std::string, std::pair<uint64_t, uint64_t>> functions;
    for (const auto& w : words_of(run_command("LC_ALL=C readelf -W -s " + linked).out))
      if (w.size() == 8 && w[3] == "FUNC" && w[6] != "UND")
        functions[w[7]] = {std::stoull(w[1], nullptr, 16), std::stoull(w[2], nullptr, 0)};
    std::set<std::pair<uint64_t, uint64_t>> frames;
    for (const auto& w : words_of(run_command("LC_ALL=C readelf -W --debug-dump=frames " + linked).out))
      for (const std::string& word : w)
        if (word.starts_with("pc=")) {
          size_t dots = word.find("..");
          uint64_t from = std::stoull(word.substr(3, dots - 3), nullptr, 16);
          frames.insert({from, std::stoull(word.substr(dots + 2), nullptr, 16) - from});
        }
    for (const auto& f : judged.lowered.functions) {
      ASSERT_TRUE(functions.contains(f.name)) << f.name;
      EXPECT_TRUE(frames.contains(functions[f.name])) << f.name << " of " << seed;
    }
  }
}

}  // namespace
}  // namespace porphyry
