// Searches for the pipeline that makes a program smallest, or fastest on given calls.
//
//   auto hunt = Hunt::make(module, question, target);
//   HuntState state{.seed = 1};
//   while (there_is_time && (*hunt)->next_generation(state)) …
//   Recipe best = (*hunt)->best(state);                      // without steps that do nothing for it
//
// Each generation changes the best pipelines so far (a step more, fewer, another one, two in the other order,
// the beginning of one with the end of another), builds each and keeps the best. What comes out of a
// generation depends on the state and the question alone, not on how many threads worked on it; so a search
// goes on from its written state as if it had never stopped. J. Holland, "Adaptation in Natural and
// Artificial Systems", 1975; K. Cooper, D. Subramanian, L. Torczon, "Adaptive Optimizing Compilers for the
// 21st Century", 2002.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "porphyry/ask/inputs.h"
#include "porphyry/machine/lower.h"
#include "porphyry/optimize/pipeline.h"

namespace porphyry {

struct HuntQuestion {
  enum class Goal : uint8_t { Size, Time } goal = Goal::Size;
  std::string function;            // only its bytes count; empty: those of all functions
  std::vector<WrittenCall> calls;  // that are timed, and checked besides those that are made
  machine::LowerOptions options = {};
  unsigned population = 16, children = 24;  // kept, and tried in each generation
  unsigned threads = 0;                     // 0: as many as there are processors. Times are taken on one
  class Crew* crew = nullptr;               // other processes that build as well, instead of threads
  std::function<bool()> cancelled = {};  // asked before each build: true ends the generation without effect
};

struct Candidate {
  std::vector<std::string> steps;  // names of passes
  double cost = 0;                 // bytes, or nanoseconds
  std::string text() const;        // "promote; fold; sweep"
};

struct HuntState {
  uint64_t seed = 1;
  uint64_t program = 0;  // a hash of its text: a state belongs to one
  uint64_t generation = 0, built = 0, refused = 0;
  std::vector<Candidate> best;  // the first one is the best; empty before the first generation
};

struct Recipe {
  Candidate pipeline;                                  // each step of it matters
  std::vector<double> without;                         // by step: the cost when it is left out
  std::vector<std::pair<std::string, double>> levels;  // what the levels cost
};
// A search for one program: what its inputs show is found out once.
class Hunt {
 public:
  // All must outlive it. Errors: the question does not fit the module.
  static Result<std::unique_ptr<Hunt>> make(const Module& module, const HuntQuestion& question,
                                            const machine::Target& target);
  ~Hunt();

  // One generation more; the first one tries the levels. A candidate that means something else than the
  // program, as far as inputs show it, is refused and counted. False: it was cancelled, and the state is as
  // it was. The state must be a new one, or belong to the program: see HuntState::program.
  bool next_generation(HuntState& state) const;
  // Of a state with a generation at least.
  Recipe best(const HuntState& state) const;
  // Refused, or what a candidate costs as far as any machine can say: bytes; 0 when times are asked for,
  // which are taken in the process that leads.
  double judge(const Candidate& candidate) const;
  // Of the program and the question: the same in all processes that work on one search.
  uint64_t stamp() const;

 private:
  explicit Hunt(std::unique_ptr<class Hunter> hunter);
  std::unique_ptr<class Hunter> hunter_;
};

// States as JSON text. An error says what is wrong with one that was read.
std::string write_state(const HuntState& state);
Result<HuntState> read_state(const std::string& name, const std::string& text);
uint64_t hash_of(const Module& module);

}  // namespace porphyry
