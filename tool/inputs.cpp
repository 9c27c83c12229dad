// Many inputs at once: each is one job on whichever core is free; what comes of them is put out in their
// order.
#include <fmt/format.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <filesystem>
#include <mutex>
#include <set>
#include <thread>

#include "common.h"
#include "porphyry/render/diagnostics.h"

namespace porphyry::tool {
namespace {

namespace fs = std::filesystem;

struct Done {
  std::string output;
  Failure failure{0, {}};
};

// How far it has come, on a terminal and not before a second has passed. Goes again at the end.
class ProgressLine {
 public:
  explicit ProgressLine(size_t count) : count_(count), shows_(isatty(STDERR_FILENO)) {}
  void at(size_t done) {
    if (!shows_ || std::chrono::steady_clock::now() - start_ < std::chrono::seconds(1)) return;
    fmt::print(stderr, "\r{} of {} files", done, count_);
    written_ = true;
  }
  ~ProgressLine() {
    if (written_) fmt::print(stderr, "\r\x1b[K");
  }

 private:
  size_t count_;
  bool shows_, written_ = false;
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

std::vector<Done> all_done(size_t count, const std::function<void(size_t, Done&)>& job) {
  std::vector<Done> out(count);
  std::atomic<size_t> next = 0;
  size_t finished = 0;
  std::mutex lock;
  std::condition_variable one_more;
  auto work = [&] {
    for (size_t k; (k = next++) < count;) {
      job(k, out[k]);
      std::lock_guard guard(lock);
      ++finished;
      one_more.notify_one();
    }
  };
  std::vector<std::jthread> workers;
  for (size_t k = 0; k < std::min<size_t>(count, std::max(1u, std::thread::hardware_concurrency())); ++k)
    workers.emplace_back(work);
  ProgressLine progress(count);
  std::unique_lock guard(lock);
  while (finished < count) {
    one_more.wait_for(guard, std::chrono::milliseconds(200));
    progress.at(finished);
  }
  return out;
}

// The folder's file for an input. Two inputs of one name would write over each other.
std::vector<std::string> places(const Options& o, const std::string& ending) {
  if (!fs::is_directory(o.output))
    fail({complaint("'" + o.output + "' is no folder, and there are several inputs",
                    "a folder that is there")},
         call_at_fault);
  std::vector<std::string> out;
  std::set<std::string> taken;
  for (const std::string& file : o.files) {
    out.push_back((fs::path(o.output) / fs::path(file).stem()).string() + ending);
    if (!taken.insert(out.back()).second)
      fail({complaint("two inputs would be written to '" + out.back() + "'", "inputs of different names")},
           call_at_fault);
  }
  return out;
}

}  // namespace

int over_inputs(const Options& o, const std::string& ending,
                const std::function<std::string(const Options&)>& job) {
  if (o.files.size() < 2)
    return guarded([&] {
      std::string out = job(o);
      if (!ending.empty()) put_out(o, out);
    });
  std::vector<std::string> to;
  if (int status = guarded([&] {
        if (!o.output.empty() && !ending.empty()) to = places(o, ending);
      }))
    return status;
  std::vector<Done> done = all_done(o.files.size(), [&](size_t k, Done& out) {
    out.failure = outcome_of([&] {
      Options one = o;
      one.file = o.files[k];
      out.output = job(one);
      if (to.empty()) return;
      one.output = to[k];
      put_out(one, out.output);
      out.output.clear();
    });
  });
  int status = 0;
  for (Done& d : done) {
    status = std::max(status, d.failure.status);
    say(render(d.failure.why));
    if (to.empty() && d.failure.status == 0 && !ending.empty())
      status = std::max(status, guarded([&] { put_out(o, d.output); }));
  }
  return status;
}

}  // namespace porphyry::tool
