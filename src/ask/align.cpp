// Idea: two builds of one function seldom use the same registers, so lines are compared by their shape: what
// stands in them with registers and places in the code left open. The longest common run of shapes is common;
// a shape that is left over on both sides has moved.
#include <dtl/dtl.hpp>
#include <map>

#include "porphyry/ask/compare.h"

namespace porphyry {
namespace {

using machine::FunctionListing;
using machine::ListingLine;

bool is_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '.'; }

}  // namespace

LineShapes::LineShapes(const machine::Target& target) {
  for (const machine::RegisterClass& c : target.classes)
    for (unsigned r = c.first; r < unsigned(c.first) + c.count; ++r)
      for (const machine::RegisterView& view : c.views)
        registers_[std::string(target.register_name(r, view.bits))] =
            std::string(c.name) + std::to_string(view.bits);
}

std::vector<std::string> LineShapes::of(const FunctionListing& l) const {
  std::set<std::string> labels;
  for (const auto& block : l.blocks) labels.insert(block.label);
  std::vector<std::string> out;
  for (const ListingLine* line : lines_of(l)) out.push_back(shape(line->text, labels));
  return out;
}

std::string LineShapes::shape(const std::string& text, const std::set<std::string>& labels) const {
  std::string out;
  for (size_t at = 0; at < text.size();) {
    size_t end = at;
    while (end < text.size() && is_word(text[end])) ++end;
    if (end == at) {
      out += text[at++];
      continue;
    }
    std::string word = text.substr(at, end - at);
    auto known = registers_.find(word);
    out += known != registers_.end() ? known->second : labels.contains(word) ? "…" : word;
    at = end;
  }
  return out;
}

std::vector<const ListingLine*> lines_of(const FunctionListing& l) {
  std::vector<const ListingLine*> out;
  for (const auto& block : l.blocks)
    for (const ListingLine& line : block.lines)
      if (line.role != machine::Role::Padding) out.push_back(&line);
  return out;
}

std::vector<AlignedLine> align(const FunctionListing& left, const FunctionListing& right,
                               const machine::Target& target) {
  const LineShapes shapes(target);
  const auto left_shapes = shapes.of(left), right_shapes = shapes.of(right);
  const auto left_lines = lines_of(left), right_lines = lines_of(right);
  dtl::Diff<std::string> compared(left_shapes, right_shapes);
  compared.onHuge();
  compared.compose();
  using Kind = AlignedLine::Kind;
  std::vector<AlignedLine> out;
  std::map<std::string, std::vector<size_t>> left_over;  // by shape: rows that only the left side has
  size_t l = 0, r = 0;
  for (const auto& [shape, info] : compared.getSes().getSequence()) {
    AlignedLine line;
    if (info.type != dtl::SES_ADD) line.left = l++;
    if (info.type != dtl::SES_DELETE) line.right = r++;
    line.kind = info.type == dtl::SES_ADD                                      ? Kind::Right
                : info.type == dtl::SES_DELETE                                 ? Kind::Left
                : left_lines[line.left]->text == right_lines[line.right]->text ? Kind::Same
                                                                               : Kind::Alike;
    if (line.kind == Kind::Left) left_over[shape].push_back(out.size());
    out.push_back(line);
  }
  // Each line has one partner at most.
  for (AlignedLine& line : out) {
    if (line.kind != Kind::Right) continue;
    auto at = left_over.find(right_shapes[line.right]);
    if (at == left_over.end() || at->second.empty()) continue;
    out[at->second.front()].kind = line.kind = Kind::Moved;
    at->second.erase(at->second.begin());
  }
  return out;
}

}  // namespace porphyry
