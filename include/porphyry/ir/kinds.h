// What a source language says about memory: trees of kinds, and records laid out from them. An access names a
// kind or, by a path, a member of a record; accesses whose kinds may not overlap do not touch common bytes
// unless both only read.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/table.h"
#include "porphyry/ir/address.h"
#include "porphyry/ir/realm.h"

namespace porphyry {

using KindTree = Id<struct KindTreeTag>;
using Kind = Id<struct KindTag>;
using Record = Id<struct RecordTag>;

struct KindRow {
  Name name;
  KindTree tree;
  Kind parent;         // nothing: a root; a root overlaps every kind under it
  uint32_t align = 0;  // of accesses; 0: not said
  // Integers accessed as this kind never become smaller, unsigned, while the object lives.
  bool grows = false;
  // Bounds of those that grow, both included.
  uint64_t least = 0, most = ~uint64_t(0);
  bool is_bounded() const { return least != 0 || most != ~uint64_t(0); }
};

struct RecordMember {
  uint64_t offset;
  Name name;
  Kind kind;  // one of the two
  Record record;
};

struct RecordRow {
  Name name;
  KindTree tree;
  uint64_t size = 0;
  std::vector<RecordMember> members;  // in the order written
};

// What an access touches: a kind of its own, or a member found by way of members of records.
struct KindPathRow {
  KindTree tree;
  Record record;                  // nothing: `kind` is meant as such
  std::vector<uint16_t> members;  // by index, from the record inwards
  Kind kind;                      // the kind at the end
  uint64_t offset = 0;            // of the member, in the record
  uint64_t room = ~uint64_t(0);   // bytes up to the next member, or the end
};

class Kinds {
 public:
  static constexpr unsigned depth_limit = 64;  // of kinds under kinds and records in records; verified

  // Of rows with the same name the first is found. Rows may name parents, kinds and records that are added
  // later.
  KindTree add_tree(Name name);
  Kind add_kind(KindRow row);
  Record add_record(RecordRow row);
  const KindRow& operator[](Kind k) const { return kinds_[k]; }
  const RecordRow& operator[](Record r) const { return records_[r]; }
  const KindPathRow& operator[](KindPath p) const { return paths_[p]; }
  Name name(KindTree t) const { return trees_[t.index]; }

  size_t tree_count() const { return trees_.size(); }
  size_t kind_count() const { return kinds_.size(); }
  size_t record_count() const { return records_.size(); }
  size_t path_count() const { return paths_.size(); }

  KindTree find_tree(Name name) const;
  Kind find_kind(KindTree tree, Name name) const;
  Record find_record(KindTree tree, Name name) const;

  // The path to a kind, or to the member at the end of `members`. The same path gives the same handle.
  // Nothing when a step leads to no member or the end is a record. O(length * log paths).
  KindPath path(Kind kind);
  std::optional<KindPath> path(Record record, std::vector<uint16_t> members);

  // Whether accesses through the two may touch common bytes. Nothing overlaps everything. O(depth + records).
  bool may_overlap(KindPath a, KindPath b) const;
  bool is_above_or_same(Kind above, Kind below) const;
  // The alignment of accesses: the kind's or the nearest one's above it that says one; else 1.
  uint32_t align(KindPath p) const;
  bool grows(KindPath p) const { return p.exists() && kinds_[paths_[p].kind].grows; }
  // Its kind, when it grows; else null.
  const KindRow* growing(KindPath p) const { return grows(p) ? &kinds_[paths_[p].kind] : nullptr; }
  bool any_grows() const { return any_grows_; }
  // Offsets at which `inner` lies in `outer` (0 for itself); one more than `place_limit` when there are more.
  static constexpr size_t place_limit = 4096;
  std::vector<uint64_t> places(Record outer, Record inner) const;

  // Bytes from member k to the next one or the end of the record.
  uint64_t room(Record r, size_t member) const;

 private:
  bool contains(Record outer, Record inner, std::map<uint32_t, bool>& known, unsigned depth) const;
  void gather_places(Record outer, Record inner, uint64_t base, std::map<uint32_t, bool>& known,
                     std::vector<uint64_t>& out) const;

  using Key = std::pair<uint32_t, uint32_t>;  // tree, name
  std::vector<Name> trees_;
  std::map<uint32_t, KindTree> tree_names_;
  std::map<Key, Kind> kind_names_;
  std::map<Key, Record> record_names_;
  std::map<std::pair<uint32_t, std::vector<uint16_t>>, KindPath> known_paths_;  // of records
  std::map<uint32_t, KindPath> known_kind_paths_;
  Table<Record, std::vector<uint64_t>> offsets_;  // of each record's members, in order
  Table<Kind, KindRow> kinds_;
  Table<Record, RecordRow> records_;
  Table<KindPath, KindPathRow> paths_;
  bool any_grows_ = false;
};

}  // namespace porphyry
