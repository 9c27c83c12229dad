// Bounds as they are asked for: of a number at a place of a function, and against which limit. What a
// function tells of its numbers (given_bounds.h) is held against them.
#pragma once

#include <optional>

#include "given_bounds.h"

namespace porphyry {

// A limit that is asked for. At places above the one where it is read it is only a place of memory: whatever
// number of that place is met there was read before, and is not above it.
struct AskedLimit {
  Value value;  // nothing: only the place
  Value base;   // the same all through the function; nothing: of no such place
  int64_t offset = 0;
  Bits least = 0;  // that it is
  bool operator==(const AskedLimit&) const = default;
};

struct AskedBound {
  Bound bound;  // its limit is the one below
  AskedLimit limit;
};

AskedLimit limit_of(const GivenBounds& body, Value v);
// Any number of its place; nothing for one that is of none. Constants are the same everywhere.
std::optional<AskedLimit> only_place(const Function& f, AskedLimit limit);
// A limit as it is asked for of what a call has done: it must be read behind the call. O(1).
std::optional<AskedLimit> read_behind(const GivenBounds& body, const AskedLimit& limit, Instruction call);
// What a limit is at the start of a block above: only its place, where it is read below; itself, where it is
// there. Of one that edges bring below, all that they bring; nothing where those are several.
std::optional<AskedLimit> limit_at(const GivenBounds& body, Block start, const AskedLimit& limit);
// What a limit is in front of an edge: what the edge brings, when it is a parameter there.
AskedLimit limit_along(const GivenBounds& body, Edge e, const AskedLimit& limit);

// The same bound of what a root is given.
Bound moved_to(const Function& f, const Bound& bound, Value to);
// Whether it holds by what is known of the number alone.
bool is_small(const Function& f, const AskedBound& asked);
// Whether a check or a number that a function tells of says as much, but for their limits; and those.
bool says_enough(const GivenBounds& body, const Given& g, const AskedBound& asked);
bool limit_is_enough(const GivenBounds& body, const Given& g, const AskedLimit& asked);
// Whether something that holds on an edge does.
bool met_on_edge(const GivenBounds& body, Edge e, const AskedBound& asked);

}  // namespace porphyry
