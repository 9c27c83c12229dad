// The data of the page; how it looks and moves stands in page.html.
#include "porphyry/render/page.h"

#include <algorithm>

#include "ink.h"
#include "json.h"
#include "notes_json.h"
#include "page_text.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/ask/compare.h"
#include "porphyry/base/hash.h"
#include "porphyry/base/lines.h"
#include "porphyry/base/parallel.h"
#include "porphyry/machine/listing.h"
#include "porphyry/print/function_texts.h"
#include "porphyry/print/print.h"
#include "porphyry/render/notes.h"
#include "totals.h"

namespace porphyry {
namespace {

using namespace machine;

constexpr const char* role_names[] = {"", "move", "spill", "reload", "frame", "padding"};

// What the page compares of a line: a number that browsers hold exactly, the same for the same shape.
uint64_t number_of(const std::string& shape) { return hash_of(std::string_view(shape)) >> 16; }

// One function of a build: blocks, their instructions, and the code lines that each became.
class FunctionData {
 public:
  FunctionData(const LoweredModule& lowered, const CompiledFunction& compiled, const Target& target,
               const LineShapes& shapes)
      : module_(*lowered.legal),
        f_(module_.function(compiled.symbol)),
        c_(compiled),
        texts_(module_, f_),
        listing_(make_listing(lowered, compiled, target)) {
    for (const ListingBlock& b : listing_.blocks)
      for (const ListingLine& l : b.lines) lines_.push_back(&l);
    const auto plain = porphyry::lines_of(listing_);
    const auto of_plain = shapes.of(listing_);
    for (size_t k = 0; k < plain.size(); ++k) shape_[plain[k]] = number_of(of_plain[k]);
    for (uint32_t k = 0; k < c_.lines.size() && k < lines_.size(); ++k)
      if (c_.lines[k].origin.exists()) of_[c_.lines[k].origin.index].push_back(k);
    for (const auto& [root, inner] : c_.covered) inside_[inner.index] = root;
  }

  Json run() {
    const Dominators dominators(f_);
    const Loops loops(f_, dominators);
    const Frequencies frequencies(f_, dominators, loops);
    Json blocks = Json::array();
    std::vector<Json> bare = without_origin();
    for (size_t b = 0; b < c_.blocks.size(); ++b) {
      const Block origin = c_.blocks[b].origin;
      Json rows = Json::array();
      if (!bare[b].empty()) rows.push_back({{"t", ""}, {"c", std::move(bare[b])}});
      if (origin.exists())
        for (Instruction i : f_.instructions(origin)) rows.push_back(row(i));
      blocks.push_back({{"label", origin.exists() ? label(origin) : ""},
                        {"depth", c_.blocks[b].depth},
                        {"times", origin.exists() ? frequencies.of(origin) : 0},
                        {"rows", std::move(rows)}});
    }
    return {{"name", c_.name},
            {"signature", listing_.signature},
            {"frame", listing_.frame_bytes},
            {"totals", totals_json(listing_.totals)},
            {"arrives", places(listing_.parameters)},
            {"leaves", places(listing_.results)},
            {"lives", lives()},
            {"blocks", std::move(blocks)}};
  }

