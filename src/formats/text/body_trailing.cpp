// What may follow any operation, in this order: where m else v · align n · as kind · volatile · guarded · early ·
// promise a, b · permit a, b · @file:line:column.
#include "body.h"

namespace porphyry::text {

std::optional<uint8_t> read_words(Cursor& cursor, std::string_view what,
                                  std::span<const std::string_view> words) {
  uint8_t bits = 0;
  do {
    const Token& t = cursor.peek();
    std::string_view word = cursor.text();
    bool nothing = t.kind == TokenKind::Name && word == "writes" && cursor.peek(1).kind == TokenKind::Name &&
                   cursor.text(cursor.peek(1)) == "nothing";
    auto bit = t.kind == TokenKind::Name ? bit_of(nothing ? "writes nothing" : word, words) : std::nullopt;
    if (!bit) {
      std::vector<std::string> known(words.begin(), words.end());
      cursor.complain("this is no " + std::string(what), listed(known));
      return std::nullopt;
    }
    cursor.take();
    if (nothing) cursor.take();
    bits |= *bit;
  } while (cursor.accept(','));
  return bits;
}

std::optional<KindPath> read_path(Cursor& cursor, Module& module, SideTable<Name, KindPath>& known) {
  Token first = cursor.peek();
  auto refuse = [&](std::string message, std::string expected) {
    cursor.complain(first, std::move(message), std::move(expected));
    return std::nullopt;
  };
  if (!cursor.at_name()) return refuse("a kind is missing", "a path such as orchard.degree");
  Name whole;
  if (first.kind == TokenKind::Name && !cursor.at_mark('.', 1)) {  // most paths: one token, read before
    whole = module.realm().name(cursor.text());
    if (KindPath p = known.get(whole); p.exists()) return cursor.take(), p;
  }
  std::vector<Name> steps;  // plain names come with their dots
  do {
    if (!cursor.at_name()) return refuse("a step of this path is missing", "a name behind the point");
    const Token& t = cursor.take();
    if (t.kind == TokenKind::Quoted) {
      steps.push_back(module.realm().name(unquoted(cursor.text(t))));
      continue;
    }
    for (std::string_view rest = cursor.text(t); !rest.empty();) {
      size_t dot = std::min(rest.find('.'), rest.size());
      steps.push_back(module.realm().name(rest.substr(0, dot)));
      rest.remove_prefix(std::min(dot + 1, rest.size()));
    }
  } while (cursor.accept('.'));
  const Kinds& kinds = module.kinds;
  KindTree tree = kinds.find_tree(steps[0]);
  auto word = [&](size_t k) { return "'" + std::string(module.text(steps[k])) + "'"; };
  if (!tree.exists()) return refuse("no kinds are called " + word(0), "a tree of kinds of the module");
  if (steps.size() == 1) return refuse("this names kinds as a whole", "a path such as orchard.degree");
  Kind kind = kinds.find_kind(tree, steps[1]);
  Record record = kinds.find_record(tree, steps[1]);
  if (!kind.exists() && !record.exists())
    return refuse("nothing in " + word(0) + " is called " + word(1), "a kind or a record of " + word(0));
  if (kind.exists() && steps.size() > 2)
    return refuse(word(1) + " is a kind and has no members", "the kind alone");
  std::optional<KindPath> path;
  if (kind.exists()) {
    path = module.kinds.path(kind);
  } else {
    std::vector<uint16_t> members;
    Record at = record;
    for (size_t k = 2; k < steps.size(); ++k) {
      const auto& list = at.exists() ? kinds[at].members : std::vector<RecordMember>();
      size_t m = 0;
      while (m < list.size() && list[m].name != steps[k]) ++m;
      if (m == list.size())
        return refuse("this path names no member: " + word(k - 1) + " has none called " + word(k),
                      "a member of " + word(k - 1));
      members.push_back(static_cast<uint16_t>(m));
      at = list[m].record;
    }
    path = module.kinds.path(record, std::move(members));
    if (!path) return refuse("this path ends at a record", "a path to a member that is a kind");
  }
  if (whole.exists()) known.set(whole, *path);
  return path;
}

// where m, or for a load: where m else v
void StatementReader::trailing_mask() {
  p_.address.masked = true;
  p_.written.push_back(operands_.operand());
  if (p_.op != Op::Load) return;
  if (!cursor_.accept_word("else"))
    return void(refuse(cursor_.peek(), "'else' is missing after the mask",
                       "else and what the lanes have that are not loaded"));
  p_.written.push_back(operands_.operand());
}

void StatementReader::trailing() {
  bool accesses = p_.op == Op::Load || p_.op == Op::Store;
  if (accesses && cursor_.peek().kind == TokenKind::Name) {
    Address& a = p_.address;
    if (cursor_.accept_word("where")) trailing_mask();
    if (cursor_.accept_word("align")) {
      auto align = cursor_.alignment(4096);
      if (!align) return void(fail());
      a.align = *align;
      p_.has_align = true;
    }
    if (cursor_.accept_word("as")) {
      a.as_unwritten = cursor_.at_word("const") && cursor_.at_name(1);
      if (a.as_unwritten) cursor_.take();
      auto path = read_path(cursor_, module_, context_.paths);
      if (!path) return void(fail());
      a.kind = *path;
      if (!p_.has_align) a.align = module_.kinds.align(a.kind);
    }
    if (cursor_.accept_word("volatile")) a.is_volatile = true;
    if (cursor_.accept_word("guarded")) a.guarded = true;
    if (cursor_.at_word("early") && p_.op == Op::Load) cursor_.take(), a.early = true;
  }
  if (cursor_.peek().kind == TokenKind::Name) {
    if (cursor_.accept_word("promise")) {
      auto bits = read_words(cursor_, "promise", promise_words());
      if (!bits) return void(fail());
      p_.said.promises = *bits;
    }
    if (cursor_.accept_word("permit")) {
      auto bits = read_words(cursor_, "permit", permit_words());
      if (!bits) return void(fail());
      p_.said.permits = *bits;
    }
  }
  if (cursor_.at_mark('@')) p_.said.position = position();
}

bool StatementReader::number_after_colon(uint32_t& out) {
  auto n = cursor_.number(0xffffffffu);
  if (!n) {
    complain("this position is not complete", "@file:line:column, three numbers");
    return false;
  }
  out = static_cast<uint32_t>(*n);
  return true;
}

// @file:line:column, `of f in @…` for each call it was inlined at (innermost first; f is the function it stands in, if
// that is known), `and @…` for a merged one.
Position StatementReader::position() {
  std::vector<std::vector<PositionRow>> chains(1);
  auto follows = [&](std::string_view word) {
    if (!cursor_.at_word(word) || !cursor_.at_mark('@', 1)) return false;
    cursor_.take();
    return true;
  };
  do {
    PositionRow row;
    cursor_.take();
    bool good = number_after_colon(row.source) && cursor_.expect(':', "in a position") &&
                number_after_colon(row.line) && cursor_.expect(':', "in a position") &&
                number_after_colon(row.column);
    if (!good) {
      fail();
      return {};
    }
    if (cursor_.at_word("of")) {
      cursor_.take();
      auto name = cursor_.name("the name of a function");
      if (!name) {
        fail();
        return {};
      }
      row.inlined = module_.realm().name(*name);
    }
    chains.back().push_back(row);
    if (follows("in")) continue;
    if (row.inlined.exists()) {
      complain("a position of a function that was inlined has no call", "in @file:line:column");
      fail();
      return {};
    }
    if (!follows("and")) break;
    chains.emplace_back();
  } while (true);
  // From the last position to the first, each chain from the outermost call inwards.
  Position merged;
  for (size_t c = chains.size(); c-- > 0;) {
    Position outer;
    for (size_t k = chains[c].size(); k-- > 0;) {
      chains[c][k].inlined_at = outer;
      if (k == 0) chains[c][k].merged_with = merged;
      outer = module_.add_position(chains[c][k]);
    }
    merged = outer;
  }
  return merged;
}

}  // namespace porphyry::text
