#include "porphyry/optimize/pipeline.h"

namespace porphyry {
namespace {

class PipelineReader {
 public:
  PipelineReader(std::string_view text, const PassTable& table) : text_(text), table_(table) {}

  Result<Pipeline> run() {
    Pipeline out;
    steps(out.steps, false);
    if (!problems_.empty()) return std::move(problems_);
    return out;
  }

 private:
  void skip_space() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\n')) ++at_;
  }
  std::string word() {
    skip_space();
    size_t from = at_;
    while (at_ < text_.size() && std::string_view("; {}\n").find(text_[at_]) == std::string_view::npos) ++at_;
    return std::string(text_.substr(from, at_ - from));
  }
  bool accept(char c) {
    skip_space();
    return at_ < text_.size() && text_[at_] == c ? (++at_, true) : false;
  }
  void complain(size_t from, size_t length, std::string message, std::string expected) {
    Diagnostic d = complaint("in the pipeline: " + std::move(message), std::move(expected));
    d.excerpt = text_;
    d.mark = static_cast<uint32_t>(from);
    d.length = static_cast<uint32_t>(length);
    problems_.push_back(std::move(d));
  }

  void steps(std::vector<Pipeline::Step>& out, bool inside) {
    while (problems_.size() < 20) {
      while (accept(';')) {
      }
      skip_space();
      if (at_ == text_.size()) {
        if (inside) complain(text_.size(), 1, "the steps in braces do not end", "'}'");
        return;
      }
      if (accept('}')) {
        if (inside) return;
        complain(at_ - 1, 1, "no brace was opened here", "a pass, ';' or the end");
        continue;
      }
      step(out);
    }
  }

  void step(std::vector<Pipeline::Step>& out) {
    size_t from = at_;
    std::string name = word();
    if (name.empty()) {
      complain(at_, 1, "this is no pass", "a pass");
      ++at_;
      return;
    }
    if (name == "until") {
      if (word() != "stable" || !accept('{'))
        return complain(from, at_ - from, "'until' is not followed by 'stable {'", "until stable { … }");
      Pipeline::Step repeated;
      steps(repeated.inner, true);
      return out.push_back(std::move(repeated));
    }
    std::shared_ptr<const Pass> pass = table_.find(name);
    if (!pass) {
      std::vector<std::string> names;
      for (const auto& p : table_.all()) names.push_back(p->name);
      return complain(from, name.size(), "no pass is called '" + name + "'", listed(names));
    }
    Pipeline::Step step{std::move(pass), {}};
    if (accept('{')) {
      steps(step.inner, true);
      if (std::any_of(step.inner.begin(), step.inner.end(), [](const auto& s) { return s.over_module(); }))
        complain(from, name.size(), "a pass over the module stands in what follows this one",
                 "passes over functions inside of braces");
    }
    out.push_back(std::move(step));
  }

  std::string_view text_;
  const PassTable& table_;
  size_t at_ = 0;
  Diagnostics problems_;
};

std::string steps_text(const std::vector<Pipeline::Step>& steps) {
  std::string out;
  for (const auto& s : steps) {
    if (!out.empty()) out += "; ";
    out += s.pass ? s.pass->name : "until stable";
    if (!s.pass || !s.inner.empty()) out += " { " + steps_text(s.inner) + " }";
  }
  return out;
}

void collect_names(const std::vector<Pipeline::Step>& steps, std::vector<std::string>& out) {
  for (const auto& s : steps) {
    if (s.pass) out.push_back(s.pass->name);
    collect_names(s.inner, out);
  }
}

}  // namespace

bool Pipeline::Step::over_module() const {
  return (pass && pass->over_module()) ||
         std::any_of(inner.begin(), inner.end(), [](const Step& s) { return s.over_module(); });
}

std::string Pipeline::text() const { return steps_text(steps); }

std::vector<std::string> Pipeline::names() const {
  std::vector<std::string> out;
  collect_names(steps, out);
  return out;
}

Pipeline Pipeline::until(std::string_view name) const {
  auto last =
      std::find_if(steps.begin(), steps.end(), [&](const Step& s) { return s.pass && s.pass->name == name; });
  return last == steps.end() ? *this : Pipeline{{steps.begin(), last + 1}};
}

Result<Pipeline> read_pipeline(std::string_view text, const PassTable& table) {
  return PipelineReader(text, table).run();
}

}  // namespace porphyry
