// Idea: a walk over the links of all functions' dependences, turned around, with four colours: a value is
// secret, a pointer leads to secrets, a call leaves secrets in memory, memory holds such pointers. Arguments
// go into the bodies that are called, what those return comes out of them, so that a call stands for its body
// and not for all that it might do. Each place is visited once a colour.
#include "secret_flow.h"

#include <algorithm>

#include "porphyry/print/print.h"

namespace porphyry::ask {

using Why = Dependences::Why;

SecretFlow::Sources SecretFlow::marked(const Module& module) {
  Sources out(module.symbol_count());
  for (Symbol s : module.functions())
    for (size_t p = 0; p < module.function(s).parameters().size(); ++p)
      out[s.index].push_back((module[s].facts.marks_of(p) & mark::secret) != 0);
  return out;
}

SecretFlow::SecretFlow(const Module& module, const Sources& sources)
    : module_(module),
      all_(module.symbol_count()),
      users_(module.symbol_count()),
      sites_(module.symbol_count()) {
  const bool any = std::any_of(sources.begin(), sources.end(),
                               [](const auto& of) { return std::find(of.begin(), of.end(), 1) != of.end(); });
  if (!any) return;
  const CallEffects effects(module);
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    all_[s.index] = std::make_unique<Dependences>(module, s, effects);
    auto& users = users_[s.index];
    users.resize(all_[s.index]->node_limit());
    for (uint32_t code = 0; code < users.size(); ++code)
      for (const auto& link : all_[s.index]->of({code})) users[link.on.code].push_back({{code}, link.why});
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b))
        if (is_known(f, i)) sites_[f.symbol(i).index].push_back({s, i});
  }
  for (Symbol s : module.functions())
    for (size_t p = 0; p < sources[s.index].size(); ++p) {
      if (!sources[s.index][p]) continue;
      const Value v = module.function(s).parameters()[p];
      const bool pointer = module.function(s).type(v).is_pointer();
      const Place start{s.index, Dependences::value(v).code, pointer ? Colour::Leads : Colour::Secret};
      reach(start, start);
    }
  while (!todo_.empty()) {
    const Place p = todo_.back();
    todo_.pop_back();
    spread(p);
  }
}

bool SecretFlow::is_known(const Function& f, Instruction call) const {
  return info(f.op(call)).layout == Layout::Call && module_.is_function(f.symbol(call));
}

void SecretFlow::reach(Place to, const Place& from) {
  if (from_.try_emplace(to, from).second) todo_.push_back(to);
}

void SecretFlow::spread(const Place& p) {
  switch (p.colour) {
    case Colour::Secret: return secret(p);
    case Colour::Leads: return leads(p);
    case Colour::Writes: return writes(p);
    case Colour::Holds: return holds(p);
  }
}

// A value, or what an instruction does.
void SecretFlow::secret(const Place& p) {
  const Function& f = module_.function(Symbol(p.function));
  const Node n{p.code};
  if (!n.is_memory() && !n.is_value() && info(f.op(n.instruction())).writes_memory())
    leaves_memory(p, Colour::Writes);
  for (const auto& link : users_[p.function][p.code]) {
    const Place to{p.function, link.on.code, Colour::Secret};
    const Instruction user =
        link.on.is_value() || link.on.is_memory() ? Instruction() : link.on.instruction();
    if (user.exists() && info(f.op(user)).layout == Layout::Return && n.is_value()) {
      returned(p, user);
    } else if (user.exists() && is_known(f, user)) {
      if (link.why == Why::Memory)
        reach({f.symbol(user).index, 0, Colour::Secret}, p);  // what it finds in memory
      if (link.why == Why::Decides) reach({p.function, link.on.code, Colour::Writes}, p);
      for (size_t k = 0; n.is_value() && k < f.operand_count(user); ++k)
        if (f.operand(user, k) == n.value()) argument(p, user, k);
    } else if (link.why != Why::Result || !is_known(f, Node{p.code}.instruction())) {
      reach(to, p);
    }
  }
}

