// What a program may tell the C library's heap before it compiles much.
#pragma once

namespace porphyry {

// Freed memory stays with the process, up to 64 MiB for each of its heaps, and blocks below 8 MiB come from
// there. Else a heap shrinks after every module and grows again page by page with the next, and where two
// threads do so each waits for the other: two together are then about a tenth slower. Changes the whole
// process, so it is for `main` to call, before there are threads; the library itself never does.
void keep_freed_memory();

}  // namespace porphyry
