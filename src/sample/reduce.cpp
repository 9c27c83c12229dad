// Idea: delta debugging (A. Zeller, R. Hildebrandt, "Simplifying and Isolating Failure-Inducing Input",
// 2002): parts are taken away in ever smaller runs, each try on a copy; what still shows the fault is the new
// program. Whole bodies go first, then ways out of branches, then instructions from the last to the first, so
// that what only made operands goes after its user; last what joins blocks, and lines of the text. Several
// tries are made at a time; the first one in order that shows the fault counts, so that it does not matter
// how many. Invariant: the current program is valid and shows the fault. Cost: see the header.
#include "porphyry/sample/reduce.h"

#include <algorithm>
#include <thread>

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/order.h"

namespace porphyry {
namespace {

// Windows over [0, count), each half as long as the one before. `first_good` is asked about some at a time
// and gives the first of them that may go.
struct Window {
  size_t from, to;
};
using FirstGood = std::function<std::optional<size_t>(std::span<const Window>)>;

// Whether any went. A window that may go is passed by; those that may not are halved.
bool halve(size_t count, size_t at_a_time, const FirstGood& first_good) {
  bool smaller = false;
  std::vector<uint8_t> gone(count);
  for (size_t length = std::max<size_t>(count / 2, 1); count > 0 && length > 0; length /= 2)
    for (size_t from = 0; from < count;) {
      std::vector<Window> some;
      size_t at = from;
      while (some.size() < at_a_time && at < count) {
        while (at < count && gone[at]) ++at;
        if (at == count) break;
        size_t to = std::min(at + length, count);
        some.push_back({at, to});
        at = to;
      }
      if (some.empty()) break;
      auto good = first_good(some);
      from = good ? some[*good].to : at;
      if (!good) continue;
      smaller = true;
      std::fill(gone.begin() + static_cast<ptrdiff_t>(some[*good].from),
                gone.begin() + static_cast<ptrdiff_t>(some[*good].to), uint8_t(1));
    }
  return smaller;
}

// Tries things at the same time; the first one, in order, that came out well.
template <class T>
std::optional<size_t> first_of(size_t count, std::vector<T>& made, const std::function<T(size_t)>& make,
                               const std::function<bool(const T&)>& good) {
  if (count == 0) return std::nullopt;
  made.resize(count);
  std::vector<uint8_t> well(count);
  auto one = [&](size_t k) { made[k] = make(k), well[k] = good(made[k]); };
  {
    std::vector<std::jthread> others;
    for (size_t k = 1; k < count; ++k) others.emplace_back(one, k);
    one(0);
  }
  auto at = std::find(well.begin(), well.end(), 1);
  return at == well.end() ? std::nullopt : std::optional<size_t>(at - well.begin());
}

class Budget {
 public:
  explicit Budget(const ReduceOptions& options)
      : options_(options), at_a_time_(std::max(1u, options.threads)) {}
  // How many tries there may be now; counts them.
  size_t take(size_t wanted) {
    size_t some = std::min({wanted, at_a_time_, options_.most_attempts - used_});
    used_ += some;
    return some;
  }
  bool left() const { return used_ < options_.most_attempts; }
  size_t at_a_time() const { return at_a_time_; }
  void tell(size_t rest) const {
    if (options_.progress) options_.progress(used_, rest);
  }

