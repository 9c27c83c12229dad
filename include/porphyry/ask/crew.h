// Several processes that build the candidates of one search: one leads, the others answer.
//
//   Crew crew(messenger, question_stamp);                 // in the process that leads
//   question.crew = &crew;                                // each generation is then built by all
//
//   Diagnostics wrong = answer(messenger, *hunt);         // in the others, until the leader is done
//
// Nothing hangs on one of the others: what it was given and does not answer in the time that the slowest
// build took so far, four times, is given to another one as well, at last to the leader itself; the first
// answer counts. As costs depend on the candidate alone, the search comes out as in one process.
#pragma once

#include <chrono>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "porphyry/base/diagnostics.h"

namespace porphyry {

struct Candidate;
class Hunt;

// What carries texts between processes, which are numbered from 0; 0 leads.
class Messenger {
 public:
  struct Message {
    unsigned from = 0;
    std::string text;
  };
  virtual ~Messenger() = default;
  virtual unsigned self() const = 0;
  virtual unsigned count() const = 0;
  // Never waits; what is sent to a process that has died is lost.
  virtual void send(unsigned to, std::string text) = 0;
  virtual std::optional<Message> receive() = 0;  // never waits
  // The last call: waits for the others when they are all there, and only then.
  virtual void leave(bool all_are_there) = 0;
};

class Crew {
 public:
  // The stamp tells which question is searched: Hunt::stamp. Others that work on another one are sent away.
  Crew(Messenger& messenger, uint64_t stamp);
  ~Crew();  // tells the others that it is over, and leaves
  Crew(const Crew&) = delete;
  Crew& operator=(const Crew&) = delete;

  // Sets the costs of all. `here` finds a cost in this process, on a thread of its own. False: cancelled.
  bool find_costs(std::vector<Candidate>& all, const std::function<double(const Candidate&)>& here,
                  const std::function<bool()>& cancelled);
  // The numbers of those that work on something else.
  std::vector<unsigned> strangers() const;

 private:
  struct Task;
  enum class Member : uint8_t { Unknown, Idle, Busy, Stranger };
  void listen(std::vector<Task>& tasks);
  Task* next_task(std::vector<Task>& tasks, unsigned for_member) const;

  Messenger& messenger_;
  uint64_t stamp_, next_task_ = 1;
  std::vector<Member> members_;
  std::chrono::steady_clock::duration slowest_{};
  std::chrono::steady_clock::time_point greeted_{};
};

// Answers until the leader says that it is over, or says nothing for a minute. Errors: the leader works on
// another question.
Diagnostics answer(Messenger& messenger, const Hunt& hunt);

}  // namespace porphyry
