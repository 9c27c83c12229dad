#include "porphyry/ask/why.h"

#include <algorithm>
#include <map>

#include "porphyry/base/lines.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

bool on_line(const std::string& position, const std::string& line) {
  const size_t last = position.rfind(':');
  if (last == position.npos) return false;
  const std::string_view place(position.data(), last);  // without the column
  return place == line || (line.find(':') == line.npos && place.ends_with(":" + line));
}

bool holds(const Note& n, const std::string& text) {
  for (const std::string* part : {&n.what, &n.why, &n.unlock, &n.value, &n.pass})
    if (part->find(text) != part->npos) return true;
  return std::any_of(n.figures.begin(), n.figures.end(), [&](const auto& figure) {
    return figure.first.find(text) != std::string::npos || figure.second.find(text) != std::string::npos;
  });
}

// The values that a line of the text form makes: "a, b = …", a label's parameters, a function's.
std::vector<std::string> values_made(const std::string& line) {
  std::vector<std::string> out;
  std::string_view rest(line);
  const size_t open = line.find('(');
  const bool label = !line.empty() && line[0] != ' ' && open != line.npos;
  if (label) {
    out.emplace_back(line.substr(0, open));  // notes about blocks name them
    rest = rest.substr(open + 1);
  } else if (line.starts_with("  ") && line.find(" = ") != line.npos) {
    rest = rest.substr(0, rest.find(" = "));
  } else {
    if (!line.empty() && line.ends_with(":")) out.emplace_back(line.substr(0, line.size() - 1));
    return out;
  }
  std::string word;
  for (char c : rest) {
    const bool part = std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '.';
    if (part) {
      word += c;
    } else if (!word.empty()) {
      out.push_back(std::move(word));
      word.clear();
    }
  }
  if (!word.empty()) out.push_back(std::move(word));
  return out;
}

}  // namespace

Notes about(const Notes& notes, const NoteQuestion& q) {
  Notes out;
  for (const Note& n : notes)
    if ((q.function.empty() || n.function == q.function) && (q.value.empty() || n.value == q.value) &&
        (q.pass.empty() || n.pass == q.pass) && (!q.kind || n.kind == *q.kind) &&
        (q.line.empty() || on_line(n.position, q.line)) && (q.text.empty() || holds(n, q.text)))
      out.push_back(n);
  return out;
}

Annotated annotate_source(const std::string& file, std::string_view text, const Notes& notes) {
  Annotated out{.file = file};
  for (std::string& line : lines_of(text)) out.lines.push_back({out.lines.size() + 1, std::move(line), {}});
  for (size_t k = 0; k < notes.size(); ++k) {
    const std::string& p = notes[k].position;
    const size_t column = p.rfind(':'),
                 line = column == p.npos || column == 0 ? p.npos : p.rfind(':', column - 1);
    const size_t slash = file.rfind('/');
    const std::string_view name = std::string_view(file).substr(slash == file.npos ? 0 : slash + 1);
    size_t number = 0;
    if (line != p.npos && std::string_view(p).substr(0, line).ends_with(name))
      number = static_cast<size_t>(std::atoll(p.c_str() + line + 1));
    if (number > 0 && number <= out.lines.size())
      out.lines[number - 1].notes.push_back(k);
    else
      out.elsewhere.push_back(k);
  }
  return out;
}

Annotated annotate_text(const std::string& file, const Module& module, const Notes& notes,
                        std::string_view function) {
  Annotated out{.file = file};
  struct Body {
    size_t head = 0;
    std::map<std::string, size_t> values;  // the line that makes one
  };
  std::map<std::string, Body> bodies;
  for (Symbol s : module.functions()) {
    if (!function.empty() && module.symbol_name(s) != function) continue;
    Body& body = bodies[std::string(module.symbol_name(s))];
    body.head = out.lines.size();
    if (!out.lines.empty()) out.lines.push_back({out.lines.size() + 1, "", {}}), ++body.head;
    for (std::string& line : lines_of(write_text(module, s))) {
      for (std::string& v : values_made(line)) body.values.try_emplace(std::move(v), out.lines.size());
      out.lines.push_back({out.lines.size() + 1, std::move(line), {}});
    }
  }
  for (size_t k = 0; k < notes.size(); ++k) {
    auto body = bodies.find(notes[k].function);
    if (body == bodies.end()) {
      out.elsewhere.push_back(k);
      continue;
    }
    auto value = body->second.values.find(notes[k].value);
    out.lines[value == body->second.values.end() ? body->second.head : value->second].notes.push_back(k);
  }
  return out;
}

}  // namespace porphyry
