#include "decide/course.h"

#include <fmt/format.h>

#include <algorithm>

#include "decide/packet_edit.h"
#include "decide/reasons.h"
#include "decide/rehide.h"
#include "identity/device.h"
#include "identity/methods.h"
#include "wire/builder.h"
#include "wire/eap.h"
#include "wire/hidden.h"

namespace jembatan::decide {

using plan::EditPoint;
using plan::Handling;
using wire::AttributeType;
using wire::Code;
using wire::PacketView;

namespace {

Outcome outcome_of(Code code) {
  if (code == Code::access_accept) return Outcome::accepted;
  return code == Code::access_challenge ? Outcome::challenged : Outcome::rejected;
}

bool has_edits(const plan::Plan& plan, EditPoint point) {
  return plan.has_edits[static_cast<std::size_t>(point)];
}

// The realm that led there, or the route that did.
Ending ending_of(Outcome outcome, const Way& way) {
  if (way.route != nullptr) return {outcome, way.because, way.route->name, Ending::About::rule};
  return {outcome, way.because, way.realm, Ending::About::realm};
}

// What is barred for somebody who is shut out.
identity::Barred barred_by(std::string_view because, const Person* person) {
  if (because == kNotFromHere) return identity::Barred::from_there;
  const bool old = person != nullptr && (person->account == Person::Account::password_expired ||
                                         person->account == Person::Account::must_change);
  return old ? identity::Barred::password : identity::Barred::account;
}

}  // namespace

Course::Course(const Request& received, const HiddenValues& hidden, Random& random, Telling* telling)
    : plan_(&received.plan),
      client_(&received.client),
      accounting_(received.accounting),
      now_(received.now),
      elsewhere_(received.elsewhere),
      received_(received.packet),
      hidden_(hidden),
      random_(&random),
      telling_(telling) {}

Next Course::begin() {
  edit_received();
  Trail trail;
  way_ = find_way(request(), telling_ == nullptr ? nullptr : &trail);
  if (telling_ != nullptr) telling_->way(request(), way_, trail);
  return decide();
}

void Course::edit_received() {
  if (!has_edits(*plan_, EditPoint::received)) return;
  way_ = identify(request());
  const auto subject = find_subject(*plan_, way_.full_name);
  auto edited = apply_edits(*plan_, EditPoint::received,
                            facts_of(request(), way_, subject ? &*subject : nullptr), tools(hidden_));
  if (!edited) return;
  octets_ = std::move(*edited);
  edited_ = *PacketView::parse(octets_);
}

Next Course::decide() {
  const Handling handling = way_.destination.handling;
  if (handling == Handling::ignore && (!accounting_ || way_.route != nullptr))
    return {Next::What::drop, {}, {}, ending_of(Outcome::ignored, way_)};
  if (accounting_) return {Next::What::record};
  if (!way_.credential.problem.empty())
    return refuse({Outcome::rejected, kContradiction, way_.credential.problem});
  if (handling == Handling::here) return prove();
  if (handling == Handling::forward) return {Next::What::ask};
  Octets message = reply_message(way_.route == nullptr ? "" : way_.route->message);
  if (telling_ != nullptr && !message.empty()) telling_->reply(*plan_, message, "route", way_.route->name);
  return reply(Code::access_reject, std::move(message), ending_of(Outcome::rejected, way_));
}

// The method comes first: of one that is not answered here, the user does not matter.
Next Course::prove() {
  if (resumed_) return go_on();
  const std::string_view method = way_.credential.method;
  const bool proves = method != "none";
  if (proves && !identity::answered_here(method)) {
    if (telling_ != nullptr) telling_->method(method);
    return refuse({Outcome::rejected, kNotAnswered, std::string(method)});
  }
  user_ = plan_->user_named(way_.full_name);
  if (user_ == nullptr && directory() != nullptr) return look_up();
  return proves ? Next{Next::What::prove} : admit_unproved();
}

Next Course::look_up() {
  const std::string_view method = way_.credential.method;
  if (method == "none" || identity::can_prove(plan::form_of(directory()->passwords), method))
    return {Next::What::look_up};
  if (telling_ != nullptr) telling_->method(method);
  return refuse({Outcome::rejected, kNotByDirectory, fmt::format("'{}', {}", directory()->name, method)});
}

Next Course::on(PersonPtr person) {
  if (this->directory() == nullptr) return prove();  // of a journal that was kept by another plan
  const plan::Directory& directory = *this->directory();
  person_ = std::move(person);
  if (telling_ != nullptr) telling_->person(directory, way_, *person_);
  if (person_->found == Person::Found::no_answer) {
    Ending ending{Outcome::rejected, kDirectorySilent, fmt::format("'{}': {}", directory.name, person_->why)};
    if (directory.silent_refuses) return refuse(std::move(ending));
    ending.outcome = Outcome::no_answer;
    return on(Failure{std::move(ending)});
  }
  return way_.credential.method == "none" ? admit_unproved() : Next{Next::What::prove};
}

// What was proved before the code was asked for holds; the rules decide anew.
Next Course::go_on() {
  if (resumed_->user != way_.full_name) return refuse({Outcome::rejected, kOfAnotherUser, resumed_->user});
  user_ = plan_->user_named(way_.full_name);
  if (user_ == nullptr && directory() != nullptr) person_ = resumed_->person;
  proved_ = resumed_->factors;
  if (telling_ != nullptr) telling_->resumed(*resumed_);
  if (resumed_->proven.empty()) return admit_unproved();
  const auto known = subject();
  if (!known) return refuse({Outcome::rejected, identity::kNoUser});
  const auto because = why_shut_out(*known, request());
  return because.empty() ? admit(resumed_->proven, {}) : refuse({Outcome::rejected, because});
}

// Who signs in, as far as it is known.
std::optional<Subject> Course::subject() const {
  if (user_ != nullptr) return subject_of(*user_);
  if (is_in_directory()) return subject_of(*person_, *directory(), way_.full_name);
  return person_ ? std::nullopt : find_subject(*plan_, way_.full_name);
}

// Whoever is not known here, and the client vouches for, has a name alone.
Subject Course::signed_in() const {
  const auto known = subject();
  Subject out = known ? *known : Subject{};
  if (!known) out.name = way_.full_name;
  out.proven = proven_;
  out.sessions = sessions_;
  return out;
}

Next Course::admit_unproved() {
  if (telling_ != nullptr) telling_->nothing_proved(*plan_, way_, is_known());
  const auto known = subject();
  const auto because = known ? why_shut_out(*known, request()) : std::string_view();
  return because.empty() ? admit({}, {}) : refuse({Outcome::rejected, because});
}

// Whoever knows the password may be told why it does not help.
Next Course::on(Proof proof) {
  if (!is_known() && proof.right) proof = {false, identity::kNoUser};
  if (telling_ != nullptr) {
    telling_->proof(*plan_, way_, user_ != nullptr || person_ != nullptr,
                    proof.right ? "" : with_detail(proof.because, proof.detail));
  }
  if (!proof.right) {
    return reply(Code::access_reject, std::move(proof.besides),
                 {Outcome::rejected, proof.because, std::move(proof.detail)});
  }
  const auto because = why_shut_out(*subject(), request());
  if (because.empty()) return admit(proof.by.empty() ? way_.credential.method : proof.by, proof.besides);
  return reply(Code::access_reject,
               identity::challenge_refusal(packet(), barred_by(because, person()), *random_),
               {Outcome::rejected, because});
}

Next Course::on(Challenge challenge) {
  leave();
  if (challenge.because.empty()) challenge.because = "another round is asked for";
  return reply(Code::access_challenge, std::move(challenge.attributes),
               {Outcome::challenged, challenge.because, std::move(challenge.detail)});
}

// `besides`: what the method adds to an Access-Accept. Who proved the password may still not be let in: the
// access rules say.
Next Course::admit(std::string_view proven, OctetView besides) {
  proven_ = proven;
  Subject subject = signed_in();
  Trail trail;
  admission_ = admitted(subject, telling_ == nullptr ? nullptr : &trail);
  const condition::Facts facts = facts_of(request(), way_, &subject);
  if (telling_ != nullptr) telling_->rules(*plan_, facts, trail);
  besides_.assign(besides.begin(), besides.end());
  find_factors(facts);
  return next_factor();
}

// Those that the rule asks for, unless it says that it does not here, and that are not proved yet.
void Course::find_factors(const condition::Facts& facts) {
  missing_.clear();
  const plan::AccessRule* rule = admission_.rule;
  if (!admission_.permit || rule == nullptr || rule->factors.empty()) return;
  if (rule->factors_unless && rule->factors_unless->holds(facts)) {
    if (telling_ != nullptr) telling_->say("second factors: not asked for, 'factors_unless' holds");
    return;
  }
  for (const std::size_t factor : rule->factors) {
    if (std::find(proved_.begin(), proved_.end(), plan_->factors[factor].name) == proved_.end())
      missing_.push_back(factor);
  }
}

Next Course::next_factor() {
  if (missing_.empty()) return let_in();
  factor_ = missing_.front();
  missing_.erase(missing_.begin());
  return {Next::What::factor};
}

Resumed Course::so_far() const {
  return {way_.full_name, std::string(proven_), person_, proved_, plan_->factors[factor_].name};
}

Next Course::on(FactorProof proof) {
  if (telling_ != nullptr) telling_->factor(proof);
  if (proof.right) {
    proved_.push_back(std::move(proof.factor));
    return next_factor();
  }
  leave();
  const std::string what = proof.detail.empty() ? "" : ": " + proof.detail;
  return refuse({Outcome::rejected, proof.because, fmt::format("'{}'{}", proof.factor, what)});
}

Next Course::let_in() {
  const Admission& admission = admission_;
  const Subject subject = signed_in();
  const condition::Facts facts = facts_of(request(), way_, &subject);
  const Code code = admission.permit ? Code::access_accept : Code::access_reject;
  std::vector<ReplyPart> parts;
  Octets attributes =
      compose_reply(*plan_, facts, {admission.permit ? &subject : nullptr, admission.rule, code},
                    {hidden_, telling_ == nullptr ? nullptr : &parts});
  if (telling_ != nullptr) telling_->reply(*plan_, parts);
  if (telling_ != nullptr && admission.permit) telling_->missing_vlan(*plan_, attributes);
  if (admission.permit) append(attributes, besides_);
  Ending ending{admission.permit ? Outcome::accepted : Outcome::rejected, admission.because,
                detail_of(admission, facts.method, now_)};
  if (admission.rule != nullptr && ending.detail == admission.rule->name) ending.about = Ending::About::rule;
  return reply(code, std::move(attributes), std::move(ending));
}

// Who proved the password holds the place while the rules decide: of two who come at once, the second sees
// the first. Who proved nothing holds none: anybody could take another's.
Admission Course::admitted(Subject& subject, Trail* trail) {
  const Request asked = request();
  if (!plan_->asks_sessions || elsewhere_ == nullptr) return decide::admit(asked, way_, subject, trail);
  std::string place =
      identity::place_of(identity::station_of(asked.packet), identity::device_of(asked.packet, client_->name),
                         identity::port_of(asked.packet));
  const bool holds = subject.is_proven();
  subject.sessions =
      holds ? elsewhere_->enter(way_.full_name, place, now_) : elsewhere_->count(way_.full_name, place, now_);
  sessions_ = subject.sessions;
  Admission out = decide::admit(asked, way_, subject, trail);
  if (holds) place_ = std::move(place);
  if (!out.permit) leave();
  return out;
}

void Course::leave() {
  if (elsewhere_ != nullptr && !place_.empty()) elsewhere_->leave(way_.full_name, place_);
  place_.clear();
}

Next Course::on(const Kept& kept) {
  Ending ending{Outcome::accounted, "a resend: this record is kept already", kept.status};
  if (kept.record != 0) ending.detail += fmt::format(", record {}", kept.record);
  if (!kept.again) {
    ending.because = "record taken";
    ending.detail += "; " + accounting_text(*plan_, way_.accounting);
  }
  return reply(Code::accounting_response, {}, std::move(ending));
}

Next Course::on(const Answer& answer) {
  const plan::Group& group = plan_->groups[way_.destination.group];
  PacketView theirs = answer.reply;
  std::optional<Octets> changed;
  if (has_edits(*plan_, EditPoint::answered)) {
    condition::Facts seen = facts();
    seen.packet = &theirs;
    seen.code = wire::known_name_of(theirs.code());
    seen.server = answer.server->entry;
    HiddenValues hidden(answer.with, *random_);
    changed = apply_edits(*plan_, EditPoint::answered, seen, tools(hidden));
    if (changed) theirs = *PacketView::parse(*changed);
  }
  const Code code = theirs.code();
  wire::PacketBuilder ours(code, 0, {});
  Status built;
  for (const wire::Attribute attribute : theirs.attributes()) {
    // Both belong to one hop; the client's own Proxy-State attributes come back with the reply.
    const bool of_the_hop = attribute.type == AttributeType::message_authenticator ||
                            attribute.type == AttributeType::proxy_state;
    if (!built || of_the_hop || !hidden_.with()) continue;
    built = Rehiding{*plan_->catalogue, answer.with, *hidden_.with()}.copy(theirs, attribute, ours);
  }
  if (!built) return on(Failure{{Outcome::reply_too_long, kTooLong, built.error().text}});
  const bool unreadable = code == Code::access_reject && is_unreadable();
  const OctetView attributes = OctetView(ours.finish()).subspan(wire::kHeader);
  return reply(code, {attributes.begin(), attributes.end()},
               {outcome_of(code), unreadable ? kSentOnUnreadable : kServersAnswer, "", Ending::About::text,
                group.name + "/" + answer.server->name});
}

// What went on to a server that can only say that the password is wrong.
bool Course::is_unreadable() const {
  const auto hidden = packet().find(AttributeType::user_password);
  if (!hidden || is_signed()) return false;
  auto typed = hidden_.open(dictionary::Hiding::user_password, hidden->value);
  if (!typed) return false;
  const bool out = wire::looks_unreadable(*typed);
  wipe(*typed);
  return out;
}

Next Course::on(Silence silence) {
  const plan::WhenSilent then = plan_->groups[way_.destination.group].when_silent;
  if (then == plan::WhenSilent::here) {
    if (telling_ != nullptr)
      telling_->say(fmt::format("{} ({}): handled here (when_silent)", kNoAnswer, silence.why));
    return prove();
  }
  Ending ending{Outcome::no_answer, kNoAnswer, std::move(silence.why)};
  if (then == plan::WhenSilent::ignore) return on(Failure{std::move(ending)});
  ending.outcome = Outcome::rejected;
  return refuse(std::move(ending));
}

Next Course::on(Refusal refusal) {
  return refuse(std::move(refusal.ending));
}

Next Course::on(Failure failure) {
  return {Next::What::drop, {}, {}, std::move(failure.ending)};
}

std::optional<Octets> Course::to_send(std::size_t group, const plan::Server& server) {
  return before_forwarding(request(), way_, {plan_->groups[group].name, server.entry}, tools(hidden_));
}

Next Course::reply(Code code, Octets attributes, Ending ending) {
  if (code == Code::access_reject && !wire::has_attribute(attributes, AttributeType::eap_message))
    append(attributes, wire::eap_failure(packet()));
  if (auto edited = edited_reply(code, attributes)) attributes = std::move(*edited);
  return {Next::What::reply, code, std::move(attributes), std::move(ending)};
}

std::optional<Octets> Course::edited_reply(Code code, OctetView attributes) {
  if (!has_edits(*plan_, EditPoint::replying)) return std::nullopt;
  wire::PacketBuilder packet(code, received_.identifier(), received_.authenticator());
  if (!packet.add_encoded(attributes)) return std::nullopt;
  const PacketView plain = *PacketView::parse(packet.finish());
  condition::Facts seen = facts();
  seen.packet = &plain;
  seen.code = wire::known_name_of(code);
  const auto edited = apply_edits(*plan_, EditPoint::replying, seen, tools(hidden_));
  if (!edited) return std::nullopt;
  return Octets(edited->begin() + wire::kHeader, edited->end());
}

condition::Facts Course::facts() const {
  const auto known = subject();
  condition::Facts out = facts_of(request(), way_, known ? &*known : nullptr);
  if (way_.destination.handling == Handling::forward) out.group = plan_->groups[way_.destination.group].name;
  return out;
}

EditTools Course::tools(HiddenValues& hidden) const {
  return {hidden, telling_ == nullptr ? nullptr : &telling_->lines};
}

std::optional<Octets> before_forwarding(const Request& request, const Way& way, const Hop& to,
                                        const EditTools& tools) {
  const plan::Plan& plan = request.plan;
  auto renamed = with_user_name(request.packet, way.name_to_send, *plan.catalogue);
  if (!has_edits(plan, EditPoint::forwarding)) return renamed;
  const PacketView named = renamed ? *PacketView::parse(*renamed) : request.packet;
  const auto subject = find_subject(plan, way.full_name);
  condition::Facts facts = facts_of(request, way, subject ? &*subject : nullptr);
  facts.packet = &named;
  facts.group = to.group;
  facts.server = to.server;
  auto changed = apply_edits(plan, EditPoint::forwarding, facts, tools);
  return changed ? std::move(changed) : std::move(renamed);
}

}  // namespace jembatan::decide
