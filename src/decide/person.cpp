#include "decide/person.h"

namespace jembatan::decide {

std::string_view reason_of(Person::Account account) {
  switch (account) {
    case Person::Account::usable:
      break;
    case Person::Account::disabled:
      return "the directory says: the account is disabled";
    case Person::Account::locked:
      return "the directory says: the account is locked";
    case Person::Account::expired:
      return "the directory says: the account has expired";
    case Person::Account::password_expired:
      return "the directory says: the password has expired";
    case Person::Account::must_change:
      return "the directory says: the password must be changed first";
  }
  return {};
}

}  // namespace jembatan::decide
