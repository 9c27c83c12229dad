// Each unit has a header, with the names of its files, and a program for a small machine whose registers are
// an address, a file, a line and a column; some of its instructions append a row.
#include "lines.h"

#include <algorithm>
#include <map>

#include "in.h"

namespace porphyry::wasm {
namespace {

constexpr size_t row_limit = 50'000'000;

uint64_t uleb(In& in) {
  uint64_t out = 0;
  for (unsigned shift = 0;; shift += 7) {
    uint8_t b = in.byte();
    if (shift < 64) out |= uint64_t(b & 0x7f) << shift;
    if (!(b & 0x80)) return out;
  }
}
int64_t sleb(In& in) {
  uint64_t out = 0;
  for (unsigned shift = 0;;) {
    uint8_t b = in.byte();
    if (shift < 64) out |= uint64_t(b & 0x7f) << shift;
    shift += 7;
    if (b & 0x80) continue;
    if (shift < 64 && (b & 0x40)) out |= ~uint64_t(0) << shift;
    return static_cast<int64_t>(out);
  }
}
std::string text(In& in) {
  std::string_view rest = in.rest();
  std::string out(rest.substr(0, rest.find('\0')));
  in.bytes(out.size() + 1);
  return out;
}
std::string text_at(std::string_view section, uint64_t offset) {
  if (offset >= section.size()) return "";
  std::string_view rest = section.substr(offset);
  return std::string(rest.substr(0, rest.find('\0')));
}

class Unit {
 public:
  Unit(In in, bool wide, const LineTables& tables, Lines& out, std::map<std::string, uint32_t>& known)
      : in_(std::move(in)), wide_(wide), tables_(tables), out_(out), known_(known) {}

  void read() {
    version_ = in_.fixed<uint16_t>();
    if (version_ < 2 || version_ > 5) return;
    if (version_ == 5) in_.byte(), in_.byte();
    uint64_t length = offset();
    In program = in_;
    program.bytes(std::min<uint64_t>(length, program.left()));
    least_step_ = in_.byte();
    if (version_ >= 4) in_.byte();
    in_.byte();
    line_base_ = static_cast<int8_t>(in_.byte());
    line_range_ = std::max<uint8_t>(in_.byte(), 1);
    uint8_t base = in_.byte();
    for (unsigned k = 1; k < base; ++k) lengths_.push_back(in_.byte());
    version_ == 5 ? names() : old_names();
    if (!in_.good()) return;
    in_ = program;
    run();
  }

 private:
  uint64_t offset() { return wide_ ? in_.fixed<uint64_t>() : in_.fixed<uint32_t>(); }

  // Versions 2 to 4: lists ended by an empty name; files are numbered from 1.
  void old_names() {
    std::vector<std::string> folders{""};
    while (in_.good())
      if (std::string folder = text(in_); folder.empty())
        break;
      else
        folders.push_back(folder);
    files_.push_back(no_file);
    while (in_.good()) {
      std::string name = text(in_);
      if (name.empty()) break;
      uint64_t folder = uleb(in_);
      uleb(in_), uleb(in_);
      files_.push_back(file(folder < folders.size() ? folders[folder] : "", name));
    }
  }

  // Version 5: lists whose entries say what they are made of; files are numbered from 0.
  struct Entry {
    std::string name;
    uint64_t folder = 0;
  };
  std::vector<Entry> entries() {
    std::vector<std::pair<uint64_t, uint64_t>> shape;
    for (unsigned n = in_.byte(); n > 0 && in_.good(); --n) {
      uint64_t what = uleb(in_);
      shape.emplace_back(what, uleb(in_));
    }
    std::vector<Entry> out;
    for (uint64_t n = uleb(in_); n > 0 && in_.good() && !shape.empty(); --n) {
      Entry e;
      for (auto [what, form] : shape) {
        std::string name;
        uint64_t number = value(form, name);
        if (what == 1) e.name = name;
        if (what == 2) e.folder = number;
      }
      out.push_back(std::move(e));
    }
    return out;
  }
  void names() {
    std::vector<Entry> folders = entries();
    for (const Entry& e : entries())
      files_.push_back(file(e.folder < folders.size() ? folders[e.folder].name : "", e.name));
  }
  // A value of a form; texts go to `name`.
  uint64_t value(uint64_t form, std::string& name) {
    switch (form) {
      case 0x08: return name = text(in_), 0;
      case 0x1f: return name = text_at(tables_.line_str, offset()), 0;
      case 0x0e: return name = text_at(tables_.str, offset()), 0;
      case 0x0b: return in_.byte();
      case 0x05: return in_.fixed<uint16_t>();
      case 0x06: return in_.fixed<uint32_t>();
      case 0x07: return in_.fixed<uint64_t>();
      case 0x1e: return in_.bytes(16), 0;
      case 0x0f: return uleb(in_);
      case 0x09: return in_.bytes(uleb(in_)), 0;
      default: return in_.fail("a form of names that is not known"), 0;
    }
  }

