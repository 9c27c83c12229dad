// A realm owns what modules share: interned names. Two realms share nothing, so two threads that work in
// different realms need no lock; several that work in one share it, see Realm::Shared.
#pragma once

#include <memory>
#include <mutex>
#include <string_view>
#include <vector>

#include "porphyry/base/chunks.h"
#include "porphyry/base/ids.h"

namespace porphyry {

using Name = Id<struct NameTag>;

class Realm {
 public:
  Realm() = default;
  Realm(const Realm&) = delete;
  Realm& operator=(const Realm&) = delete;

  // The handle of `text`, made when it is new. Average O(length).
  Name name(std::string_view text);
  // The handle of `text` when it exists.
  Name find(std::string_view text) const;
  // A name that is asked for soon: its place starts to come from memory meanwhile. Worth it in a large realm,
  // whose table the processor's caches do not hold.
  void look_ahead(std::string_view text) const;
  bool is_large() const { return table_.size() > (size_t(1) << 14); }
  // The view stays valid as long as the realm lives.
  std::string_view text(Name name) const { return texts_[name.index]; }
  size_t name_count() const { return texts_.size(); }

  // While one lives, several threads may ask for names and make new ones; handles of new names then depend on
  // who came first.
  class Shared {
   public:
    explicit Shared(Realm& realm) : realm_(realm), before_(realm.is_shared_) { realm.is_shared_ = true; }
    ~Shared() { realm_.is_shared_ = before_; }
    Shared(const Shared&) = delete;

   private:
    Realm& realm_;
    bool before_;
  };
  // Memory held, in bytes.
  size_t bytes() const;

 private:
  static constexpr uint32_t empty = 0xffffffffu;
  struct Entry {  // with what tells most texts apart without looking at them
    uint64_t hash = 0;
    uint32_t name = empty, size = 0;
  };
  size_t place(std::string_view text, uint64_t hash) const;  // where in table_ the text is, or would go
  std::unique_lock<std::mutex> lock() const {
    return is_shared_ ? std::unique_lock(mutex_) : std::unique_lock<std::mutex>();
  }
  std::string_view keep(std::string_view text);
  void grow();

  std::vector<std::unique_ptr<char[]>> chunks_;  // the letters; they never move
  size_t chunk_left_ = 0, chunk_bytes_ = 0;
  char* chunk_at_ = nullptr;
  Chunks<std::string_view> texts_;
  mutable std::mutex mutex_;
  bool is_shared_ = false;
  std::vector<Entry> table_;  // open addressing, a power of two, at most half full
};

}  // namespace porphyry
