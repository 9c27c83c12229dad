// The messages, words with one space between them:
//   to the leader      "stamp N"              who is there, with which question; until it hears something
//                      "cost TASK COST"       an answer; the cost in hexadecimal, so that no digit is lost
//   from the leader    "build TASK PASS…"     find a cost
//                      "wait"                 the leader lives
//                      "other"                it works on another question
//                      "over"                 the end; "over all" when every one has answered to the last
#include "porphyry/ask/crew.h"

#include <fmt/format.h>

#include <algorithm>
#include <future>
#include <sstream>
#include <thread>

#include "porphyry/ask/hunt.h"

namespace porphyry {
namespace {

using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;
constexpr auto pause = 200us;           // between looks for messages
constexpr auto greeting = 1s;           // between signs of life
constexpr auto patience = 60s;          // with a leader that gives none
constexpr auto shortest_wait = 1000ms;  // before work is given out a second time
constexpr auto longest_look = 100ms;    // that counts as waiting between two looks

// Time spent waiting. A machine that stood still, as when it was suspended, has waited for nobody.
class Wait {
 public:
  Clock::duration look() {
    const auto now = Clock::now();
    passed_ += std::min<Clock::duration>(now - looked_, longest_look);
    looked_ = now;
    return passed_;
  }
  void start_again() { passed_ = {}, looked_ = Clock::now(); }

 private:
  Clock::time_point looked_ = Clock::now();
  Clock::duration passed_{};
};

std::string build_message(uint64_t task, const Candidate& c) {
  std::string out = fmt::format("build {}", task);
  for (const std::string& step : c.steps) out += " " + step;
  return out;
}

}  // namespace

struct Crew::Task {
  Candidate* candidate = nullptr;
  uint64_t number = 0;
  std::vector<unsigned> given;   // to whom
  Clock::time_point since = {};  // it was given the last time
  bool done = false;
};

Crew::Crew(Messenger& messenger, uint64_t stamp)
    : messenger_(messenger), stamp_(stamp), members_(messenger.count()) {
  members_[0] = Member::Idle;
}

Crew::~Crew() {
  // Those that still build are waited for as long as their work may take.
  const auto enough = std::max<Clock::duration>(shortest_wait, 4 * slowest_);
  Wait waited;
  std::vector<Task> none;
  while (waited.look() < enough &&
         std::ranges::any_of(members_, [](Member m) { return m == Member::Busy || m == Member::Unknown; })) {
    listen(none);
    std::this_thread::sleep_for(pause);
  }
  const bool all = std::ranges::all_of(members_, [](Member m) { return m == Member::Idle; });
  for (unsigned k = 1; k < members_.size(); ++k) messenger_.send(k, all ? "over all" : "over");
  messenger_.leave(all);
}

std::vector<unsigned> Crew::strangers() const {
  std::vector<unsigned> out;
  for (unsigned k = 0; k < members_.size(); ++k)
    if (members_[k] == Member::Stranger) out.push_back(k);
  return out;
}

// Takes in what has come.
void Crew::listen(std::vector<Task>& tasks) {
  while (auto message = messenger_.receive()) {
    Member& from = members_[message->from];
    std::istringstream words(message->text);
    std::string what, cost;
    uint64_t number = 0;
    words >> what >> number >> cost;
    if (what == "stamp") {
      const bool same = number == stamp_;
      if (!same) messenger_.send(message->from, "other");
      if (!same || from == Member::Unknown) from = same ? Member::Idle : Member::Stranger;
      continue;
    }
    from = Member::Idle;
    for (Task& t : tasks)  // one of a generation before is not among them
      if (t.number == number && !t.done) {
        t.candidate->cost = std::strtod(cost.c_str(), nullptr);
        t.done = true;
        slowest_ = std::max(slowest_, Clock::now() - t.since);
      }
  }
  if (Clock::now() - greeted_ < greeting) return;
  greeted_ = Clock::now();
  for (unsigned k = 1; k < members_.size(); ++k) messenger_.send(k, "wait");
}

// One that nobody has, else the one that is missed for the longest time; null when there is none to give.
Crew::Task* Crew::next_task(std::vector<Task>& tasks, unsigned member) const {
  const auto wait = std::max<Clock::duration>(shortest_wait, 4 * slowest_);
  Task* best = nullptr;
  for (Task& t : tasks) {
    if (t.done || std::ranges::count(t.given, member)) continue;
    if (t.given.empty()) return &t;
    if (Clock::now() - t.since > wait && (!best || t.since < best->since)) best = &t;
  }
  return best;
}

bool Crew::find_costs(std::vector<Candidate>& all, const std::function<double(const Candidate&)>& here,
                      const std::function<bool()>& cancelled) {
  std::vector<Task> tasks;
  for (Candidate& c : all) tasks.push_back({.candidate = &c, .number = next_task_++});
  std::future<double> own;
  Task* own_task = nullptr;
  while (!std::ranges::all_of(tasks, &Task::done)) {
    if (cancelled && cancelled()) return false;
    listen(tasks);
    if (own_task && own.wait_for(0s) == std::future_status::ready) {
      own_task->candidate->cost = own.get();
      own_task->done = true;
      own_task = nullptr;
    }
    for (unsigned k = 0; k < members_.size(); ++k) {
      if (k == 0 ? own_task != nullptr : members_[k] != Member::Idle) continue;
      Task* next = next_task(tasks, k);
      if (!next) continue;
      next->given.push_back(k);
      next->since = Clock::now();
      if (k == 0) {
        own_task = next;
        own = std::async(std::launch::async, here, *next->candidate);
      } else {
        members_[k] = Member::Busy;
        messenger_.send(k, build_message(next->number, *next->candidate));
      }
    }
    std::this_thread::sleep_for(pause);
  }
  return true;
}

Diagnostics answer(Messenger& messenger, const Hunt& hunt) {
  bool heard = false;
  Clock::time_point greeted = {};
  Wait silence;
  while (silence.look() < patience) {
    if (!heard && Clock::now() - greeted > greeting) {
      messenger.send(0, fmt::format("stamp {}", hunt.stamp()));
      greeted = Clock::now();
    }
    auto message = messenger.receive();
    if (!message) {
      std::this_thread::sleep_for(pause);
      continue;
    }
    silence.start_again();
    std::istringstream words(message->text);
    std::string what, task;
    words >> what >> task;
    if (what == "over" || what == "other") {
      messenger.leave(task == "all");
      if (what == "over") return {};
      return {complaint("the process that leads searches for something else",
                        "the same program, question and version in all processes")};
    }
    if (what != "build") continue;
    heard = true;
    Candidate c;
    for (std::string step; words >> step;) c.steps.push_back(step);
    messenger.send(0, fmt::format("cost {} {:a}", task, hunt.judge(c)));
    silence.start_again();
  }
  messenger.leave(false);
  return {complaint("the process that leads says nothing any more", "a sign of life within a minute")};
}

}  // namespace porphyry
