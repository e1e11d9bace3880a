#pragma once
// One question to a RADIUS server: prepared once, asked any number of times, each time as another packet.
#include <optional>

#include "cli/command.h"
#include "cli/credential.h"
#include "cli/exchange.h"
#include "cli/peer.h"
#include "dictionary/catalogue.h"
#include "identity/one_time_code.h"
#include "rehearsal/case.h"

namespace jembatan::cli {

/// One packet that was sent, and what came of it.
struct Exchanged {
  Octets request;
  ExchangeResult result;
  std::string proof_of_both;  ///< what MS-CHAP2-Success must say; empty: another method

  /// The genuine reply; nothing if there is none.
  std::optional<wire::PacketView> reply() const;
};

/// What is asked, and whom. Copies may be asked by several threads at a time.
class Question {
 public:
  // From the options of the commands; what they say is checked, and nothing is sent.
  static Result<Question> access(const Arguments& arguments);      ///< ask access
  static Result<Question> accounting(const Arguments& arguments);  ///< ask accounting
  static Result<Question> status(const Arguments& arguments);      ///< ask status
  static Result<Question> disconnect(const Arguments& arguments);  ///< ask disconnect
  static Result<Question> coa(const Arguments& arguments);         ///< ask coa

  /// One that is not sent anywhere.
  struct Offline {
    wire::SharedSecret secret;
    dictionary::CataloguePtr names;
  };
  ///   errors  Errc::malformed, Errc::not_found: the options
  static Result<Question> offline(const Arguments& arguments, rehearsal::Step::Kind kind, Offline with);

  /// The packet alone, signed; nothing came of it yet.
  ///   errors  Errc::malformed: it does not fit into a packet
  /// One of many: the Identifier of the packet, and what makes its Acct-Session-Id another.
  struct Numbered {
    std::uint8_t identifier = 0;
    std::uint64_t session = 0;
  };
  ///   number  without one, the Identifier is by chance
  Result<Exchanged> packet(std::optional<Numbered> number = {}) const;
  /// Sends it and waits, as --wait and --tries say.
  ///   errors  Errc::malformed: it does not fit into a packet; those of exchange()
  Result<Exchanged> ask() const;
  /// The next round: the answer in the place of the password, and the State of the challenge (RFC 2865 §4.4).
  Result<Exchanged> answer(const wire::PacketView& challenge, const Secret& given) const;
  /// The same, without sending it.
  Result<Exchanged> answer_packet(const wire::PacketView& challenge, const Secret& given) const;

  const ExchangeWish& wish() const { return wish_; }  ///< where to, from where, how long, how often
  const std::string& whom() const { return whom_; }   ///< is asked, in words
  const std::string& what() const { return what_; }   ///< is asked, in words
  /// The dictionaries of the asked node, or those that were named.
  const dictionary::Catalogue& names() const { return *names_; }
  const dictionary::CataloguePtr& names_in_use() const { return names_; }
  bool is_accounting() const { return code_ == wire::Code::accounting_request; }
  /// Of a session that is there already, and so of its device: RFC 5176.
  bool is_of_session() const {
    return code_ == wire::Code::disconnect_request || code_ == wire::Code::coa_request;
  }
  /// Whether both authenticators of a reply fit the request.
  bool is_genuine(const wire::PacketView& reply, OctetView request) const;
  /// The same of another user and session, as these options say.
  Question renamed(const Arguments& arguments) const;
  /// The same sign-in of another user.
  Question of_person(std::string user, Secret password) const;
  /// The same by another method.
  ///   errors  Errc::malformed: there is none of that name
  Result<Question> by_method(const std::string& method) const;

 private:
  /// An attribute as it was given: what is hidden can be encoded only for its packet.
  struct Given {
    std::string name;
    std::string value;
  };
  static Result<Question> prepare(const Arguments& arguments, wire::Code code, PortOf port);
  static Result<Question> of_session(const Arguments& arguments, wire::Code code);
  Status read_access(const Arguments& arguments);
  Status read_token(const Arguments& arguments);
  Status read_accounting(const Arguments& arguments);
  /// What was typed, with the token's code of now in the place of {code}.
  Secret filled(const Secret& text) const;
  Status read_given(const Arguments& arguments);
  Result<Octets> encoded(const wire::Authenticator& authenticator) const;
  Result<Exchanged> complete(wire::PacketBuilder& packet, Status built) const;
  Result<Exchanged> send(Result<Exchanged> built) const;

  wire::Code code_{};
  ExchangeWish wish_;
  std::string whom_;
  std::string what_;
  wire::SharedSecret secret_;
  dictionary::CataloguePtr names_;
  std::vector<Given> given_;
  std::string user_;
  std::string session_;
  Octets status_;  // Acct-Status-Type, encoded
  Method method_{};
  std::optional<Secret> password_;  // none: nothing is to be proved
  std::optional<identity::Token> token_;
  bool signed_ = true;
};

/// A packet of that code with that Identifier, or one by chance, and a new Request Authenticator if its kind
/// has one by chance.
wire::PacketBuilder new_packet(wire::Code code, std::optional<std::uint8_t> identifier = {});

}  // namespace jembatan::cli