  uint32_t file(const std::string& folder, const std::string& name) {
    std::string path = name.starts_with('/') || folder.empty() ? name : folder + "/" + name;
    auto [at, fresh] = known_.emplace(path, static_cast<uint32_t>(out_.files.size()));
    if (fresh) out_.files.push_back(path);
    return at->second;
  }

  struct Registers {
    uint64_t address = 0, file = 1, line = 1, column = 0;
  };
  void row(const Registers& r, bool end = false) {
    bool has_file = r.file < files_.size() && files_[r.file] != no_file;
    auto number = [](uint64_t n) { return static_cast<uint32_t>(std::min<uint64_t>(n, 0xffffffff)); };
    if (out_.rows.size() < row_limit)
      out_.rows.push_back({number(r.address), has_file ? files_[r.file] : 0,
                           end || !has_file ? 0 : number(r.line), number(r.column)});
  }

  void run() {
    Registers r;
    while (in_.good() && !in_.at_end()) {
      uint8_t code = in_.byte();
      if (code > lengths_.size()) {  // moves both, then a row
        unsigned n = code - static_cast<unsigned>(lengths_.size()) - 1;
        r.address += uint64_t(n / line_range_) * least_step_;
        r.line = static_cast<uint64_t>(static_cast<int64_t>(r.line) + line_base_ + n % line_range_);
        row(r);
      } else if (code == 0) {
        extended(r);
      } else {
        standard(code, r);
      }
    }
  }
  void extended(Registers& r) {
    uint64_t size = uleb(in_);
    In part(in_.bytes(size));
    if (size == 0 || !in_.good()) return;
    switch (part.byte()) {
      case 1: row(r, true), r = {}; return;
      case 2: r.address = part.left() == 8 ? part.fixed<uint64_t>() : part.fixed<uint32_t>(); return;
      case 3: {
        std::string name = text(part);
        files_.push_back(file("", name));
        return;
      }
      default: return;
    }
  }
  void standard(uint8_t code, Registers& r) {
    switch (code) {
      case 1: return row(r);
      case 2: r.address += uleb(in_) * least_step_; return;
      case 3: r.line = static_cast<uint64_t>(static_cast<int64_t>(r.line) + sleb(in_)); return;
      case 4: r.file = uleb(in_); return;
      case 5: r.column = uleb(in_); return;
      case 8: r.address += uint64_t((255 - lengths_.size() - 1) / line_range_) * least_step_; return;
      case 9: r.address += in_.fixed<uint16_t>(); return;
      default:
        for (uint8_t k = lengths_[code - 1u]; k > 0 && in_.good(); --k) uleb(in_);
    }
  }

  static constexpr uint32_t no_file = 0xffffffff;
  In in_;
  bool wide_;
  const LineTables& tables_;
  Lines& out_;
  std::map<std::string, uint32_t>& known_;
  unsigned version_ = 0, least_step_ = 1, line_range_ = 1;
  int line_base_ = 0;
  std::vector<uint8_t> lengths_;  // of the standard instructions: how many numbers follow
  std::vector<uint32_t> files_;   // by the unit's number
};

}  // namespace

Lines read_lines(const LineTables& tables) {
  Lines out;
  std::map<std::string, uint32_t> known;
  In in(tables.line);
  while (in.good() && !in.at_end()) {
    uint64_t size = in.fixed<uint32_t>();
    bool wide = size == 0xffffffff;
    if (wide) size = in.fixed<uint64_t>();
    std::string_view unit = in.bytes(size);
    if (in.good()) Unit(In(unit), wide, tables, out, known).read();
  }
  // A sequence's end gives way to what begins there.
  std::ranges::stable_sort(out.rows, [](const LineRow& a, const LineRow& b) {
    return a.address != b.address ? a.address < b.address : a.line == 0 && b.line != 0;
  });
  return out;
}

const LineRow* Lines::find(uint32_t address) const {
  auto after = std::ranges::upper_bound(rows, address, {}, &LineRow::address);
  if (after == rows.begin() || (after - 1)->line == 0) return nullptr;
  return &*(after - 1);
}

}  // namespace porphyry::wasm
