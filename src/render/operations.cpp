#include "porphyry/render/operations.h"

#include <fmt/format.h>

#include "json.h"
#include "porphyry/ir/operations.h"
#include "porphyry/ir/typing.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

struct Documented {
  const char* group;  // that begins here; null: that of the one before
  const char* doc;
};

struct Documentation {
  std::array<const char*, std::size(layout_table)> written{};  // by layout
  std::array<Documented, operation_count> operations{};        // by operation
};

const Documentation& documentation() {
  static const Documentation all = [] {
    Documentation out;
    const char* group = nullptr;
#define PORPHYRY_WRITTEN(layout, operands) out.written[static_cast<size_t>(Layout::layout)] = operands;
#define PORPHYRY_GROUP(title) group = title;
#define PORPHYRY_DOC(operation, sentence) \
  out.operations[static_cast<size_t>(Op::operation)] = {std::exchange(group, nullptr), sentence};
#include "operation_docs.inc"
#undef PORPHYRY_WRITTEN
#undef PORPHYRY_GROUP
#undef PORPHYRY_DOC
    return out;
  }();
  return all;
}

// How it is written, with a for the first operand and so on.
std::string form(const OperationInfo& op) {
  std::string out(op.name), behind = documentation().written[static_cast<size_t>(op.layout)];
  if (op.ends_block() && op.calls()) behind = behind.substr(0, behind.find(" ->"));
  return behind.empty() ? out : out + " " + behind;
}

std::string gives(const OperationInfo& op) {
  switch (op.result) {
    case ResultRule::Same: return "the operands' type";
    case ResultRule::Truth: return "bool";
    case ResultRule::SameTwice: return "the operands' type, twice";
    case ResultRule::SameTruth: return "the operands' type, bool";
    case ResultRule::Element: return "an element";
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
  return op.accepts && op.is_plain() ? accepted_shapes(op.op) : "";
}

}  // namespace

std::string render_operations() {
  std::string out =
      "# Operations\n\nMade from the tables in `include/porphyry/ir/` and their documentation by `porphyry "
      "operations`: do not "
      "edit.\n\nAll that computes works on lanes as on scalars, lane by lane. `docs/language.md` says what "
      "programs "
      "mean.\n";
  for (const OperationInfo& op : all_operations()) {
    const Documented& d = documentation().operations[static_cast<size_t>(op.op)];
    if (d.group)
      out += fmt::format(
          "\n## {}\n\n| written | takes | gives | may | promises | meaning |\n|---|---|---|---|---|---|\n",
          d.group);
    out += fmt::format("| `{}` | {} | {} | {} | {} | {} |\n", form(op), takes(op), gives(op), may(op),
                       words_of(op.promises, promise_words()), d.doc);
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
                    {"meaning", documentation().operations[static_cast<size_t>(op.op)].doc}});
  return json_text(list);
}

}  // namespace porphyry
