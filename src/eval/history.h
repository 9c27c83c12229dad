// What kinds of accesses a byte has seen in its object's life. Bytes share histories: a history is a row of a
// table, and the one that follows after an access is looked up once and remembered.
#pragma once

#include <cstdint>
#include <unordered_map>
#include <vector>

#include "porphyry/ir/kinds.h"

namespace porphyry::eval {

struct KindAccess {
  KindPath kind;  // nothing: overlaps everything
  bool writes = false;
  bool as_unwritten = false;  // a read of bytes that are never written
};

class KindHistories {
 public:
  explicit KindHistories(const Kinds& kinds) : kinds_(kinds), rows_(1) {}

  struct Next {
    uint32_t history = 0;
    bool conflict = false;
    KindPath with;             // the kind that does not go with the access
    bool was_written = false;  // the conflict is about bytes that are never written
  };
  // The history after an access to a byte of history `from` (0: untouched).
  const Next& after(uint32_t from, const KindAccess& access);

 private:
  struct Row {
    std::vector<KindPath> reads, writes;
    bool written = false, read_as_unwritten = false;
    bool operator==(const Row&) const = default;
  };
  Next computed(uint32_t from, const KindAccess& access);

  const Kinds& kinds_;
  std::vector<Row> rows_;
  std::unordered_map<uint64_t, Next> known_;  // by history and access
};

}  // namespace porphyry::eval
