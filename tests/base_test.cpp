// What everything lies in: rows and houses, tables, names, and memory, against plain containers through
// random histories.
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "porphyry/base/hash.h"
#include "porphyry/base/rows.h"
#include "porphyry/base/scratch.h"
#include "porphyry/base/source_text.h"
#include "porphyry/base/table.h"
#include "porphyry/ir/realm.h"

namespace porphyry {
namespace {

// Two tables that share a house and move in and out of it.
TEST(Rows, KeepTheirContentThroughAnyHistory) {
  std::mt19937_64 random(3);
  struct Wide {
    uint64_t a;
    uint32_t b;
    bool operator==(const Wide&) const = default;
  };
  for (int round = 0; round < 300; ++round) {
    Rows<uint32_t> narrow;
    Rows<Wide> wide;
    std::vector<uint32_t> should_narrow;
    std::vector<Wide> should_wide;
    TableBlock house;
    auto move_in = [&](Rows<uint32_t>& n, const Rows<uint32_t>& from_n, Rows<Wide>& w,
                       const Rows<Wide>& from_w) {
      size_t more = random() % 3 * 5;
      TableBlock next(TableBlock::place_for<uint32_t>(from_n.size() + more) +
                      TableBlock::place_for<Wide>(from_w.size() + more));
      size_t offset = 0;
      next.take_in(n, from_n, from_n.size() + more, offset);
      next.take_in(w, from_w, from_w.size() + more, offset);
      EXPECT_EQ(offset, next.bytes());
      house = std::move(next);
    };
    for (int step = 0; step < 60; ++step) {
      auto v = static_cast<uint32_t>(random());
      switch (random() % 8) {
        case 0: move_in(narrow, narrow, wide, wide); break;
        case 1: {  // a copy takes their place
          Rows<uint32_t> n = narrow;
          Rows<Wide> w(wide);
          narrow = std::move(n), wide = w;
          break;
        }
        case 2: {
          size_t size = random() % 40;
          narrow.resize(size, v), should_narrow.resize(size, v);
          break;
        }
        case 3: narrow.shrink_to_fit(), wide.reserve(random() % 50); break;
        case 4:
          if (!should_narrow.empty()) {  // of its own, which may move
            narrow.push_back(narrow[0]), should_narrow.push_back(should_narrow[0]);
          }
          break;
        case 5: {
          uint32_t some[] = {v, v + 1, v + 2};
          narrow.append(some, 3), should_narrow.insert(should_narrow.end(), some, some + 3);
          break;
        }
        default: wide.push_back({v * uint64_t(3), v}), should_wide.push_back({v * uint64_t(3), v});
      }
      ASSERT_TRUE(std::equal(narrow.begin(), narrow.end(), should_narrow.begin(), should_narrow.end()));
      ASSERT_TRUE(std::equal(wide.begin(), wide.end(), should_wide.begin(), should_wide.end()));
      ASSERT_LE(narrow.size(), narrow.capacity());
    }
  }
}

TEST(Scratch, PiecesAreApartAlignedAndThere) {
  std::mt19937_64 random(4);
  Scratch scratch;
  for (int round = 0; round < 50; ++round) {
    struct Piece {
      uint8_t* at;
      size_t size;
      uint8_t mark;
    };
    std::vector<Piece> pieces;
    for (int k = 0; k < 400; ++k) {
      size_t size = random() % 50 ? random() % 300 : random() % 400000, align = size_t(1) << random() % 7;
      auto* at = static_cast<uint8_t*>(scratch.allocate(size, align));
      ASSERT_EQ(reinterpret_cast<uintptr_t>(at) % align, 0u);
      auto mark = static_cast<uint8_t>(k);
      std::fill(at, at + size, mark);
      if (random() % 4 == 0)
        scratch.deallocate(at, size, align);  // what comes next may lie there
      else
        pieces.push_back({at, size, mark});
    }
    for (const Piece& p : pieces)
      ASSERT_TRUE(std::all_of(p.at, p.at + p.size, [&](uint8_t b) { return b == p.mark; }));
    scratch.reset();
    EXPECT_LE(scratch.bytes(), size_t(1) << 20);  // more goes back to the system
  }
}

// What the table of names relies on: short texts of one length are told apart by their hashes alone.
TEST(Hash, IsExactForShortTexts) {
  std::mt19937_64 random(8);
  for (size_t length = 0; length <= whole_hash_length; ++length) {
    std::map<uint64_t, std::string> seen;
    for (int k = 0; k < 20000; ++k) {
      std::string text;
      for (size_t at = 0; at < length; ++at) text += static_cast<char>(k % 2 ? random() : 'a' + random() % 2);
      auto [at, is_new] = seen.emplace(hash_of(text), text);
      ASSERT_EQ(at->second, text);
    }
    // One bit changed anywhere changes it.
    for (auto& [hash, text] : seen)
      for (size_t bit = 0; bit < 8 * length && bit < 64; bit += 1 + random() % 7) {
        std::string other = text;
        other[bit / 8] = static_cast<char>(other[bit / 8] ^ 1 << bit % 8);
        ASSERT_NE(hash_of(other), hash);
      }
  }
}

TEST(Realm, NamesAreWhatTheyWereCalled) {
  std::mt19937_64 random(5);
  Realm realm;
  std::map<std::string, Name> known;
  for (int k = 0; k < 30000; ++k) {
    std::string text;
    // Many that differ in little, and a few long ones.
    size_t length = random() % 100 ? random() % 6 : random() % 100000 / (1 + k % 50);
    for (size_t at = 0; at < length; ++at) text += static_cast<char>('a' + random() % 3);
    EXPECT_EQ(realm.find(text).exists(), known.contains(text));
    Name n = realm.name(text);
    auto [at, is_new] = known.emplace(text, n);
    EXPECT_EQ(at->second, n);
    EXPECT_LT(n.index, known.size());
  }
  EXPECT_EQ(realm.name_count(), known.size());
  for (const auto& [text, name] : known) {
    ASSERT_EQ(realm.text(name), text);
    ASSERT_EQ(realm.find(text), name);
  }
  EXPECT_GT(realm.bytes(), realm.name_count() * sizeof(std::string_view));
}

TEST(SourceText, PlacesAreLinesAndColumns) {
  std::mt19937_64 random(6);
  for (int round = 0; round < 200; ++round) {
    std::string text;
    for (size_t k = random() % 200; k > 0; --k) text += random() % 6 ? 'x' : '\n';
    SourceText source("s", text);
    uint32_t line = 1, column = 1;
    for (uint32_t at = 0; at < text.size(); ++at) {
      Diagnostic d = source.at(at, 1, "here", "there");
      ASSERT_EQ(d.line, line) << at;
      ASSERT_EQ(d.column, column) << at;
      if (text[at] == '\n')
        ++line, column = 1;
      else
        ++column;
    }
  }
}

TEST(SideTable, ReadsBehindItsEnd) {
  SideTable<Name, uint32_t> table;
  std::map<uint32_t, uint32_t> should;
  std::mt19937_64 random(7);
  for (int k = 0; k < 2000; ++k) {
    auto at = static_cast<uint32_t>(random() % 500), v = static_cast<uint32_t>(random());
    EXPECT_EQ(table.get(Name(at)), should.contains(at) ? should[at] : 0u);
    if (k % 2) table.set(Name(at), v), should[at] = v;
  }
}

}  // namespace
}  // namespace porphyry