 private:
  std::string label(Block b) const {
    std::string out = texts_.block(b), list;
    for (Value v : f_.parameters(b)) list += (list.empty() ? "" : ", ") + texts_.value(v);
    return list.empty() ? out : out + "(" + list + ")";
  }
  Json line(uint32_t k) const {
    const auto shape = shape_.find(lines_[k]);
    return Json::array({lines_[k]->offset, lines_[k]->text, role_names[static_cast<size_t>(lines_[k]->role)],
                        shape == shape_.end() ? 0 : shape->second});
  }
  // Frames, moves between blocks, padding: by block.
  std::vector<Json> without_origin() const {
    std::vector<Json> out(c_.blocks.size(), Json::array());
    size_t b = 0;
    for (uint32_t k = 0; k < c_.lines.size() && k < lines_.size(); ++k) {
      while (b + 1 < c_.blocks.size() && c_.lines[k].offset >= c_.blocks[b + 1].offset) ++b;
      if (!c_.lines[k].origin.exists() && b < out.size()) out[b].push_back(line(k));
    }
    return out;
  }
  Json row(Instruction i) const {
    Json code = Json::array();
    if (auto known = of_.find(i.index); known != of_.end())
      for (uint32_t k : known->second) code.push_back(line(k));
    const bool silent = code.empty();
    Json out = {{"t", texts_.instruction(i)}, {"c", std::move(code)}};
    if (f_.result_count(i)) out["v"] = texts_.value(f_.result(i));
    if (std::string p = place_text(module_, f_.position(i)); !p.empty()) out["p"] = p;
    if (auto root = inside_.find(i.index); root != inside_.end() && silent)
      out["in"] = texts_.instruction(root->second);
    return out;
  }
  static Json places(const std::vector<FunctionListing::Place>& all) {
    Json out = Json::array();
    for (const auto& p : all) out.push_back({p.name, p.type, p.where});
    return out;
  }
  Json lives() const {
    Json out = Json::array();
    for (const auto& life : listing_.lives) {
      Json stays = Json::array();
      for (const auto& s : life.stays) stays.push_back({s.where, s.from, s.to});
      out.push_back({{"v", life.value}, {"stays", std::move(stays)}, {"why", life.reasons}});
    }
    return out;
  }

  const Module& module_;
  const Function& f_;
  const CompiledFunction& c_;
  FunctionTexts texts_;
  FunctionListing listing_;
  std::vector<const ListingLine*> lines_;
  std::map<const ListingLine*, uint64_t> shape_;
  std::map<uint32_t, std::vector<uint32_t>> of_;  // by instruction: rows of lines
  std::map<uint32_t, Instruction> inside_;
};

void put(std::string& page, std::string_view mark, const std::string& text) {
  if (size_t at = page.find(mark); at != page.npos) page.replace(at, mark.size(), text);
}

// In one line. Inside of a script element nothing may look like its end.
std::string text_of(const Json& j) {
  std::string text = j.dump(-1, ' ', false, Json::error_handler_t::replace);
  for (size_t at = 0; (at = text.find("</", at)) != text.npos; at += 3) text.replace(at, 2, "<\\/");
  return text;
}

}  // namespace

std::string render_page(const std::vector<PageBuild>& builds, const Target& target,
                        const PageOptions& options) {
  Json sources = Json::object();
  for (const auto& [name, text] : options.sources) sources[name] = lines_of(text);
  std::string data = text_of({{"title", options.title},
                              {"version", options.version},
                              {"view", options.view},
                              {"function", options.function},
                              {"build", options.first_build},
                              {"target", std::string(target.name)},
                              {"sources", std::move(sources)}});
  data.back() = ',';  // the builds follow, which are long: each function is written where it is made
  data += "\"builds\":[";
  const LineShapes shapes(target);
  for (const PageBuild& b : builds) {
    const auto& compiled = b.lowered->functions;
    std::vector<std::string> functions(compiled.size());
    on_all_cores(compiled.size(), [&](size_t k) {
      functions[k] = text_of(FunctionData(*b.lowered, compiled[k], target, shapes).run());
    });
    std::string build =
        text_of({{"name", b.name}, {"notes", b.notes ? notes_json(*b.notes) : Json::array()}});
    build.pop_back();
    data += (&b == builds.data() ? "" : ",") + build + ",\"functions\":[";
    for (size_t k = 0; k < functions.size(); ++k) data += (k ? "," : "") + functions[k];
    data += "]}";
  }
  data += "]}";
  std::string page(page_text);
  put(page, "{{title}}", as_markup(options.title));
  put(page, "{{data}}", data);
  return page;
}

}  // namespace porphyry
