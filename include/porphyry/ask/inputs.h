// Inputs for functions: written by hand, or made from a seed; and what a call with them can be seen to do.
//
//   for (const WrittenCall& call : make_calls(module, function, {.count = 8}))
//     fmt::format("{}", call.text());          // "chill random:4096:i8:3 7 2.5", as `porphyry run` takes it
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "porphyry/call/call.h"
#include "porphyry/eval/evaluator.h"

namespace porphyry {

// A call in words; see call/call.h for what they may be.
struct WrittenCall {
  std::string function;
  std::vector<std::string> words;

  std::string text() const;  // each word in quotes that a shell needs them for
};
// Of "chill file:night.txt:f32 96 2.5". Words are parted by blanks; lanes stand in braces.
WrittenCall read_call(std::string_view text);

// What a call with an input shows: how it ends, and when it ends with results, those and memory afterwards.
struct Seen {
  Outcome::End end = Outcome::End::Result;
  std::string message;                       // unless there are results
  std::vector<std::string> results;          // as the text form writes them; every NaN is "nan"
  std::vector<std::vector<uint8_t>> pieces;  // memory that the input handed in
  struct Data {
    std::string name;
    std::vector<uint8_t> bytes;
  };
  std::vector<Data> data;  // items that others see and that may change
  uint64_t steps = 0;

  // "3", "a trap: 'trap' was reached", …
  std::string text() const;
};

// How Seen has a result, as the text form writes it.
std::string seen_result(std::string text);

struct RunLimits {
  uint64_t seed = 1, steps = 100'000;
  std::function<void(const Observation&)> follow = {};
};

// Runs a call in a fresh evaluator. External functions that are not the usual mathematics give numbers that
// depend on their arguments only; those that give pointers, or write, are not there, and calling one faults.
// O(data of the module + steps).
Seen evaluate(const Module& module, const WrittenCall& call, const RunLimits& limits = {});

// What keeps `after` from standing for `before`, in words; empty when nothing does. A fault permits
// everything; a run that was not finished says nothing; what memory holds after a trap is seen by nobody.
// Items of data are compared where both have them.
std::string deviation(const Seen& before, const Seen& after);

struct InputOptions {
  unsigned count = 32;      // how many are wanted at most; fewer where runs are long
  unsigned attempts = 128;  // how many are tried
  RunLimits limits = {};
};
// Inputs with which the function comes to its end, and to the same one however fresh memory was filled. Those
// are preferred that go ways, or bring the sides of a comparison as near, as no other one does. Fewer than
// wanted, or none, where tries bring no more. O(attempts * run).
std::vector<WrittenCall> make_calls(const Module& module, Symbol function, const InputOptions& options = {});

}  // namespace porphyry
