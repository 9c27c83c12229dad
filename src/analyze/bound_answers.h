// Answers about bounds, each of which is found once. A question is of any number of bytes: what holds for
// many holds for fewer, what fails for few fails for more.
#pragma once

#include <unordered_map>
#include <utility>
#include <vector>

#include "asked_bounds.h"
#include "porphyry/base/hash.h"

namespace porphyry {

struct BoundQuestion {
  // Of which the index is: a parameter that callers give, one that edges bring, an argument of calls once
  // they are over, a result.
  enum class Of : uint8_t { Parameter, Brought, Argument, Result };
  Symbol function;
  Of of;
  uint32_t index;
  Bits offset;
  AskedLimit limit;
  bool operator==(const BoundQuestion&) const = default;
  struct Hash {
    size_t operator()(const BoundQuestion& q) const {
      const uint64_t of = uint64_t(q.function.index) << 32 | uint64_t(q.index) << 2 | uint64_t(q.of);
      const uint64_t against = uint64_t(q.limit.value.index) << 32 | q.limit.base.index;
      return mixed(mixed(of ^ uint64_t(q.offset) << 20) ^ against ^ uint64_t(q.limit.offset) << 40);
    }
  };
};

class BoundAnswers {
 public:
  struct Answer {
    Bits holds_below = 0, fails_from = ~Bits(0);
    Bits asked = 0;      // of how many bytes it is asked now
    uint32_t frame = 0;  // in which of the functions that are looked at; 0: it is not asked
    bool met_again = false;
  };
  // Stays where it is.
  Answer& of(const BoundQuestion& q) { return answers_[q]; }

  // About what another function has done. While it is asked it does not hold: whatever holds then needs no
  // second look, and what failed by that is asked again when it holds after all.
  template <class Ask>
  bool once(const BoundQuestion& q, Bits bytes, Ask ask) {
    return once(of(q), q, bytes, ask);
  }
  template <class Ask>
  bool once(Answer& known, const BoundQuestion& q, Bits bytes, Ask ask) {
    if (bytes < known.holds_below) return true;
    if (bytes >= known.fails_from) return false;
    if (known.frame) return known.met_again = true, false;
    const uint32_t outer = std::exchange(frame_, ++frames_);
    known.frame = frame_, known.met_again = false;
    const size_t assumed = assumed_.size(), failed = failed_.size();
    const bool holds = ask();
    assumed_.resize(assumed);  // they rested on nothing that is still asked
    frame_ = outer;
    known.frame = 0;
    if (!holds) return fails(q, known, bytes);
    known.holds_below = bytes + 1;
    for (; known.met_again && failed_.size() > failed; failed_.pop_back())
      answers_[failed_.back().question].fails_from = failed_.back().before;
    return true;
  }
  // About what edges bring. While it is asked in one function it holds: what rests on that lies in an earlier
  // round of a loop. When it fails, all that held since is forgotten.
  template <class Ask>
  bool assuming(const BoundQuestion& q, Bits bytes, Ask ask) {
    Answer& known = answers_[q];
    if (bytes < known.holds_below) return true;
    if (bytes >= known.fails_from) return false;
    if (known.frame) return known.frame == frame_ && bytes <= known.asked;
    known.frame = frame_, known.asked = bytes;
    const size_t before = assumed_.size();
    const bool holds = ask();
    known.frame = 0;
    if (holds) {
      assumed_.push_back({q, std::exchange(known.holds_below, bytes + 1)});
      return true;
    }
    for (; assumed_.size() > before; assumed_.pop_back())
      answers_[assumed_.back().question].holds_below = assumed_.back().before;
    return fails(q, known, bytes);
  }
  // Nothing is asked any more.
  void settle() { assumed_.clear(), failed_.clear(); }

 private:
  struct Changed {
    BoundQuestion question;
    Bits before;
  };
  bool fails(const BoundQuestion& q, Answer& known, Bits bytes) {
    failed_.push_back({q, std::exchange(known.fails_from, bytes)});
    return false;
  }
  std::unordered_map<BoundQuestion, Answer, BoundQuestion::Hash> answers_;
  std::vector<Changed> assumed_, failed_;  // since the question from outside was asked
  uint32_t frames_ = 1, frame_ = 1;
};

}  // namespace porphyry
