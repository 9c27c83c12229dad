#include "announce.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <mutex>

// The names and layouts are those that debuggers look for: GDB manual, chapter 30, "JIT Compilation
// Interface". It is one list for the whole process, and weak, so that others in the process may have it as
// well.
extern "C" {

enum jit_actions_t : uint32_t { JIT_NOACTION = 0, JIT_REGISTER_FN, JIT_UNREGISTER_FN };

struct jit_code_entry {
  jit_code_entry* next_entry;
  jit_code_entry* prev_entry;
  const char* symfile_addr;
  uint64_t symfile_size;
};

struct jit_descriptor {
  uint32_t version;
  uint32_t action_flag;
  jit_code_entry* relevant_entry;
  jit_code_entry* first_entry;
};

// The debugger stops here and reads the list.
__attribute__((weak, noinline)) void __jit_debug_register_code() { __asm__ volatile("" ::: "memory"); }

__attribute__((weak)) jit_descriptor __jit_debug_descriptor = {1, JIT_NOACTION, nullptr, nullptr};
}

namespace porphyry {
namespace {

std::mutex& list_lock() {
  static std::mutex lock;
  return lock;
}

void tell(jit_code_entry* entry, jit_actions_t action) {
  __jit_debug_descriptor.relevant_entry = entry;
  __jit_debug_descriptor.action_flag = action;
  __jit_debug_register_code();
}

}  // namespace

DebuggerEntry::DebuggerEntry(std::string object)
    : object_(std::move(object)),
      entry_(new jit_code_entry{nullptr, nullptr, object_.data(), object_.size()}) {
  std::lock_guard guard(list_lock());
  entry_->next_entry = __jit_debug_descriptor.first_entry;
  if (entry_->next_entry) entry_->next_entry->prev_entry = entry_;
  __jit_debug_descriptor.first_entry = entry_;
  tell(entry_, JIT_REGISTER_FN);
}

DebuggerEntry::~DebuggerEntry() {
  std::lock_guard guard(list_lock());
  (entry_->prev_entry ? entry_->prev_entry->next_entry : __jit_debug_descriptor.first_entry) =
      entry_->next_entry;
  if (entry_->next_entry) entry_->next_entry->prev_entry = entry_->prev_entry;
  tell(entry_, JIT_UNREGISTER_FN);
  delete entry_;
}

void tell_profiler(uint64_t address, size_t bytes, const std::string& name) {
  std::string path = fmt::format("/tmp/perf-{}.map", getpid()),
              line = fmt::format("{:x} {:x} {}\n", address, bytes, name);
  int file = open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
  if (file < 0) return;
  (void)!write(file, line.data(), line.size());  // a map without this line is still one
  close(file);
}

}  // namespace porphyry
