// What calls on open files and calls on paths have in common.
#pragma once

#include <sys/stat.h>

#include "wasi_state.h"

namespace porphyry::wasm {

// The times of a file as the interface gives them: bit 0 and 2 of the flags say that they are given, bit 1
// and 3 that it is to be now.
struct FileTimes {
  FileTimes(uint64_t access, uint64_t change, uint32_t flags);
  timespec times[2];
};

int32_t put_stat(Instance& in, const struct stat& is, uint32_t to);

}  // namespace porphyry::wasm