 private:
  const ReduceOptions& options_;
  size_t at_a_time_, used_ = 0;
};

Value zero(Function& f, Type t) { return f.constant(t, 0); }

// The instruction goes; whoever used its results takes zeros.
bool take_out(Function& f, Instruction i) {
  if (!f.alive(i) || info(f.op(i)).ends_block()) return false;
  for (Value v : f.results(i)) f.replace_uses(v, zero(f, f.type(v)));
  f.erase(i);
  return true;
}

// The block ends in a plain jump along one of its edges.
bool straighten(Function& f, Block b, size_t way) {
  if (!f.alive(b) || f.edges(b).size() < 2 || way >= f.edges(b).size()) return false;
  Instruction branch = f.last(b);
  Edge e = f.edge(branch, way);
  std::vector<Value> arguments;
  for (Value v : f.arguments(e)) arguments.push_back(v);
  const Function::Draft::Destination to{f.to(e), arguments};
  f.insert_before(branch, {.op = Op::Go, .targets = {&to, 1}});
  f.erase(branch);
  remove_unreachable_blocks(f);
  return true;
}

// The body is nothing but a return of zeros.
bool empty_body(Function& f) {
  Instruction first = f.first(f.entry());
  if (f.op(first) == Op::Return) return false;
  std::vector<Value> results;
  for (Type t : f.signature().results) results.push_back(zero(f, t));
  f.insert_before(first, {.op = Op::Return, .operands = results});
  for (Instruction i = f.last(f.entry()), before; i != f.first(f.entry()); i = before) {
    before = f.previous(i);
    for (Value v : f.results(i)) f.replace_uses(v, zero(f, f.type(v)));
    f.erase(i);
  }
  remove_unreachable_blocks(f);
  return true;
}

bool drop_parameter(Function& f, Block b, size_t index) {
  if (!f.alive(b) || index >= f.parameters(b).size()) return false;
  Value v = f.parameters(b)[index];
  f.replace_uses(v, zero(f, f.type(v)));
  f.erase_parameter(b, index);
  return true;
}

// Changes something; false where there is nothing of it any more.
using Change = std::function<bool(Module&)>;

class Reducer {
 public:
  Reducer(const Module& module, Symbol keep, const ShowsFault& shows, const ReduceOptions& options)
      : now_(clone(module)), keep_(keep), shows_(shows), budget_(options) {}

  std::unique_ptr<Module> run() {
    Realm::Shared shared(now_->realm());
    for (bool smaller = true; smaller && budget_.left();) {
      smaller = take(bodies());
      smaller |= take(branches());
      smaller |= take(instructions());
      smaller |= take(parameters());
      smaller |= take(joints());
    }
    return std::move(now_);
  }

 private:
  // As many of the changes, in their order, as leave the fault in.
  bool take(const std::vector<Change>& changes) {
    bool smaller = false;
    halve(changes.size(), budget_.at_a_time(), [&](std::span<const Window> windows) {
      std::vector<std::unique_ptr<Module>> tried;
      auto first = first_of<std::unique_ptr<Module>>(
          budget_.take(windows.size()), tried, [&](size_t k) { return changed(changes, windows[k]); },
          [&](const auto& m) { return m && verify(*m).empty() && shows_(*m); });
      if (first) now_ = std::move(tried[*first]), smaller = true;
      budget_.tell(instruction_count());
      return first;
    });
    return smaller;
  }
  // Nothing where no change of the window finds anything to do.
  std::unique_ptr<Module> changed(const std::vector<Change>& changes, Window w) const {
    std::unique_ptr<Module> out = clone(*now_);
    bool any = false;
    for (size_t k = w.from; k < w.to; ++k) any |= changes[k](*out);
    return any ? std::move(out) : nullptr;
  }
  size_t instruction_count() const {
    size_t out = 0;
    for (Symbol s : now_->functions())
      for (Block b : now_->function(s).blocks()) out += now_->function(s).instructions(b).count();
    return out;
  }

