// The verbs of the tool, one function each.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

namespace porphyry::tool {

// Stands before a negative number so that it is not taken for an option.
inline const std::string number_mark = "number:";

struct Options {
  std::vector<std::string> libraries;  // of passes
  std::vector<std::string> files;      // of verbs that take several; `file` is the current one
  std::vector<std::string> permits;
  std::string file = "-", output, level, pipeline, function, as, until, on = "eval", target, folder, stage;
  std::string features = "usual";
  std::vector<std::string> words;
  bool coverage = false, native = false, json = false, steps = false, memory = false, no_colour = false,
       here = false, lazy = false, lives = false, guarded = false;
  bool secret = false, forward = false;
  std::string view, slice;
  bool beside = false, sarif = false;
  bool difference = false, check = false, bits = false;
  std::string calls, header, record, recorded, pass, inside, value, against, test, says;
  std::vector<std::string> one_calls;  // "FUNCTION ARGUMENT …"
  std::vector<std::string> sides;      // of a comparison
  std::string by, goal = "size", state;
  uint64_t rounds = 0;
  bool spread = false;
  std::string line, kind, text, code;  // of a question
  std::vector<std::string> environment;
  std::set<std::string> given;  // names of the options that the call has
  uint64_t count = 1, seed = 1, step_limit = 1'000'000'000;
  double time_limit = 10;
  size_t skip = 0, lines = 2'000, inputs = 32;
  unsigned threads = 0, bound = 4;
};

int verb_check(const Options& o);
int verb_show(const Options& o);
int verb_make_sample(const Options& o);
int verb_operations(const Options& o);
int verb_pack(const Options& o);
int verb_unpack(const Options& o);
int verb_optimize(const Options& o);
int verb_lower(const Options& o);
int verb_run(const Options& o);
int verb_why(const Options& o);
int verb_compare(const Options& o);
int verb_hunt(const Options& o);
int verb_prove(const Options& o);
int verb_trace(const Options& o);
int verb_shrink(const Options& o);
int verb_demo(const Options& o);

}  // namespace porphyry::tool
