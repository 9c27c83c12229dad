#include "porphyry/render/operations.h"

#include <fmt/format.h>

#include "json.h"
#include "porphyry/ir/operations.h"
#include "porphyry/ir/typing.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

struct Group {
  const char* title;
  Op first;
};
constexpr Group groups[] = {{"Arithmetic", Op::Add},     {"Two results", Op::AddCarry},
                            {"Bits", Op::And},           {"Comparisons", Op::Eq},
                            {"Conversions", Op::Narrow}, {"Lanes", Op::Splat},
                            {"Memory", Op::Load},        {"Calls and ends of blocks", Op::Call}};

// How it is written, with a for the first operand and so on.
std::string form(const OperationInfo& op) {
  std::string n(op.name);
  switch (op.layout) {
    case Layout::One:
    case Layout::Reduce: return n + " a";
    case Layout::Two:
    case Layout::Pair:
    case Layout::Interleave: return n + " a, b";
    case Layout::Three:
    case Layout::Carry: return n + " a, b, c";
    case Layout::Pick: return n + " condition, a, b";
    case Layout::Convert:
    case Layout::Splat: return n + " TYPE a";
    case Layout::Lane: return n + " a, index";
    case Layout::Put: return n + " a, index, b";
    case Layout::Shuffle: return n + " a, b, {4, 0, …}";
    case Layout::Load: return n + " TYPE [p + i*scale + offset]";
    case Layout::Store: return n + " a, [p + i*scale + offset]";
    case Layout::At: return n + " [p + i*scale + offset]";
    case Layout::Reserve: return n + " BYTES align N";
    case Layout::AddressOf: return n + " of NAME";
    case Layout::Release:
    case Layout::Sole: return n + " p";
    case Layout::End: return n + " q";
    case Layout::Copy: return n + " [to], [from], bytes";
    case Layout::Fill: return n + " a, [to], bytes";
    case Layout::Renew: return n + " p, bytes";
    case Layout::Call: return n + " NAME(a, …)";
    case Layout::CallThrough: return op.ends_block() ? n + " [p](a, …)" : n + " [p](a, …) -> TYPES";
    case Layout::Watch: return n + " VARIABLE = a";
    case Layout::Go: return n + " block(a, …)";
    case Layout::When: return n + " condition go block else block";
    case Layout::Choose: return n + " a { 0: block, …, else: block }";
    case Layout::Return: return n + " a, …";
    case Layout::Trap: return n;
  }
  return n;
}

std::string gives(const OperationInfo& op) {
  switch (op.result) {
    case ResultRule::Same: return "the operands' type";
    case ResultRule::Truth: return "bool";
    case ResultRule::SameTwice: return "the operands' type, twice";
    case ResultRule::SameTruth: return "the operands' type, bool";
    case ResultRule::Element:
      return op.layout == Layout::Reduce || op.layout == Layout::Lane ? "an element" : "";
    case ResultRule::Doubled: return "twice the lanes";
    case ResultRule::Stated: return "TYPE";
    case ResultRule::Own:
      return op.calls() ? "the callee's results" : op.op == Op::Shuffle ? "as many lanes as numbers" : "ptr";
    case ResultRule::None: break;
  }
  return "";
}

std::string may(const OperationInfo& op) {
  std::vector<std::string> out;
  if (op.may_trap()) out.push_back("trap");
  if (op.reads_memory()) out.push_back("read");
  if (op.writes_memory()) out.push_back("write");
  std::string text;
  for (const std::string& w : out) text += (text.empty() ? "" : ", ") + w;
  return text;
}

std::string takes(const OperationInfo& op) {
  return op.accepts && op.layout <= Layout::Reduce ? accepted_shapes(op.op) : "";
}

}  // namespace

std::string render_operations() {
  std::string out =
      "# Operations\n\nMade from the table in `include/porphyry/ir/operations.inc` by `porphyry operations`: "
      "do not "
      "edit.\n\nAll that computes works on lanes as on scalars, lane by lane. `docs/language.md` says what "
      "programs "
      "mean.\n";
  for (const OperationInfo& op : all_operations()) {
    for (const Group& g : groups)
      if (g.first == op.op)
        out += fmt::format(
            "\n## {}\n\n| written | takes | gives | may | promises | meaning |\n|---|---|---|---|---|---|\n",
            g.title);
    out += fmt::format("| `{}` | {} | {} | {} | {} | {} |\n", form(op), takes(op), gives(op), may(op),
                       words_of(op.promises, promise_words()), op.doc);
  }
  return out;
}

std::string render_operations_json() {
  Json list = Json::array();
  for (const OperationInfo& op : all_operations())
    list.push_back({{"name", op.name},
                    {"written", form(op)},
                    {"takes", takes(op)},
                    {"gives", gives(op)},
                    {"may", may(op)},
                    {"promises", words_of(op.promises, promise_words())},
                    {"meaning", op.doc}});
  return json_text(list);
}

}  // namespace porphyry
