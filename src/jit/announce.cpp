#include "announce.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <mutex>

// The two symbols and the layouts are those that the system's debugger looks for, by its manual's chapter on
// code compiled just in time; the names of the structures are our own. It is one list for the whole process,
// and weak, so that others in the process may have it as well.
extern "C" {

// What has just happened to the list.
enum ListChange : uint32_t { list_unchanged = 0, entry_added = 1, entry_goes = 2 };

struct ShownObject {
  ShownObject* next;
  ShownObject* previous;
  const char* bytes;
  uint64_t size;
};

struct ShownList {
  uint32_t version;
  uint32_t change;
  ShownObject* changed;
  ShownObject* first;
};

// The debugger stops here and reads the list.
__attribute__((weak, noinline)) void __jit_debug_register_code() { __asm__ volatile("" ::: "memory"); }

__attribute__((weak)) ShownList __jit_debug_descriptor = {1, list_unchanged, nullptr, nullptr};
}

namespace porphyry {
namespace {

std::mutex& list_lock() {
  static std::mutex lock;
  return lock;
}

void tell(ShownObject* entry, ListChange action) {
  __jit_debug_descriptor.changed = entry;
  __jit_debug_descriptor.change = action;
  __jit_debug_register_code();
}

}  // namespace

DebuggerEntry::DebuggerEntry(std::string object)
    : object_(std::move(object)), entry_(new ShownObject{nullptr, nullptr, object_.data(), object_.size()}) {
  std::lock_guard guard(list_lock());
  entry_->next = __jit_debug_descriptor.first;
  if (entry_->next) entry_->next->previous = entry_;
  __jit_debug_descriptor.first = entry_;
  tell(entry_, entry_added);
}

DebuggerEntry::~DebuggerEntry() {
  std::lock_guard guard(list_lock());
  (entry_->previous ? entry_->previous->next : __jit_debug_descriptor.first) = entry_->next;
  if (entry_->next) entry_->next->previous = entry_->previous;
  tell(entry_, entry_goes);
  delete entry_;
}

void tell_profiler(uint64_t address, size_t bytes, const std::string& name) {
  std::string path = fmt::format("/tmp/perf-{}.map", getpid()),
              line = fmt::format("{:x} {:x} {}\n", address, bytes, name);
  // The name is known beforehand to everybody: only a plain file of one's own under this name alone is
  // written.
  int file = open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK, 0644);
  if (file < 0) return;
  struct stat is;
  if (fstat(file, &is) == 0 && S_ISREG(is.st_mode) && is.st_nlink == 1 && is.st_uid == geteuid())
    (void)!write(file, line.data(), line.size());  // a map without this line is still one
  close(file);
}

}  // namespace porphyry