// A pointer: what is moved along leads there as well; what is loaded is secret.
void SecretFlow::leads(const Place& p) {
  const Function& f = module_.function(Symbol(p.function));
  for (const auto& link : users_[p.function][p.code]) {
    if (link.on.is_value()) {  // an edge's argument
      if (link.why == Why::Argument) reach({p.function, link.on.code, Colour::Leads}, p);
      continue;
    }
    if (link.on.is_memory()) continue;
    const Instruction user = link.on.instruction();
    const Op op = f.op(user);
    const Value v = Node{p.code}.value();
    if (info(op).layout == Layout::Return) {
      returned(p, user);
    } else if (is_known(f, user)) {
      for (size_t k = 0; k < f.operand_count(user); ++k)
        if (f.operand(user, k) == v) argument(p, user, k);
    } else if (op == Op::Store && f.operand(user, 0) == v) {
      reach({p.function, link.on.code, Colour::Holds}, p);
    } else if (op == Op::Load || op == Op::Copy || info(op).calls()) {
      reach({p.function, link.on.code, Colour::Secret}, p);
    } else if ((op == Op::At && f.operand(user, 0) == v) || op == Op::Pick || op == Op::Sole) {
      reach({p.function, Dependences::value(f.result(user)).code, Colour::Leads}, p);
    }
  }
}

// A call that leaves secrets in memory: who may read them.
void SecretFlow::writes(const Place& p) {
  const Function& f = module_.function(Symbol(p.function));
  leaves_memory(p, Colour::Writes);
  for (const auto& link : users_[p.function][p.code]) {
    if (link.why != Why::Memory || link.on.is_value()) continue;
    const Instruction user = link.on.instruction();
    if (is_known(f, user))
      reach({f.symbol(user).index, 0, Colour::Secret}, p);
    else
      reach({p.function, link.on.code, Colour::Secret}, p);
  }
}

// Memory behind an instruction, or as the function found it, with pointers to secrets in it: what loads one
// has it again, copies and calls hand it on.
void SecretFlow::holds(const Place& p) {
  const Function& f = module_.function(Symbol(p.function));
  if (!Node{p.code}.is_memory()) leaves_memory(p, Colour::Holds);
  for (const auto& link : users_[p.function][p.code]) {
    if (link.why != Why::Memory || link.on.is_value() || link.on.is_memory()) continue;
    const Instruction user = link.on.instruction();
    if (is_known(f, user)) {
      reach({f.symbol(user).index, 0, Colour::Holds}, p);
      continue;
    }
    if (info(f.op(user)).writes_memory()) reach({p.function, link.on.code, Colour::Holds}, p);
    for (Value v : f.results(user))
      if (f.type(v).element().is_pointer()) reach({p.function, Dependences::value(v).code, Colour::Leads}, p);
  }
}

void SecretFlow::argument(const Place& p, Instruction call, size_t operand) {
  const Symbol callee = module_.function(Symbol(p.function)).symbol(call);
  const Value parameter = module_.function(callee).parameters()[operand];
  reach({callee.index, Dependences::value(parameter).code, p.colour}, p);
}

// Results of all calls of the function; one in last place hands them on.
void SecretFlow::returned(const Place& p, Instruction end) {
  const Function& f = module_.function(Symbol(p.function));
  std::vector<Symbol> functions = {Symbol(p.function)};
  std::vector<uint8_t> seen(module_.symbol_count());
  for (size_t r = 0; r < f.operand_count(end); ++r) {
    if (f.operand(end, r) != Node{p.code}.value()) continue;
    for (size_t k = 0; k < functions.size(); ++k)
      for (const Site& site : sites_[functions[k].index]) {
        const Function& caller = module_.function(site.caller);
        if (caller.op(site.call) == Op::ReturnCall) {
          if (!std::exchange(seen[site.caller.index], 1)) functions.push_back(site.caller);
        } else {
          reach({site.caller.index, Dependences::value(caller.result(site.call, r)).code, p.colour}, p);
        }
      }
  }
}

void SecretFlow::leaves_memory(const Place& p, Colour colour) {
  for (const Site& site : sites_[p.function])
    reach({site.caller.index, Dependences::instruction(site.call).code, colour}, p);
}

std::string SecretFlow::text(const Place& p) const {
  const Function& f = module_.function(Symbol(p.function));
  const std::string in = std::string(module_.symbol_name(Symbol(p.function))) + ": ";
  const Node n{p.code};
  if (n.is_memory()) return in + "memory as it found it";
  if (!n.is_value()) return in + write_text(module_, f, n.instruction());
  const Instruction d = f.definition(n.value());
  if (d.exists()) return in + write_text(module_, f, d);
  return in + "parameter " + value_text(module_, f, n.value());
}

std::vector<std::string> SecretFlow::way(Symbol f, Value v) const {
  std::vector<std::string> out;
  auto at = from_.find({f.index, Dependences::value(v).code, Colour::Secret});
  while (at != from_.end()) {
    std::string step = text(at->first);
    if (out.empty() || out.back() != step) out.push_back(std::move(step));
    const Place& before = at->second;
    if (!(before < at->first) && !(at->first < before)) break;  // a source
    at = from_.find(before);
  }
  std::reverse(out.begin(), out.end());
  return out;
}

}  // namespace porphyry::ask
