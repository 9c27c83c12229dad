// The data of the page; how it looks and moves stands in page.html.
#include "porphyry/render/page.h"

#include <algorithm>

#include "ink.h"
#include "json.h"
#include "notes_json.h"
#include "page_text.h"
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

// In one line. Inside of a script element nothing may look like its end.
std::string text_of(const Json& j) {
  std::string text = j.dump(-1, ' ', false, Json::error_handler_t::replace);
  for (size_t at = 0; (at = text.find("</", at)) != text.npos; at += 3) text.replace(at, 2, "<\\/");
  return text;
}

// One function of a build: blocks, their instructions, and the code lines that each became.
class FunctionData {
 public:
  FunctionData(const LoweredModule& lowered, const CompiledFunction& compiled, const Target& target,
               const LineShapes& shapes)
      : module_(*lowered.legal),
        f_(module_.function(compiled.symbol)),
        c_(compiled),
        texts_(module_, f_),
        listing_(make_listing(lowered, compiled, target, Origins::Untold)) {
    for (const ListingBlock& b : listing_.blocks)
      for (const ListingLine& l : b.lines) lines_.push_back(&l);
    const auto compared = porphyry::lines_of(listing_);  // in the same order, without padding
    const auto of_compared = shapes.of(listing_);
    shapes_.resize(lines_.size());
    for (size_t k = 0, next = 0; k < lines_.size() && next < compared.size(); ++k)
      if (lines_[k] == compared[next]) shapes_[k] = number_of(of_compared[next++]);
    for (uint32_t k = 0; k < c_.lines.size() && k < lines_.size(); ++k)
      if (c_.lines[k].origin.exists()) of_[c_.lines[k].origin.index].push_back(k);
    for (const auto& [root, inner] : c_.covered) inside_[inner.index] = root;
  }

  std::string run() {
    put(R"({"name":)", c_.name);
    put(R"(,"signature":)", listing_.signature);
    out_ += R"(,"frame":)" + std::to_string(listing_.frame_bytes);
    out_ += R"(,"totals":)" + text_of(totals_json(listing_.totals));
    places(R"(,"arrives":)", listing_.parameters);
    places(R"(,"leaves":)", listing_.results);
    lives();
    out_ += R"(,"blocks":)";
    const auto bare = without_origin();
    list(c_.blocks.size(), [&](size_t b) {
      const Block origin = c_.blocks[b].origin;
      put(R"({"label":)", origin.exists() ? label(origin, c_.blocks[b].copy) : "");
      out_ += R"(,"depth":)" + std::to_string(c_.blocks[b].depth);
      out_ += R"(,"times":)" + text_of(Json(c_.blocks[b].frequency));
      out_ += R"(,"rows":[)";
      if (!bare[b].empty()) {
        out_ += R"({"t":"","c":)";
        lines(bare[b]);
        out_ += "},";
      }
      if (origin.exists())
        for (Instruction i : f_.instructions(origin)) {
          row(i, b);
          out_ += ',';
        }
      if (out_.back() == ',') out_.pop_back();
      out_ += "]}";
    });
    out_ += '}';
    return std::move(out_);
  }

 private:
  // Most texts stand in JSON, and in a script, as they are; `before` comes first.
  void put(std::string_view before, std::string_view text) {
    out_ += before;
    const bool plain = std::all_of(text.begin(), text.end(), [](char c) {
      return c >= 0x20 && c != 0x7f && c != '"' && c != '\\' && c != '<';
    });
    if (plain)
      ((out_ += '"') += text) += '"';
    else
      out_ += text_of(Json(text));
  }
  template <class Put>
  void list(size_t count, Put one) {
    out_ += '[';
    for (size_t k = 0; k < count; ++k) {
      if (k) out_ += ',';
      one(k);
    }
    out_ += ']';
  }

