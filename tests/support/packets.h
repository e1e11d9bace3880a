#pragma once
// Packets that read like sentences: access_request().user("anna").password("secret").signed_with(secret).
#include <string>

#include "plan/read.h"
#include "wire/builder.h"
#include "wire/shared_secret.h"

namespace jembatan::support {

inline wire::SharedSecret secret(std::string_view text) {
  return wire::SharedSecret(Secret(text));
}

class RequestBuilder {
 public:
  RequestBuilder(wire::Code code, std::uint8_t identifier);
  RequestBuilder& user(std::string_view name) { return with("User-Name", name); }
  RequestBuilder& password(std::string_view text);
  /// An attribute by dictionary name.
  RequestBuilder& with(std::string_view name, std::string_view value);
  /// Whole attributes, as octets.
  RequestBuilder& plus(const Octets& encoded);
  /// Octets behind the attributes, well-formed or not.
  RequestBuilder& raw(const Octets& octets);
  RequestBuilder& authenticator(std::uint8_t fill);

  /// With Message-Authenticator, and for accounting the Request Authenticator.
  Octets signed_with(const wire::SharedSecret& secret) const;
  /// Without Message-Authenticator; the password is hidden all the same.
  Octets not_signed(const wire::SharedSecret& secret) const;

 private:
  Octets build(const wire::SharedSecret& secret, bool sign) const;
  wire::Code code_;
  std::uint8_t identifier_;
  wire::Authenticator authenticator_{};
  std::string password_;
  bool has_password_ = false;
  Octets attributes_;
  Octets raw_;
};

RequestBuilder access_request(std::uint8_t identifier = 7);
RequestBuilder accounting_request(std::string_view status, std::string_view session,
                                  std::uint8_t identifier = 9);
RequestBuilder disconnect_request(std::uint8_t identifier = 5);
RequestBuilder status_server(std::uint8_t identifier = 3);

/// A plan from the text of one file; fails the test if it has errors.
plan::PlanPtr plan_of(std::string_view text);
/// The problems of a plan's text, as people read them.
std::string problems_of(std::string_view text);

/// The value of an attribute as text, "(none)" if there is none.
std::string value_in(OctetView packet, std::string_view name);

}  // namespace jembatan::support
