// How much of a test that tries many cases is tried where addresses are checked, which makes everything slow:
// a part finds what those checks look for, and all of it ran without them.
#pragma once

#include <cstddef>

namespace porphyry::testing {

#ifdef __SANITIZE_ADDRESS__
inline constexpr size_t checked_part = 8;
#else
inline constexpr size_t checked_part = 1;
#endif

constexpr size_t part_of(size_t cases) { return cases / checked_part; }

}  // namespace porphyry::testing
