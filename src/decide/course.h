#pragma once
// The course of one request, as a pure state machine: packets and results go in, the next step comes out. The
// server drives it with what really happens, `explain` with what it takes for granted, the journal with what
// was recorded. There is no other description of the way of a request.
#include "decide/compose.h"
#include "decide/edits.h"
#include "decide/factor.h"
#include "decide/method.h"
#include "decide/outcome.h"
#include "decide/telling.h"

namespace jembatan::decide {

/// How a request ends, and why.
struct Ending {
  /// What the detail is.
  enum class About : std::uint8_t { text, rule, realm };
  Outcome outcome{};
  std::string_view because = {};  ///< a literal
  std::string detail = {};
  About about = About::text;
  std::string server = {};  ///< "GROUP/SERVER" that answered
};

/// What is to be done next. Whoever does what takes time says by `on` what came of it.
struct Next {
  enum class What : std::uint8_t {
    reply,    ///< `attributes` to the client, besides what belongs to the hop
    drop,     ///< no answer
    look_up,  ///< who has the name in the directory of the realm: a Person
    prove,    ///< whether the credential is the one of Course::user() or person(): a Proof, or a Challenge
    factor,   ///< whether Course::factor() is proved, too: a FactorProof, or a Challenge
    record,   ///< keep the record, as way().accounting says: a Kept
    ask,      ///< a server of way().destination.group: an Answer or a Silence
  } what{};
  wire::Code code{};  ///< of the reply
  Octets attributes = {};
  Ending ending = {};  ///< of reply and drop
};

/// The record is durable.
struct Kept {
  bool again = false;       ///< it was before: a resend
  std::string status;       ///< "Start"
  std::int64_t record = 0;  ///< its number; 0: not known
};

/// A server has answered.
struct Answer {
  wire::PacketView reply;  ///< genuine
  HiddenWith with;
  const plan::Server* server = nullptr;
};

/// No server has.
struct Silence {
  std::string why;
};

/// It must not go on, and its sender is told so (a loop).
struct Refusal {
  Ending ending;
};

/// It cannot go on, and there is no answer.
struct Failure {
  Ending ending;
};

/// One request. Keeps views of the packet, the plan and the client: they must outlive it. One thread at a
/// time.
class Course {
 public:
  ///   received  as it came in, verified
  ///   hidden    of the request and its reply
  ///   random    for what methods send
  ///   telling   if given: gets a line for each step
  Course(const Request& received, const HiddenValues& hidden, Random& random, Telling* telling = nullptr);

  /// The received packet has moved to other octets, which are the same.
  void moved_to(const wire::PacketView& received) { received_ = received; }

  /// The request goes on with a conversation. Before begin().
  void resume(ResumedPtr resumed) { resumed_ = std::move(resumed); }
  /// The first step. Called once.
  Next begin();
  // What came of the step that was asked for, and the step after it.
  Next on(PersonPtr person);        ///< of `look_up`: `prove`, the access rules, or an Access-Reject
  Next on(Proof proof);             ///< of `prove`, or instead of `look_up`: the access rules decide
  Next on(FactorProof proof);       ///< of `factor`: the next one, or what the access rule says
  Next on(Challenge challenge);     ///< of `prove` and `factor`: an Access-Challenge (RFC 2865 §4.4)
  Next on(const Kept& kept);        ///< of `record`: an Accounting-Response (RFC 2866 §4.2)
  Next on(const Answer& answer);    ///< of `ask`: the same to the client, after the plan's edits
  Next on(Silence silence);         ///< of `ask`: as the group's when_silent says
  Next on(Refusal refusal);         ///< of any: an Access-Reject
  static Next on(Failure failure);  ///< of any: no answer

  /// The request as it goes to a server; nothing if it goes as it is.
  std::optional<Octets> to_send(std::size_t group, const plan::Server& server);

  /// As it was received, after the plan's edits.
  const wire::PacketView& packet() const { return edited_ ? *edited_ : received_; }
  const Way& way() const { return way_; }
  /// The same for whoever tells of the request when it has ended: no step comes after that.
  Way take_way() { return std::move(way_); }
  /// That the user had elsewhere, when the access rules asked.
  std::uint64_t sessions() const { return sessions_; }
  const plan::User* user() const { return user_; }  ///< null: the plan has none of this name
  /// What the directory said; null: it was not asked, or the plan has the user.
  const Person* person() const { return person_.get(); }
  const plan::Directory* directory() const { return directory_of(*plan_, way_); }
  bool is_known() const { return user_ != nullptr || is_in_directory(); }
  /// The factor that is to be proved, as an index into Plan::factors; in `factor`.
  std::size_t factor() const { return factor_; }
  /// The conversation that it goes on with; null: it begins one.
  const Resumed* resumed() const { return resumed_.get(); }
  /// What is to be kept until the next round; in `factor`.
  Resumed so_far() const;
  Request request() const { return {*plan_, packet(), *client_, accounting_, now_, elsewhere_}; }
  /// Of the request: whoever looks at another packet puts that in.
  condition::Facts facts() const;
  /// True if the client's signature shows that it knows the secret.
  bool is_signed() const { return received_.find(wire::AttributeType::message_authenticator).has_value(); }

 private:
  void edit_received();
  Next decide();
  Next prove();
  Next look_up();
  bool is_in_directory() const { return person_ && person_->found == Person::Found::one; }
  std::optional<Subject> subject() const;
  Next admit_unproved();
  Next go_on();
  Next admit(std::string_view proven, OctetView besides);
  Subject signed_in() const;
  Admission admitted(Subject& subject, Trail* trail);
  void find_factors(const condition::Facts& facts);
  Next next_factor();
  Next let_in();
  void leave();
  Next reply(wire::Code code, Octets attributes, Ending ending);
  Next refuse(Ending ending) { return reply(wire::Code::access_reject, {}, std::move(ending)); }
  std::optional<Octets> edited_reply(wire::Code code, OctetView attributes);
  EditTools tools(HiddenValues& hidden) const;
  bool is_unreadable() const;

  const plan::Plan* plan_;
  const plan::Client* client_;
  bool accounting_;
  WallTime now_;
  Elsewhere* elsewhere_;
  wire::PacketView received_;
  HiddenValues hidden_;
  Random* random_;
  Telling* telling_;
  Octets octets_;  // of edited_
  std::optional<wire::PacketView> edited_;
  Way way_;
  const plan::User* user_ = nullptr;
  PersonPtr person_;
  std::uint64_t sessions_ = 0;
  ResumedPtr resumed_;
  // From the access rules on:
  std::string_view proven_;  // by which method; empty: the client vouches
  Admission admission_;
  Octets besides_;
  std::string place_;                 // that the user holds; empty: none
  std::vector<std::size_t> missing_;  // factors, in their order
  std::vector<std::string> proved_;
  std::size_t factor_ = 0;
};

/// A hop that a request goes to.
struct Hop {
  std::string_view group;
  std::string_view server;
};

/// A request as it goes to a server: under the name that the plan makes, after the edits before forwarding;
/// nothing if it goes as it is.
std::optional<Octets> before_forwarding(const Request& request, const Way& way, const Hop& to,
                                        const EditTools& tools);

}  // namespace jembatan::decide
