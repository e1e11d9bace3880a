#include "journal/again.h"

#include <fmt/format.h>

namespace jembatan::journal {

using decide::Next;
using engine::Given;

namespace {

decide::Request request_of(const engine::Story& story, const wire::PacketView& packet,
                           decide::Elsewhere& elsewhere) {
  return {*story.live->plan, packet,    *story.client, packet.code() == wire::Code::accounting_request,
          story.arrived,     &elsewhere};
}

}  // namespace

std::string after_text(std::chrono::microseconds time) {
  if (time < std::chrono::microseconds(50)) return "at once";
  return fmt::format("after {:.1f} ms", static_cast<double>(time.count()) / 1000);
}

Again::Again(const engine::Story& story, decide::Telling* telling)
    : story_(story),
      packet_(*wire::PacketView::parse(story.request)),
      telling_(telling),
      elsewhere_(story.sessions),
      course_(request_of(story, packet_, elsewhere_),
              {{story.client->secret_of(story.which_secret), packet_.authenticator()}, random_}, random_,
              telling) {}

Next Again::run() {
  for (const Given& given : story_.given) {
    if (const auto* resumed = std::get_if<decide::ResumedPtr>(&given.what)) course_.resume(*resumed);
  }
  Next next = course_.begin();
  for (const Given& given : story_.given) {
    if (std::holds_alternative<decide::ResumedPtr>(given.what)) continue;
    // Asking is no result: what comes next is the answer.
    if (const auto* asked = std::get_if<Given::Asked>(&given.what)) {
      if (!asked->again) (void)course_.to_send(story_.group, server(asked->server));
      say(given, fmt::format("asked {}{}", name_of(asked->server), asked->again ? " again" : ""));
    } else {
      next = on(given);
    }
  }
  return next;
}

Next Again::on(const Given& given) {
  if (const auto* answered = std::get_if<Given::Answered>(&given.what)) {
    const plan::Server& theirs = server(answered->server);
    say(given, name_of(answered->server) + " answered");
    return course_.on(decide::Answer{
        *wire::PacketView::parse(answered->packet), {theirs.secret, answered->request}, &theirs});
  }
  if (const auto* compared = std::get_if<Given::Compared>(&given.what)) {
    if (compared->waited) say(given, "the password was compared");
    return course_.on(compared->proof);
  }
  if (const auto* challenge = std::get_if<decide::Challenge>(&given.what)) return course_.on(*challenge);
  if (const auto* kept = std::get_if<decide::Kept>(&given.what)) return course_.on(*kept);
  if (const auto* silence = std::get_if<decide::Silence>(&given.what)) return course_.on(*silence);
  if (const auto* person = std::get_if<decide::PersonPtr>(&given.what)) {
    say(given, "the directory was asked");
    return course_.on(*person);
  }
  if (const auto* factor = std::get_if<decide::FactorProof>(&given.what)) return course_.on(*factor);
  return course_.on(std::get<decide::Refusal>(given.what));
}

const plan::Server& Again::server(std::uint16_t place) const {
  return story_.live->plan->groups[story_.group].servers[place];
}

std::string Again::name_of(std::uint16_t place) const {
  return story_.live->plan->groups[story_.group].name + "/" + server(place).name;
}

void Again::say(const Given& given, const std::string& what) {
  if (telling_ != nullptr) telling_->say(after_text(given.after) + ": " + what);
}

}  // namespace jembatan::journal
