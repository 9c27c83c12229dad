#include "porphyry/base/heap.h"

#include <malloc.h>

namespace porphyry {

void keep_freed_memory() {
  mallopt(M_TRIM_THRESHOLD, 64 << 20);
  mallopt(M_MMAP_THRESHOLD, 8 << 20);
}

}  // namespace porphyry
