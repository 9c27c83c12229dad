// How much of a test that tries many cases is tried where addresses are checked, which makes everything slow:
// a part finds what those checks look for, and all of it ran without them.
#pragma once

#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstddef>

namespace porphyry::testing {

#ifdef __SANITIZE_ADDRESS__
inline constexpr size_t checked_part = 8;
#else
inline constexpr size_t checked_part = 1;
#endif

constexpr size_t part_of(size_t cases) { return cases / checked_part; }

// Runs `what` in a process of its own that ends when it has taken 30 s of processor or 1 GiB of memory: many
// times what is needed, so that no busy machine reaches it, and less than what grows by another order takes.
template <typename What>
bool stays_within_bounds(What what) {
  pid_t child = fork();
  if (child == 0) {
    rlimit seconds{30, 30};
    setrlimit(RLIMIT_CPU, &seconds);
#ifndef __SANITIZE_ADDRESS__
    rlimit bytes{1 << 30, 1 << 30};
    setrlimit(RLIMIT_AS, &bytes);
#endif
    what();
    _exit(::testing::Test::HasFailure() ? 1 : 0);
  }
  int status = 0;
  waitpid(child, &status, 0);
  return WIFEXITED(status) && WEXITSTATUS(status) == 0;
}

}  // namespace porphyry::testing