  std::string label(Block b, uint32_t copy) const {
    std::string out = machine::label_of(texts_.block(b), copy), list;
    for (Value v : f_.parameters(b)) list += (list.empty() ? "" : ", ") + texts_.value(v);
    return list.empty() ? out : out + "(" + list + ")";
  }
  void lines(std::span<const uint32_t> rows) {
    list(rows.size(), [&](size_t n) {
      const ListingLine& l = *lines_[rows[n]];
      out_ += '[' + std::to_string(l.offset);
      put(",", l.text);
      put(",", role_names[static_cast<size_t>(l.role)]);
      out_ += ',' + std::to_string(shapes_[rows[n]]) + ']';
    });
  }
  // Frames, moves between blocks, padding: by block.
  std::vector<std::vector<uint32_t>> without_origin() const {
    std::vector<std::vector<uint32_t>> out(c_.blocks.size());
    size_t b = 0;
    for (uint32_t k = 0; k < c_.lines.size() && k < lines_.size(); ++k) {
      while (b + 1 < c_.blocks.size() && c_.lines[k].offset >= c_.blocks[b + 1].offset) ++b;
      if (!c_.lines[k].origin.exists() && b < out.size()) out[b].push_back(k);
    }
    return out;
  }
  // Lines that came from an instruction, without those in other copies of its block than this one.
  std::vector<uint32_t> lines_of(Instruction i, size_t b) const {
    std::vector<uint32_t> out;
    const auto known = of_.find(i.index);
    if (known == of_.end()) return out;
    for (uint32_t k : known->second) {
      const auto behind = std::upper_bound(c_.blocks.begin(), c_.blocks.end(), c_.lines[k].offset,
                                           [](uint32_t at, const auto& block) { return at < block.offset; });
      const auto& in = behind[-1];
      if (&in == &c_.blocks[b] || !(in.origin == c_.blocks[b].origin)) out.push_back(k);
    }
    return out;
  }
  void row(Instruction i, size_t b) {
    const auto known = of_.find(i.index);
    put(R"({"t":)", texts_.instruction(i));
    out_ += R"(,"c":)";
    lines(lines_of(i, b));
    if (f_.result_count(i)) put(R"(,"v":)", texts_.value(f_.result(i)));
    if (std::string p = place_text(module_, f_.position(i)); !p.empty()) put(R"(,"p":)", p);
    if (auto root = inside_.find(i.index); root != inside_.end() && known == of_.end())
      put(R"(,"in":)", texts_.instruction(root->second));
    out_ += '}';
  }
  void places(std::string_view before, const std::vector<FunctionListing::Place>& all) {
    out_ += before;
    list(all.size(), [&](size_t k) {
      put("[", all[k].name);
      put(",", all[k].type);
      put(",", all[k].where);
      out_ += ']';
    });
  }
  void lives() {
    out_ += R"(,"lives":)";
    list(listing_.lives.size(), [&](size_t k) {
      const auto& life = listing_.lives[k];
      put(R"({"v":)", life.value);
      out_ += R"(,"stays":)";
      list(life.stays.size(), [&](size_t n) {
        put("[", life.stays[n].where);
        out_ += ',' + std::to_string(life.stays[n].from) + ',' + std::to_string(life.stays[n].to) + ']';
      });
      out_ += R"(,"why":)";
      list(life.reasons.size(), [&](size_t n) { put("", life.reasons[n]); });
      out_ += '}';
    });
  }

  const Module& module_;
  const Function& f_;
  const CompiledFunction& c_;
  FunctionTexts texts_;
  FunctionListing listing_;
  std::vector<const ListingLine*> lines_;
  std::vector<uint64_t> shapes_;                            // by line; 0 for padding, which is not compared
  std::unordered_map<uint32_t, std::vector<uint32_t>> of_;  // by instruction: rows of lines
  std::unordered_map<uint32_t, Instruction> inside_;
  std::string out_;  // JSON, written as it comes: of all that a page has, this is the most
};

// Where the frame of the page has the title, and behind it the data.
constexpr std::string_view title_mark = "{{title}}", data_mark = "{{data}}";

std::string in_frame(std::string_view title, std::string_view data) {
  const std::string_view frame = page_text;
  const size_t first = frame.find(title_mark), second = frame.find(data_mark);
  std::string page;
  page.reserve(frame.size() + title.size() + data.size());
  page.append(frame.substr(0, first)) += title;
  page.append(frame.substr(first + title_mark.size(), second - first - title_mark.size())) += data;
  return page.append(frame.substr(second + data_mark.size()));
}

// What is written at one go: one function of a build, or a few of its notes.
struct Piece {
  const PageBuild* build;
  const CompiledFunction* function;  // null: notes
  std::span<const Note> notes;
  bool is(const PageBuild& b, bool is_function) const {
    return build == &b && (function != nullptr) == is_function;
  }
};

// In the order in which they stand in the page.
std::vector<Piece> pieces_of(const std::vector<PageBuild>& builds) {
  constexpr size_t few = 200;
  std::vector<Piece> out;
  for (const PageBuild& b : builds) {
    std::span<const Note> notes;
    if (b.notes) notes = *b.notes;
    for (size_t k = 0; k < notes.size(); k += few)
      out.push_back({&b, nullptr, notes.subspan(k, std::min(few, notes.size() - k))});
    for (const CompiledFunction& f : b.lowered->functions) out.push_back({&b, &f, {}});
  }
  return out;
}

std::string text_of(const Piece& p, const LineShapes& shapes, const Target& target) {
  if (p.function) return FunctionData(*p.build->lowered, *p.function, target, shapes).run();
  const std::string list = text_of(notes_json(p.notes));
  return list.substr(1, list.size() - 2);
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
  const std::vector<Piece> pieces = pieces_of(builds);
  std::vector<std::string> texts(pieces.size());
  const LineShapes shapes(target);
  on_all_cores(pieces.size(), [&](size_t k) { texts[k] = text_of(pieces[k], shapes, target); });
  size_t next = 0;
  auto put_all = [&](const PageBuild& b, bool functions) {
    for (const size_t first = next; next < pieces.size() && pieces[next].is(b, functions); ++next)
      (data += next == first ? "" : ",") += texts[next];
  };
  for (const PageBuild& b : builds) {
    data += (&b == builds.data() ? R"({"name":)" : R"(,{"name":)") + text_of(Json(b.name));
    data += R"(,"notes":[)";
    put_all(b, false);
    data += R"(],"functions":[)";
    put_all(b, true);
    data += "]}";
  }
  data += "]}";
  return in_frame(as_markup(options.title), data);
}

}  // namespace porphyry
