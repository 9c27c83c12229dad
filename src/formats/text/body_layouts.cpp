// What follows each operation word: operands by their roles, and a function for each layout that has more.
#include "body.h"

namespace porphyry::text {

void StatementReader::read() {
  by_layout();
  if (p_.good) trailing();
  if (p_.good && !cursor_.at_line_end())
    refuse(cursor_.peek(), "the line goes on where it should end", "the end of the line");
}

void StatementReader::by_layout() {
  switch (info(p_.op).layout) {
    case Layout::Reserve: return reserve();
    case Layout::AddressOf: return address_of();
    case Layout::Call:
    case Layout::CallThrough: return call();
    case Layout::Watch: return watch();
    case Layout::Go: return go();
    case Layout::When: return when();
    case Layout::Choose: return choose();
    case Layout::Return: return return_statement();
    case Layout::Trap:
    case Layout::Here: return;
    default: return by_roles();
  }
}

bool StatementReader::comma(std::string_view where) {
  if (cursor_.expect(',', where)) return true;
  return fail();
}

// The stated type, then operands by their roles.
void StatementReader::by_roles() {
  const LayoutInfo& layout = info(info(p_.op).layout);
  if (layout.stated) {
    auto type = read_type(cursor_, module_);
    if (!type) return void(fail());
    p_.results.push_back(*type);
  }
  Address* addresses[] = {layout.detail == Detail::Copy ? &p_.copy.to : &p_.address, &p_.copy.from};
  size_t address = 0;
  for (size_t k = 0; k < layout.roles.size(); ++k) {
    if (k > 0 && !comma("between operands")) return;
    if (layout.roles[k] == static_cast<char>(OperandRole::Address)) {
      if (!operands_.address(p_.written, *addresses[address++])) return void(p_.good = false);
      continue;
    }
    p_.written.push_back(operands_.operand());
    if (!p_.written.back().token.length) p_.good = false;
  }
  if (layout.detail == Detail::Lanes) lane_numbers();
}

// …, {4, 0, 5, 1}
void StatementReader::lane_numbers() {
  if (!comma("before the lanes' numbers")) return;
  if (!cursor_.expect('{', "before the lanes' numbers")) return void(fail());
  do {
    Token t = cursor_.peek();
    auto n = cursor_.number(2 * Type::lane_limit - 1);
    if (!n)
      return void(refuse(t, "this is not the number of a lane", "a whole number below twice the lanes"));
    p_.lanes.push_back(static_cast<uint16_t>(*n));
  } while (cursor_.accept(','));
  if (!cursor_.expect('}', "after the lanes' numbers")) return void(fail());
  if (p_.lanes.size() < 2 || p_.lanes.size() > Type::lane_limit)
    refuse(p_.word, "a shuffle has 2 to 1024 lanes", "a number for each lane of the result");
}

void StatementReader::reserve() {
  p_.results.push_back(module_.pointer_type());
  ReserveShape shape;
  Token t = cursor_.peek();
  auto bytes = cursor_.number(uint64_t(1) << 31);
  if (!bytes)
    return void(
        refuse(t, "the size is not a whole number up to 2^31", "a number such as 16: sizes are constant"));
  shape.bytes = *bytes;
  if (cursor_.accept_word("align")) {
    auto align = cursor_.alignment(4096);
    if (!align) return void(fail());
    shape.align = *align;
  }
  p_.detail = function_.add_reserve(shape);
}

void StatementReader::address_of() {
  p_.results.push_back(module_.pointer_type());
  if (!cursor_.accept_word("of")) return void(refuse(cursor_.peek(), "'of' is missing", "address of NAME"));
  Token t = cursor_.peek();
  auto name = cursor_.name("the name of a function or data");
  Symbol s = name ? module_.find(*name) : Symbol();
  if (name && !s.exists())
    complain(t, "nothing in the module is called '" + *name + "'", "the name of a function or data");
  if (!s.exists()) return void(fail());
  p_.detail = s.index;
}

// `name(…)` or `[p](…) -> types`, behind `call` and `return call`.
void StatementReader::call() {
  bool returns = p_.op == Op::ReturnCall;
  if (cursor_.at_mark('[')) {
    p_.op = returns ? Op::ReturnCallThrough : Op::CallThrough;
    call_through();
  } else {
    call_by_name();
  }
  if (!returns || !p_.good) return;
  if (p_.op == Op::ReturnCallThrough && p_.results.empty()) p_.results = function_.signature().results;
  if (p_.results != function_.signature().results)
    refuse(p_.word, "the function called gives other results than this one",
           "a function with the results of " + function_.signature().text());
  p_.results.clear();
}

const Signature* StatementReader::callee(const Token& token, std::string_view name) {
  Symbol s = module_.find(name);
  p_.detail = s.index;
  if (s.exists() && module_.signature(s)) return module_.signature(s);
  std::vector<std::string> names;
  for (size_t k = 0; k < module_.symbol_count() && cursor_.may_suggest() && names.size() < 5000; ++k)
    if (module_.signature(Symbol(k))) names.emplace_back(module_.symbol_name(Symbol(k)));
  std::string shown(name);
  complain(
      token,
      s.exists() ? "'" + shown + "' is data and cannot be called" : "no function is called '" + shown + "'",
      suggestion(shown, names, "a function of the module"));
  return nullptr;
}

void StatementReader::call_by_name() {
  Token t = cursor_.peek();
  auto name = cursor_.name("the name of a function, or an address in [ ]");
  const Signature* signature = name ? callee(t, *name) : nullptr;
  if (!cursor_.expect('(', "before the arguments")) return void(fail());
  arguments(p_.written);
  if (!signature) return void(fail());
  p_.results = signature->results;
  p_.wanted = signature->parameters;
  bool fits =
      signature->variadic ? p_.written.size() >= p_.wanted.size() : p_.written.size() == p_.wanted.size();
  if (!fits)
    refuse(t, "'" + *name + "' is called with " + counted(p_.written.size(), "argument"),
           std::to_string(p_.wanted.size()) + (signature->variadic ? " or more" : "") + " for " +
               signature->text());
}

void StatementReader::call_through() {
  cursor_.take();
  p_.written.push_back(operands_.operand());
  p_.wanted.push_back(module_.pointer_type());
  if (!cursor_.expect(']', "after the function's address")) return void(fail());
  if (!cursor_.expect('(', "before the arguments")) return void(fail());
  arguments(p_.written);
  if (!p_.good || !cursor_.accept('>')) return;
  do {
    auto type = read_type(cursor_, module_);
    if (!type) return void(fail());
    p_.results.push_back(*type);
  } while (cursor_.accept(','));
}

void StatementReader::watch() {
  auto name = cursor_.name("the name of a variable of the source");
  if (!name) return void(fail());
  p_.detail = module_.realm().name(*name).index;
  if (!cursor_.expect('=', "between the variable and its value")) return void(fail());
  p_.written.push_back(operands_.operand());
}

// A block and its arguments; false when it could not be read.
bool StatementReader::target() {
  WrittenTarget target;
  target.token = cursor_.peek();
  if (!cursor_.at_name()) {
    complain("a name is missing", "the name of a block");
    return fail();
  }
  Name n = name_of(cursor_.take());
  bool known = context_.names.has_block(n);
  target.first_argument = p_.ways.arguments.size();
  if (cursor_.accept('(')) arguments(p_.ways.arguments);
  target.argument_count = p_.ways.arguments.size() - target.first_argument;
  if (!known) {
    std::vector<std::string> names;
    for (Block b = function_.entry(); b.exists() && cursor_.may_suggest() && names.size() < 5000;
         b = function_.next(b))
      names.emplace_back(module_.text(function_.name(b)));
    std::string name(module_.text(n));
    return refuse(target.token, "no block is called '" + name + "'",
                  suggestion(name, names, "a label of this function"));
  }
  target.to = context_.names.at(n).block;
  size_t takes = function_.parameters(target.to).size();
  if (target.argument_count != takes)
    refuse(target.token,
           "'" + std::string(module_.text(n)) + "' is given " + counted(target.argument_count, "argument"),
           std::to_string(takes) + ", one for each of its parameters");
  if (p_.op != Op::When)
    if (auto times = cursor_.number(~uint64_t(0) - 1)) target.weight = *times;
  p_.ways.targets.push_back(target);
  return true;
}

void StatementReader::go() { target(); }

// when c [likely | rarely | times] go a else b [times]
void StatementReader::when() {
  p_.written.push_back(operands_.operand());
  std::optional<uint64_t> times, other;
  if (cursor_.accept_word("likely"))
    p_.said.hint = Function::Hint::Likely;
  else if (cursor_.accept_word("rarely"))
    p_.said.hint = Function::Hint::Rarely;
  else
    times = cursor_.number(~uint64_t(0) - 1);
  if (!cursor_.accept_word("go"))
    return void(refuse(cursor_.peek(), "'go' is missing after the condition", "when c go b else d"));
  if (!target()) return;
  if (!cursor_.accept_word("else")) {
    if (p_.good) complain("'else' is missing", "else and a block: both ways are written");
    p_.good = false;
    return;
  }
  Token t = cursor_.peek();
  if (!target()) return;
  other = cursor_.number(~uint64_t(0) - 1);
  if (times.has_value() != other.has_value())
    return void(refuse(t, "only one way is counted", "when c 970 go a else b 30: both ways or none"));
  if (times) p_.ways.targets[0].weight = *times, p_.ways.targets[1].weight = *other;
}

// choose v { 0: a, 4: b(x), else: c }
void StatementReader::choose() {
  p_.written.push_back(operands_.operand());
  if (!cursor_.expect('{', "before the cases")) return void(fail());
  bool has_else = false;
  while (!cursor_.at_mark('}') && !cursor_.at_line_end()) {
    if (has_else)
      return void(refuse(cursor_.peek(), "a case stands behind 'else'", "'else' as the last one"));
    has_else = cursor_.accept_word("else");
    if (!has_else) {
      Written w;
      w.token = cursor_.peek();
      if (w.token.kind != TokenKind::Integer)
        return void(refuse(w.token, "a case's number is missing", "a number or 'else'"));
      operands_.literal(w);
      p_.ways.cases.push_back(w);
    }
    if (!cursor_.expect(':', "between a case and its block")) return void(fail());
    if (!target()) return;
    if (p_.ways.targets.size() > Function::list_limit)
      return void(refuse(p_.word, "this chooses among more than 65535 ways", "fewer cases"));
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect('}', "after the cases")) return void(fail());
  if (!has_else)
    refuse(p_.word, "this does not say what other values do", "else: and a block, as the last case");
}

void StatementReader::return_statement() {
  // `return call f(x)`: a name or an address behind `call` cannot follow a value of that name.
  TokenKind behind = cursor_.peek(1).kind;
  bool calls = cursor_.at_word("call") &&
               (behind == TokenKind::Name || behind == TokenKind::Quoted || cursor_.at_mark('[', 1));
  if (calls) {
    cursor_.take();
    p_.op = Op::ReturnCall;
    return call();
  }
  while (!cursor_.at_line_end() && !cursor_.at_mark('@')) {
    p_.written.push_back(operands_.operand());
    if (!cursor_.accept(',')) break;
  }
  p_.wanted = function_.signature().results;
  if (p_.written.size() != p_.wanted.size())
    refuse(p_.word, "this returns " + counted(p_.written.size(), "result"),
           std::to_string(p_.wanted.size()) + " for " + function_.signature().text());
}

}  // namespace porphyry::text
