#pragma once
// What a directory says of somebody.
#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

namespace jembatan::decide {

/// Somebody who was looked for in a directory.
struct Person {
  enum class Found : std::uint8_t {
    one,
    nobody,
    several,    ///< more than one entry: it could be anybody
    no_answer,  ///< no server answered, or none did what was asked
  };
  /// What the directory said of the password, if it was asked.
  enum class Password : std::uint8_t { not_asked, right, wrong };
  /// Whether the account can be used. Journals keep the numbers: a new one is the last.
  enum class Account : std::uint8_t { usable, disabled, locked, expired, password_expired, must_change };

  Found found = Found::no_answer;
  std::string why;     ///< of no_answer; of a password that is refused for another reason than being wrong
  std::string server;  ///< that answered: its URL; empty: it was remembered
  std::string name;    ///< distinguished name (RFC 4514)
  std::vector<std::string> groups;
  std::map<std::string, std::string> attributes;  ///< those that the plan names, by their first value
  Password password = Password::not_asked;
  Account account = Account::usable;
};
using PersonPtr = std::shared_ptr<const Person>;
inline constexpr std::size_t kAccounts = 6;

/// Why somebody with such an account does not come in; a literal, empty if it can be used.
std::string_view reason_of(Person::Account account);

}  // namespace jembatan::decide
