#pragma once
// What a condition is evaluated over: one request, and what is known besides. Views only.
#include <map>
#include <string>
#include <vector>

#include "base/clock.h"
#include "dictionary/catalogue.h"
#include "wire/packet.h"

namespace jembatan::condition {

/// What named groups of patterns matched: "(?P<head>.*)" as "head".
using Captures = std::map<std::string, std::string, std::less<>>;

struct Facts {
  const wire::PacketView* packet = nullptr;
  const dictionary::Catalogue* catalogue = nullptr;
  std::string_view user;                                       ///< without its realm
  std::string_view realm;                                      ///< empty if there is none
  std::string_view client;                                     ///< its name
  std::string_view listener;                                   ///< "access" or "accounting"
  std::string_view method;                                     ///< "pap", "chap", "eap", "none"
  std::string_view code;                                       ///< "Access-Request", …
  std::string_view route;                                      ///< that decided; empty: none, or not yet
  std::string_view group;                                      ///< that it is forwarded to
  std::string_view server;                                     ///< that it is sent to, or that answered
  const std::map<std::string, std::string>* labels = nullptr;  ///< of the client
  /// What a directory says of the user; null: nothing, or not asked yet.
  const std::map<std::string, std::string>* directory = nullptr;
  const std::vector<std::string>* groups = nullptr;  ///< of the user; null: not known yet
  std::uint64_t sessions = 0;                        ///< of the user, at other places
  WallTime now{};
};

}  // namespace jembatan::condition
