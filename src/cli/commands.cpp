#include <iterator>

#include "cli/command.h"

namespace jembatan::cli {

std::string Arguments::get(std::string_view name, std::string_view fallback) const {
  const auto found = values_.find(name);
  return found == values_.end() ? std::string(fallback) : found->second;
}

std::vector<std::string> Arguments::all(std::string_view name) const {
  const auto found = lists_.find(name);
  return found == lists_.end() ? std::vector<std::string>{} : found->second;
}

const std::vector<Command>& commands() {
  static const std::vector<Command> all = [] {
    std::vector<Command> out;
    for (const auto make :
         {ask_commands,        follow_commands,     journal_commands,        plan_commands,
          client_commands,     user_commands,       factor_commands,         user_check_commands,
          realm_commands,      directory_commands,  group_commands,          route_commands,
          access_commands,     reply_set_commands,  edit_commands,           sign_in_commands,
          explain_commands,    dictionary_commands, decode_commands,         capture_commands,
          server_commands,     session_commands,    session_device_commands, device_commands,
          accounting_commands, node_commands,       audit_commands,          rehearse_commands,
          lab_commands}) {
      auto more = make();
      std::move(more.begin(), more.end(), std::back_inserter(out));
    }
    return out;
  }();
  return all;
}

}  // namespace jembatan::cli
