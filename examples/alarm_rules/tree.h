// A small language for alarm rules of frost watch, and its syntax tree.
//
//   reading air in C                          -- a series: one number every ten minutes
//   reading humidity in percent
//   let margin = 1.5 C                        -- a named threshold
//   dew(t C, h percent) = t - (100 percent - h) / 5 percent * 1 C
//   alarm frost  when highest air over 20 minutes < 0 C
//   alarm mist   when air - dew(air, humidity) < margin and not frost
//
// `lowest`, `highest`, `mean` and `rise` look at a window of the last minutes; shorter at the start of the
// night. Every number has a unit, and only like units are added, compared or taken apart.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/source_text.h"

namespace rules {

struct Place {
  uint32_t offset = 0, length = 1;
};

enum class NodeKind { Number, Name, Call, Window, Binary, Not };

struct Node {
  NodeKind kind;
  Place place;
  std::string text;   // a name, an operator, the word of a window
  double number = 0;  // of a number, in its unit; of a window, minutes
  std::string unit;   // of a number; found for all others when the tree is compiled
  std::vector<std::unique_ptr<Node>> children;
};

struct Parameter {
  std::string name, unit;
};

struct Definition {
  enum Kind { Reading, Let, Function, Alarm } kind;
  Place place;
  std::string name, unit;
  std::vector<Parameter> parameters;
  std::unique_ptr<Node> body;
};

struct Program {
  std::vector<Definition> definitions;
};

// All mistakes at once, each with its place.
porphyry::Result<std::shared_ptr<Program>> parse(const porphyry::SourceText& source);

}  // namespace rules
