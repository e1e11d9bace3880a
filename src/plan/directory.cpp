#include "plan/directory.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.h"
#include "plan/names.h"

namespace jembatan::plan {

identity::StoredPassword::Form form_of(Directory::Passwords passwords) {
  using Form = identity::StoredPassword::Form;
  switch (passwords) {
    case Directory::Passwords::nt:
      return Form::nt;
    case Directory::Passwords::clear:
      return Form::clear;
    case Directory::Passwords::bind:
      break;
  }
  return Form::hash;  // what is typed can be compared, and nothing else
}

void complete(Directory& directory) {
  if (directory.group_name.empty()) directory.group_name = "cn";
  if (!directory.group_base.empty() && directory.group_filter.empty())
    directory.group_filter = "(member={dn})";
}

std::vector<std::pair<std::string, std::string>> mistakes_of(const Directory& directory, bool has_secret) {
  std::vector<std::pair<std::string, std::string>> out;
  if (directory.access.account.empty() == has_secret)
    out.emplace_back(has_secret ? "has a secret without an account" : "has an account without a secret",
                     "both, or neither of them");
  if (directory.group_base.empty() && !directory.group_filter.empty())
    out.emplace_back("has a group_filter without a group_base", "both, or neither of them");
  for (const std::string& attribute : directory.attributes)
    if (lower(attribute) == "userpassword" || lower(attribute) == lower(directory.kept_password))
      out.emplace_back(fmt::format("would show '{}', which holds passwords", attribute),
                       "'attributes' without it");
  return out;
}

Result<DirectoryAccess::Server> directory_server(std::string_view url) {
  constexpr std::string_view kTls = "ldaps://";
  constexpr std::string_view kPlain = "ldap://";
  constexpr std::string_view kAllowed = "ldap://HOST[:PORT] or ldaps://HOST[:PORT]";
  DirectoryAccess::Server out;
  out.url = url;
  out.is_tls = url.starts_with(kTls);
  const auto wrong = [&] {
    return fail(Errc::malformed, fmt::format("'{}' is not {}", escaped(url), kAllowed));
  };
  if (!out.is_tls && !url.starts_with(kPlain)) return wrong();
  std::string_view rest = url.substr(out.is_tls ? kTls.size() : kPlain.size());
  if (rest.ends_with('/')) rest.remove_suffix(1);
  std::string_view port;
  if (rest.starts_with('[')) {
    const std::size_t close = rest.find(']');
    if (close == std::string_view::npos) return wrong();
    out.host = rest.substr(1, close - 1);
    rest.remove_prefix(close + 1);
    if (!rest.empty() && rest.front() != ':') return wrong();
    if (!rest.empty()) port = rest.substr(1);
    if (rest == ":") return wrong();
  } else {
    const std::size_t colon = std::min(rest.find(':'), rest.size());
    out.host = rest.substr(0, colon);
    if (colon < rest.size()) port = rest.substr(colon + 1);
    if (colon + 1 == rest.size()) return wrong();
  }
  if (!IpAddress::parse(out.host) && !is_host_name(out.host)) return wrong();
  unsigned number = 0;
  const auto [end, error] = std::from_chars(port.data(), port.data() + port.size(), number);
  if (!port.empty() &&
      (error != std::errc() || end != port.data() + port.size() || number == 0 || number > 65535))
    return wrong();
  out.port = static_cast<std::uint16_t>(!port.empty() ? number : out.is_tls ? 636 : 389);
  return out;
}

}  // namespace jembatan::plan