  template <class Visit>  // visit(Symbol, const Function&, Block)
  void each_block(Visit visit) const {
    for (Symbol s : now_->functions())
      for (Block b : now_->function(s).blocks()) visit(s, now_->function(s), b);
  }
  std::vector<Change> bodies() const {
    std::vector<Change> out;
    for (Symbol s : now_->functions())
      if (s != keep_) out.push_back([s](Module& m) { return empty_body(m.function(s)); });
    return out;
  }
  std::vector<Change> branches() const {
    std::vector<Change> out;
    each_block([&](Symbol s, const Function& f, Block b) {
      for (size_t way = 0; f.edges(b).size() > 1 && way < f.edges(b).size(); ++way)
        out.push_back([=](Module& m) { return straighten(m.function(s), b, way); });
    });
    return out;
  }
  std::vector<Change> instructions() const {
    std::vector<Change> out;
    each_block([&](Symbol s, const Function& f, Block b) {
      for (Instruction i : f.instructions(b))
        if (!info(f.op(i)).ends_block()) out.push_back([=](Module& m) { return take_out(m.function(s), i); });
    });
    std::reverse(out.begin(), out.end());
    return out;
  }
  std::vector<Change> parameters() const {
    std::vector<Change> out;
    each_block([&](Symbol s, const Function& f, Block b) {
      for (size_t k = f.parameters(b).size(); k-- > 0;)
        out.push_back([=](Module& m) { return drop_parameter(m.function(s), b, k); });
    });
    return out;
  }
  std::vector<Change> joints() const {
    std::vector<Change> out;
    each_block([&](Symbol s, const Function&, Block b) {
      out.push_back([=](Module& m) {
        Function& f = m.function(s);
        return f.alive(b) && f.merge_with_next(b);
      });
    });
    return out;
  }

  std::unique_ptr<Module> now_;
  Symbol keep_;
  const ShowsFault& shows_;
  Budget budget_;
};

// ---- text -------------------------------------------------------------------------------------------------

using Lines = std::vector<std::string>;

Lines lines_of(std::string_view text) {
  Lines out;
  while (!text.empty()) {
    size_t end = std::min(text.find('\n'), text.size() - 1);
    out.emplace_back(text.substr(0, end + 1));
    text.remove_prefix(end + 1);
  }
  return out;
}
std::string joined(const Lines& lines) {
  std::string out;
  for (const std::string& l : lines) out += l;
  return out;
}
// Runs of lines: what stands at the top level begins in the first column; a closing brace and a label do not.
Lines items_of(const Lines& lines) {
  Lines out;
  for (const std::string& l : lines) {
    bool begins = !std::isspace(static_cast<unsigned char>(l[0])) && l[0] != '}' && !l.ends_with(":\n");
    if (begins || out.empty())
      out.push_back(l);
    else
      out.back() += l;
  }
  return out;
}

bool text_shows(const std::string& text, const ShowsFault& shows) {
  Realm realm;
  SourceText source("what is left", text);
  auto module = load_text(realm, source);
  return module.good() && shows(**module);
}

Lines fewest(Lines units, const ShowsFault& shows, Budget& budget) {
  std::vector<uint8_t> gone(units.size());
  auto without = [&](Window w) {
    std::string out;
    for (size_t k = 0; k < units.size(); ++k)
      if (!gone[k] && !(k >= w.from && k < w.to)) out += units[k];
    return out;
  };
  halve(units.size(), budget.at_a_time(), [&](std::span<const Window> windows) {
    std::vector<std::string> tried;
    auto first = first_of<std::string>(
        budget.take(windows.size()), tried, [&](size_t k) { return without(windows[k]); },
        [&](const std::string& text) { return text_shows(text, shows); });
    if (first)
      for (size_t k = windows[*first].from; k < windows[*first].to; ++k) gone[k] = 1;
    budget.tell(static_cast<size_t>(std::count(gone.begin(), gone.end(), 0)));
    return first;
  });
  Lines out;
  for (size_t k = 0; k < units.size(); ++k)
    if (!gone[k]) out.push_back(std::move(units[k]));
  return out;
}

}  // namespace

std::unique_ptr<Module> reduce(const Module& module, Symbol keep, const ShowsFault& shows,
                               const ReduceOptions& options) {
  return Reducer(module, keep, shows, options).run();
}

std::string reduce_text(std::string text, const ShowsFault& shows, const ReduceOptions& options) {
  Budget budget(options);
  for (size_t before = text.size() + 1; text.size() < before && budget.left();) {
    before = text.size();
    text = joined(fewest(items_of(lines_of(text)), shows, budget));
    text = joined(fewest(lines_of(text), shows, budget));
  }
  return text;
}

}  // namespace porphyry
