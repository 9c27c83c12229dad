#include "porphyry/render/listing.h"

#include <fmt/format.h>

#include <algorithm>

#include "ink.h"
#include "totals.h"

namespace porphyry {
namespace {

using namespace machine;

std::string bytes_text(const std::vector<uint8_t>& bytes) {
  std::string out;
  for (uint8_t b : bytes) out += fmt::format("{}{:02x}", out.empty() ? "" : " ", b);
  return out;
}

std::string role_text(Role role) {
  switch (role) {
    case Role::Spill: return "spill";
    case Role::Reload: return "reload";
    case Role::Frame: return "frame";
    case Role::Move: return "move";
    case Role::Padding: return "padding";
    case Role::Program: break;
  }
  return "";
}

std::string place_list(const std::vector<FunctionListing::Place>& places) {
  std::string out;
  for (const auto& p : places)
    out += (out.empty() ? "" : ", ") + (p.name.empty() ? p.where : p.name + " in " + p.where);
  return out;
}

std::string joined(const std::vector<std::string>& words) {
  std::string out;
  for (const auto& w : words) out += (out.empty() ? "" : " ") + w;
  return out;
}

// What moved, where to, and why.
bool was_moved(const machine::FunctionListing::Life& life) {
  return std::any_of(life.stays.begin(), life.stays.end(),
                     [&](const auto& stay) { return stay.where != life.stays[0].where; });
}

std::string life_text(const char* word, const FunctionListing::Life& life, const Ink& ink) {
  std::string out = fmt::format("  {:<10}{}", word, life.value) + (life.stays.empty() ? " nowhere" : " in ");
  for (size_t k = 0; k < life.stays.size(); ++k)
    out += fmt::format("{}{} ({:04x} to {:04x})", k ? ", " : "", life.stays[k].where, life.stays[k].from,
                       life.stays[k].to);
  out += "\n";
  for (const std::string& why : life.reasons) out += ink(faint, "            " + why) + "\n";
  return out;
}

std::string head(const FunctionListing& l, const Ink& ink, bool all_lives) {
  std::string out = ink(bold, l.name + l.signature) + "\n";
  if (!l.parameters.empty()) out += "  arrives   " + place_list(l.parameters) + "\n";
  if (!l.results.empty()) out += "  leaves    " + place_list(l.results) + "\n";
  if (l.frame_bytes) out += fmt::format("  frame     {} bytes\n", l.frame_bytes);
  if (!l.saved.empty()) out += "  keeps     " + joined(l.saved) + "\n";
  const auto& t = l.totals;
  out += "  totals    " + counted(t.instructions, "instruction") + ", " + counted(t.bytes, "byte") + ", " +
         counted(t.loads, "load") + ", " + counted(t.stores, "store") + ", " + counted(t.moves, "move") +
         ", " + counted(t.spills, "spill") + ", " + counted(t.reloads, "reload") +
         (t.spilled_in_loops ? fmt::format(" ({} of both in loops)", t.spilled_in_loops) : "") + "\n";
  for (const auto& life : l.lives)
    if (all_lives || was_moved(life) || !life.reasons.empty()) out += life_text("lives", life, ink);
  if (all_lives)
    for (const auto& variable : l.variables) out += life_text("variable", variable, ink);
  if (t.not_described)
    out += "  unknown   " + counted(t.not_described, "instruction") + " of " +
           counted(t.bytes_not_described, "byte") + " that the book does not describe\n";
  return out;
}

}  // namespace

std::string render(const FunctionListing& l, bool colour, bool all_lives) {
  Ink ink{colour};
  size_t byte_width = 0, text_width = 0, operation_width = 0;
  unsigned deepest = 0;
  for (const ListingBlock& b : l.blocks) {
    deepest = std::max(deepest, b.depth);
    for (const ListingLine& x : b.lines) {
      byte_width = std::max(byte_width, x.bytes.size() * 3);
      text_width = std::max(text_width, x.text.size());
      if (!x.position.empty()) operation_width = std::max(operation_width, x.operation.size());
    }
  }
  std::string out = head(l, ink, all_lives);
  for (const ListingBlock& b : l.blocks) {
    if (b.lines.empty()) continue;
    std::string rail;
    for (unsigned d = 0; d < deepest; ++d) rail += d < b.depth ? "|" : " ";
    out += b.label.empty() ? "" : "\n" + ink(amber, rail) + " " + ink(bold, b.label + ":") + "\n";
    std::string last;
    for (const ListingLine& x : b.lines) {
      std::string about = role_text(x.role);
      bool again = x.operation == last && !x.operation.empty();
      std::string operation = again && about.empty() ? "\"" : x.operation;
      last = about.empty() ? x.operation : "";
      std::string note = about.empty() ? operation : about + (x.value.empty() ? "" : " for " + x.value);
      std::string line = ink(amber, rail) + ink(faint, fmt::format("  {:04x}  ", x.offset)) +
                         ink(faint, padded(bytes_text(x.bytes), byte_width + 1));
      line += about.empty() ? padded(x.text, text_width + 2) : ink(violet, padded(x.text, text_width + 2));
      std::string tail = about.empty() && !x.position.empty() && !again
                             ? padded(note, operation_width + 2) + x.position
                             : note;
      line += ink(about.empty() ? teal : faint, tail);
      while (!colour && !line.empty() && line.back() == ' ') line.pop_back();
      out += line + "\n";
    }
  }
  return out;
}

std::string render(const ObjectListing& object, bool colour, bool with_summary) {
  std::string out;
  for (const FunctionListing& l : object.functions) out += (out.empty() ? "" : "\n") + render(l, colour);
  if (!with_summary) return out;
  double share = object.instructions ? 100.0 * object.described / object.instructions : 100;
  return out + fmt::format(
                   "\n{}, {} instructions of {} bytes; the book describes {:.1f} % of them, {} bytes "
                   "stay bytes\n",
                   counted(object.functions.size(), "function"), object.instructions, object.bytes, share,
                   object.bytes_not_described);
}

static Json stays_of(const FunctionListing::Life& life) {
  Json out = Json::array();
  for (const auto& stay : life.stays)
    out.push_back({{"where", stay.where}, {"from", stay.from}, {"to", stay.to}});
  return out;
}

std::string render_json(const std::vector<FunctionListing>& listings) {
  Json all = Json::array();
  auto places = [](const std::vector<FunctionListing::Place>& list) {
    Json out = Json::array();
    for (const auto& p : list) out.push_back({{"name", p.name}, {"type", p.type}, {"where", p.where}});
    return out;
  };
  for (const FunctionListing& l : listings) {
    const auto& t = l.totals;
    Json f = {{"name", l.name},
              {"signature", l.signature},
              {"parameters", places(l.parameters)},
              {"results", places(l.results)},
              {"frame_bytes", l.frame_bytes},
              {"saved", l.saved},
              {"totals", totals_json(t)}};
    f["totals"]["not_described"] = t.not_described;
    f["totals"]["bytes_not_described"] = t.bytes_not_described;
    if (!l.section.empty()) f["section"] = l.section, f["start"] = l.start;
    for (const auto& life : l.lives) {
      f["lives"].push_back({{"value", life.value}, {"stays", stays_of(life)}, {"reasons", life.reasons}});
    }
    for (const auto& v : l.variables) f["variables"].push_back({{"name", v.value}, {"stays", stays_of(v)}});
    for (const ListingBlock& b : l.blocks) {
      Json block = {{"label", b.label}, {"offset", b.offset}, {"depth", b.depth}, {"lines", Json::array()}};
      for (const ListingLine& x : b.lines)
        block["lines"].push_back({{"offset", x.offset},
                                  {"bytes", bytes_text(x.bytes)},
                                  {"text", x.text},
                                  {"value", x.value},
                                  {"operation", x.operation},
                                  {"position", x.position},
                                  {"role", x.role == Role::Program ? "program" : role_text(x.role)}});
      f["blocks"].push_back(std::move(block));
    }
    all.push_back(std::move(f));
  }
  return json_text(all);
}

}  // namespace porphyry
