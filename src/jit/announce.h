// What debuggers and profilers get to know of code that was compiled just in time.
#pragma once

#include <cstdint>
#include <string>

struct ShownObject;  // as debuggers know it

namespace porphyry {

// An object file that a debugger of this process has been shown, as long as this lives.
class DebuggerEntry {
 public:
  explicit DebuggerEntry(std::string object);
  ~DebuggerEntry();
  DebuggerEntry(const DebuggerEntry&) = delete;
  DebuggerEntry& operator=(const DebuggerEntry&) = delete;

 private:
  std::string object_;
  ShownObject* entry_;
};

// A line in the map where the system's profiler looks up what lies outside of all files.
void tell_profiler(uint64_t address, size_t bytes, const std::string& name);

}  // namespace porphyry
