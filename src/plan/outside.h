#pragma once
// What reading a plan needs from outside. All of it is passed in: reading itself opens nothing.
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/ip.h"
#include "base/secret.h"
#include "document/value.h"

namespace jembatan::plan {

/// Where `{ file = "…" }`, `{ env = "…" }`, `{ kept = "…" }` and host names lead to. What is left empty is
/// not looked up.
struct Outside {
  std::function<Result<std::string>(const std::string&)> file;
  std::function<Result<std::string>(const std::string&)> variable;
  /// A secret that the node keeps, by its mark. Empty: any mark stands for a secret that is not known here.
  std::function<Result<std::string>(const std::string&)> kept = {};
  /// The addresses of a host name, one or more. Empty: clients and servers with a host name have no address
  /// yet.
  std::function<Result<std::vector<IpAddress>>(const std::string&)> resolve = {};
  /// What dates are compared with. Empty: no advice about dates.
  std::optional<WallTime> now = {};
};

inline constexpr std::string_view kSecretForms =
    "text, { file = \"PATH\" }, { env = \"VARIABLE\" } or { kept = \"MARK\" }";

/// The secret that an entry holds or leads to. The value never appears in an error.
///   errors  Errc::malformed: none of kSecretForms; otherwise what the source said
Result<Secret> secret_of(const document::Entry& entry, const Outside& outside);

/// True if the entry holds { kept = … }.
bool is_kept(const document::Value& value);

/// Calls `visit` with each entry of an object's table that holds a secret: secret, old_secret,
/// password.clear, password.hash, the secret of each server and of a probe, and the values of hidden
/// attributes in reply, set and add (each item of an array by itself).
///   hidden  whether an attribute is; by its name as the plan writes it
void each_secret(document::Value& table, const std::function<bool(std::string_view)>& hidden,
                 const std::function<void(document::Entry&)>& visit);

/// Where nobody knows the dictionary: the caller looks at what the values are.
inline bool any_attribute(std::string_view) {
  return true;
}

}  // namespace jembatan::plan
