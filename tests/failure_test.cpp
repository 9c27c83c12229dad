// Memory that runs out, at every place where some is asked for: readers, passes and lowering then end with
// the exception, leak nothing, and leave what they were given as it was. This file's operators new and delete
// count for the whole test program.
#include <gtest/gtest.h>

#include <atomic>
#include <cstdlib>
#include <new>

#include "porphyry/base/files.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/object.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

// The sanitizers have allocators of their own.
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)

namespace {

// Of this thread alone, so that nothing else is disturbed.
thread_local bool counts = false;
thread_local int64_t left = 0, alive = 0;

void* taken(size_t bytes, size_t align) {
  if (counts && left-- == 0) throw std::bad_alloc();
  void* out = align > alignof(std::max_align_t)
                  ? std::aligned_alloc(align, (bytes + align - 1) / align * align)
                  : std::malloc(bytes ? bytes : 1);
  if (!out) throw std::bad_alloc();
  alive += counts;
  return out;
}
void given_back(void* p) {
  if (p) alive -= counts;
  std::free(p);
}

}  // namespace

void* operator new(size_t bytes) { return taken(bytes, 1); }
void* operator new[](size_t bytes) { return taken(bytes, 1); }
void* operator new(size_t bytes, std::align_val_t align) { return taken(bytes, static_cast<size_t>(align)); }
void operator delete(void* p) noexcept { given_back(p); }
void operator delete[](void* p) noexcept { given_back(p); }
void operator delete(void* p, size_t) noexcept { given_back(p); }
void operator delete[](void* p, size_t) noexcept { given_back(p); }
void operator delete(void* p, std::align_val_t) noexcept { given_back(p); }
void operator delete(void* p, size_t, std::align_val_t) noexcept { given_back(p); }

namespace porphyry {
namespace {

// Lets the n-th allocation of the work fail, for n from the first on, later in larger steps. What is alive
// before and after is the same, but for tables that are made once.
template <class Work>
void fail_at_every_place(const char* what, Work work) {
  work();  // what is made once is made here
  size_t failed = 0;
  for (int64_t n = 0;; n += 1 + n / 60) {
    bool ended = false;
    left = n, alive = 0, counts = true;
    try {
      work();
      ended = true;
    } catch (const std::bad_alloc&) {
      ++failed;
    }
    counts = false;
    ASSERT_EQ(alive, 0) << what << " leaks when allocation " << n << " fails";
    if (ended) break;
  }
  EXPECT_GT(failed, 50u) << what;
}

std::string demo() {
  auto text = read_file(PORPHYRY_ROOT "/demo/frostwatch.por");
  EXPECT_TRUE(text.good()) << render(text.why());
  return *text;
}

TEST(OutOfMemory, ReadersLeakNothing) {
  const std::string text = demo();
  fail_at_every_place("the reader of text", [&] {
    Realm realm;
    EXPECT_EQ(render(load_text(realm, SourceText("demo.por", text)).why()), "");
  });
  Realm realm;
  auto module = testing::must_read(realm, text);
  const std::string packed = write_packed(*module);
  fail_at_every_place("the reader of packed modules", [&] {
    Realm other;
    EXPECT_EQ(render(load_packed(other, "demo.porb", packed).why()), "");
  });
}

TEST(OutOfMemory, WritersLeakNothing) {
  Realm realm;
  auto module = testing::must_read(realm, demo());
  fail_at_every_place("the writer of text", [&] { EXPECT_FALSE(write_text(*module).empty()); });
  fail_at_every_place("the writer of packed modules", [&] { EXPECT_FALSE(write_packed(*module).empty()); });
}

TEST(OutOfMemory, PassesLeakNothingAndLeaveTheModuleTheyWereGiven) {
  Realm realm;
  auto module = testing::must_read(realm, demo());
  const std::string before = write_text(*module);
  fail_at_every_place("-O1", [&] {
    auto mine = clone(*module);
    EXPECT_EQ(render(run_pipeline(*mine, level_named("-O1")->pipeline(), {.check_between = true})), "");
  });
  EXPECT_EQ(write_text(*module), before);
}

TEST(OutOfMemory, LoweringLeaksNothingAndLeavesTheModule) {
  Realm realm;
  auto module = testing::must_read(realm, demo());
  const std::string before = write_text(*module);
  const machine::Target& target = *all_targets().front();
  fail_at_every_place("lowering to an object", [&] {
    auto lowered = machine::lower(*module, target, {.check_allocation = true, .explain = true});
    EXPECT_TRUE(lowered.good()) << render(lowered.why());
    EXPECT_FALSE(elf_bytes(make_object(*lowered, target)).empty());
  });
  EXPECT_EQ(write_text(*module), before);
}

}  // namespace
}  // namespace porphyry
#endif
