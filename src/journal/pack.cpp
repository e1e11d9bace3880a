#include "journal/pack.h"

#include <algorithm>

#include "base/compact.h"
#include "journal/scrub.h"
#include "wire/packet_digest.h"

namespace jembatan::journal {

using engine::Event;
using engine::Given;
using engine::Story;
using std::chrono::microseconds;

namespace {

constexpr std::size_t kMostSeen = 4096;  // texts that a block remembers
constexpr std::uint64_t kNewText = 0;
constexpr std::uint64_t kMostOutcome = engine::kOutcomes - 1;

// Times that a clock can have; anything else would leave its range.
microseconds read_time(CompactReader& in) {
  constexpr std::uint64_t kYear = 365ULL * 24 * 3600 * 1000000;
  const std::uint64_t out = in.number();
  if (out > kYear) in.fail();
  return microseconds(in.ok() ? out : 0);
}

// In front of each is its place in Given's variant; only of a challenge that says why, this.
constexpr std::uint64_t kChallengeWithReason = 10;

std::uint64_t kind_of(const Given& given) {
  const auto* challenge = std::get_if<decide::Challenge>(&given.what);
  return challenge != nullptr && !challenge->because.empty() ? kChallengeWithReason : given.what.index();
}

class GivenWriter {
 public:
  GivenWriter(CompactWriter& out, const Story& story, Octets& packet)
      : out_(out), story_(story), packet_(packet) {}

  void operator()(const Given::Asked& asked) {
    out_.text(server(asked.server));
    out_.number(asked.again ? 1 : 0);
    out_.number(asked.leg);
  }
  void operator()(const Given::Answered& answered) {
    out_.text(server(answered.server));
    packet_.clear();
    add_without_secrets(*wire::PacketView::parse(answered.packet), *story_.live->plan->catalogue, packet_);
    out_.octets(packet_);
  }
  void operator()(const Given::Compared& compared) {
    const decide::Proof& proof = compared.proof;
    out_.number((compared.waited ? 2U : 0U) | (proof.right ? 1U : 0U));
    out_.text(proof.because);
    out_.text(proof.detail);
    out_.text(proof.by);
    attributes(proof.besides);
  }
  void operator()(const decide::Challenge& challenge) {
    attributes(challenge.attributes);
    if (challenge.because.empty()) return;
    out_.text(challenge.because);
    out_.text(challenge.detail);
  }
  void operator()(const decide::FactorProof& proof) {
    out_.text(proof.factor);
    out_.number(proof.right ? 1 : 0);
    out_.text(proof.because);
    out_.text(proof.detail);
  }
  void operator()(const decide::ResumedPtr& given) {
    const decide::Resumed& resumed = *given;
    out_.text(resumed.user);
    out_.text(resumed.proven);
    out_.text(resumed.asked);
    out_.number(resumed.tries);
    out_.number(resumed.factors.size());
    for (const std::string& factor : resumed.factors) out_.text(factor);
    out_.number(resumed.person ? 1 : 0);
    if (resumed.person) (*this)(resumed.person);
  }
  void operator()(const decide::Kept& kept) {
    out_.number(static_cast<std::uint64_t>(kept.record) << 1U | (kept.again ? 1U : 0U));
    out_.text(kept.status);
  }
  void operator()(const decide::Silence& silence) { out_.text(silence.why); }
  void operator()(const decide::Refusal& refusal) {
    out_.number(static_cast<std::uint64_t>(refusal.ending.outcome));
    out_.text(refusal.ending.because);
    out_.text(refusal.ending.detail);
  }
  void operator()(const decide::PersonPtr& given) {
    const decide::Person& person = *given;
    out_.number(static_cast<std::uint64_t>(person.found));
    out_.number(static_cast<std::uint64_t>(person.password));
    out_.number(static_cast<std::uint64_t>(person.account));
    out_.text(person.why);
    out_.text(person.server);
    out_.text(person.name);
    out_.number(person.groups.size());
    for (const std::string& group : person.groups) out_.text(group);
    out_.number(person.attributes.size());
    for (const auto& [name, value] : person.attributes) {
      out_.text(name);
      out_.text(value);
    }
  }

 private:
  std::string_view server(std::uint16_t place) const {
    return story_.live->plan->groups[story_.group].servers[place].name;
  }
  void attributes(OctetView encoded) {
    packet_.clear();
    add_without_secrets(encoded, *story_.live->plan->catalogue, packet_);
    out_.octets(packet_);
  }

  CompactWriter& out_;
  const Story& story_;
  Octets& packet_;
};

class GivenReader {
 public:
  GivenReader(CompactReader& in, const plan::Group* group) : in_(in), group_(group) {}

  // Nothing if it is of no known kind.
  std::optional<Given> read() {
    const microseconds after = read_time(in_);
    switch (in_.number()) {
      case 0: {
        const std::uint16_t place = server();
        const bool again = in_.number() != 0;
        return Given{after, Given::Asked{place, again, in_.number()}};
      }
      case 1: {
        const std::uint16_t place = server();
        return Given{after, Given::Answered{place, copy(in_.octets()), {}}};
      }
      case 2:
        return Given{after, compared()};
      case 3:
        return Given{after, decide::Challenge{copy(in_.octets())}};
      case 4: {
        const std::uint64_t record = in_.number();
        return Given{after, decide::Kept{(record & 1U) != 0, std::string(in_.text()),
                                         static_cast<std::int64_t>(record >> 1U)}};
      }
      case 5:
        return Given{after, decide::Silence{std::string(in_.text())}};
      case 6:
        return Given{after, refusal()};
      case 7:
        return Given{after, std::make_shared<const decide::Person>(person())};
      case 8:
        return Given{after, factor_proof()};
      case 9:
        return Given{after, std::make_shared<const decide::Resumed>(resumed())};
      case kChallengeWithReason: {
        decide::Challenge out{copy(in_.octets())};
        out.because = in_.text();
        out.detail = in_.text();
        return Given{after, std::move(out)};
      }
      default:
        in_.fail();
        return std::nullopt;
    }
  }
  // A server that the plan does not have; empty: there was none.
  const std::string& missing() const { return missing_; }

 private:
  static Octets copy(OctetView octets) { return {octets.begin(), octets.end()}; }

  std::uint16_t server() {
    const std::string_view name = in_.text();
    if (group_ != nullptr) {
      const auto found = std::find_if(group_->servers.begin(), group_->servers.end(),
                                      [&](const plan::Server& server) { return server.name == name; });
      if (found != group_->servers.end()) return static_cast<std::uint16_t>(found - group_->servers.begin());
    }
    missing_ = name;
    return 0;
  }
  Given::Compared compared() {
    Given::Compared out;
    const std::uint64_t flags = in_.number();
    out.waited = (flags & 2U) != 0;
    out.proof.right = (flags & 1U) != 0;
    out.proof.because = in_.text();
    out.proof.detail = in_.text();
    out.proof.by = in_.text();
    out.proof.besides = copy(in_.octets());
    return out;
  }
  decide::Refusal refusal() {
    const auto outcome = static_cast<engine::Outcome>(std::min(in_.number(), kMostOutcome));
    const std::string_view because = in_.text();
    return {{outcome, because, std::string(in_.text())}};
  }

  decide::FactorProof factor_proof() {
    decide::FactorProof out;
    out.factor = in_.text();
    out.right = in_.number() != 0;
    out.because = in_.text();
    out.detail = in_.text();
    return out;
  }
  decide::Resumed resumed() {
    decide::Resumed out;
    out.user = in_.text();
    out.proven = in_.text();
    out.asked = in_.text();
    out.tries = static_cast<unsigned>(in_.number());
    for (std::uint64_t left = in_.number(); left > 0 && in_.ok(); --left)
      out.factors.emplace_back(in_.text());
    if (in_.number() != 0) out.person = std::make_shared<const decide::Person>(person());
    return out;
  }

  // One of the first `most` of an enumeration.
  template <class Kind>
  Kind kind(std::uint64_t most) {
    const std::uint64_t out = in_.number();
    if (out >= most) in_.fail();
    return static_cast<Kind>(out < most ? out : 0);
  }
  decide::Person person() {
    using decide::Person;
    Person out;
    out.found = kind<Person::Found>(4);
    out.password = kind<Person::Password>(3);
    out.account = kind<Person::Account>(decide::kAccounts);
    out.why = in_.text();
    out.server = in_.text();
    out.name = in_.text();
    for (std::uint64_t left = in_.number(); left > 0 && in_.ok(); --left) out.groups.emplace_back(in_.text());
    for (std::uint64_t left = in_.number(); left > 0 && in_.ok(); --left) {
      std::string name(in_.text());
      out.attributes[std::move(name)] = in_.text();
    }
    return out;
  }

  CompactReader& in_;
  const plan::Group* group_;
  std::string missing_;
};

bool is_packet(OctetView octets) {
  return wire::PacketView::parse(octets).has_value();
}

bool are_attributes(OctetView octets) {
  while (octets.size() >= wire::kAttributeHeader && octets[1] >= wire::kAttributeHeader &&
         octets[1] <= octets.size())
    octets = octets.subspan(octets[1]);
  return octets.empty();
}

bool is_whole(const Given& given) {
  if (const auto* answered = std::get_if<Given::Answered>(&given.what)) return is_packet(answered->packet);
  if (const auto* compared = std::get_if<Given::Compared>(&given.what))
    return are_attributes(compared->proof.besides);
  const auto* challenge = std::get_if<decide::Challenge>(&given.what);
  return challenge == nullptr || are_attributes(challenge->attributes);
}

bool is_whole(const Story& story) {
  return is_packet(story.request) && (story.reply.empty() || is_packet(story.reply)) &&
         std::all_of(story.given.begin(), story.given.end(),
                     [](const Given& given) { return is_whole(given); });
}

class RecordReader {
 public:
  explicit RecordReader(OctetView entries) : in_(entries) {}

  bool at_end() const { return in_.at_end(); }
  bool ok() const { return in_.ok(); }

  Record read() {
    Record out;
    out.number = number_ += in_.number();
    out.at = at_ = in_.moment(at_);
    out.outcome = static_cast<engine::Outcome>(in_.number());
    out.code = static_cast<wire::Code>(in_.number());
    out.source = endpoint();
    out.client = repeated();
    out.realm = repeated();
    out.server = repeated();
    out.reason = repeated();
    out.mend = repeated();
    out.user = in_.text();
    out.name = in_.number() == 0 ? out.user : in_.text();
    out.took = read_time(in_);
    out.revision = in_.number();
    out.leg = in_.number();
    out.story = in_.octets();
    if (static_cast<std::uint64_t>(out.outcome) > kMostOutcome) in_.fail();
    return out;
  }

 private:
  Endpoint endpoint() {
    Endpoint out;
    const OctetView address = in_.octets();
    if (address.size() == 4) {
      out.address = IpAddress::from_v4(address.data());
    } else if (address.size() == 16) {
      out.address = IpAddress::from_v6(address.data());
    } else {
      in_.fail();
    }
    out.port = static_cast<std::uint16_t>(in_.number());
    return out;
  }
  std::string_view repeated() {
    const std::uint64_t place = in_.number();
    if (place == kNewText) {
      const std::string_view out = in_.text();
      if (seen_.size() < kMostSeen) seen_.push_back(out);
      return out;
    }
    if (place <= seen_.size()) return seen_[place - 1];
    in_.fail();
    return {};
  }

  CompactReader in_;
  std::uint64_t number_ = 0;
  WallTime at_{};
  std::vector<std::string_view> seen_;
};

}  // namespace

void Packing::add(const Event& event, std::string_view words) {
  Block& block = block_;
  const WallTime at = std::chrono::floor<Duration>(event.at);
  const bool first = block.entries.empty();
  if (first) {
    block.first = event.number;
    block.entries.reserve(kFull + kFull / 8);
  }
  block.from = first ? at : std::min(block.from, at);
  block.until = first ? at : std::max(block.until, at);

  CompactWriter out(block.entries);
  out.number(event.number - block.last);
  out.moment(at, last_at_);
  block.last = event.number;
  last_at_ = at;
  out.number(static_cast<std::uint64_t>(event.outcome));
  out.number(static_cast<std::uint64_t>(event.code));
  out.octets(event.source.address.view());
  out.number(event.source.port);
  repeated(event.client, last_texts_.client);
  repeated(event.realm, last_texts_.realm);
  repeated(event.server, last_texts_.server);
  if (event.detail.empty()) {
    repeated(event.because, last_texts_.reason);
  } else {
    reason_ = engine::reason_text(event);
    repeated(reason_, last_texts_.reason);
  }
  repeated(event.mend, last_texts_.mend);
  out.text(event.user);
  const bool same = event.name.empty() || event.name == event.user;
  out.number(same ? 0 : 1);
  if (!same) out.text(event.name);
  out.number(static_cast<std::uint64_t>(event.took.count()));
  out.number(event.story == nullptr ? 0 : event.story->live->revision);
  out.number(event.story == nullptr ? 0 : wire::leg_of(*wire::PacketView::parse(event.story->request)));
  story_.clear();
  if (event.story != nullptr) story(*event.story, at, words);
  out.octets(story_);
}

// The first time as it is, then by its place among those of the block.
void Packing::repeated(std::string_view text, Repeated& last) {
  CompactWriter out(block_.entries);
  if (last.place != 0 && text == last.text) return out.number(last.place);
  auto found = seen_.find(text);
  if (found != seen_.end()) {
    out.number(found->second);
  } else {
    out.number(kNewText);
    out.text(text);
    if (seen_.size() == kMostSeen) return;
    found = seen_.emplace(text, seen_.size() + 1).first;
  }
  last = {found->first, found->second};
}

void Packing::story(const Story& story, WallTime at, std::string_view words) {
  const plan::Plan& plan = *story.live->plan;
  CompactWriter out(story_);
  const auto packet = [&](const Octets& octets) {
    packet_.clear();
    if (!octets.empty()) add_without_secrets(*wire::PacketView::parse(octets), *plan.catalogue, packet_);
    out.octets(packet_);
  };
  out.moment(story.arrived, at);
  out.number(static_cast<std::uint64_t>(story.which_secret));
  out.text(story.group < plan.groups.size() ? std::string_view(plan.groups[story.group].name) : "");
  packet(story.request);
  packet(story.reply);
  out.text(words);
  GivenWriter writer(out, story, packet_);
  for (const Given& given : story.given) {
    out.number(static_cast<std::uint64_t>(std::max<std::int64_t>(given.after.count(), 0)));
    out.number(kind_of(given));
    std::visit(writer, given.what);
  }
}

Block Packing::take() {
  last_texts_ = {};
  seen_.clear();
  last_at_ = {};
  return std::exchange(block_, {});
}

Result<std::vector<Record>> records_in(const Block& block) {
  std::vector<Record> out;
  RecordReader reader(block.entries);
  while (!reader.at_end()) {
    out.push_back(reader.read());
    if (!reader.ok())
      return fail(Errc::malformed,
                  "the journal's entries from number " + std::to_string(block.first) + " on cannot be read");
  }
  return out;
}

Result<KeptStory> story_of(const Record& record, const plan::PlanPtr& plan) {
  auto live = std::make_shared<forward::LivePlan>();
  live->plan = plan;
  live->revision = record.revision;
  KeptStory out;
  Story& story = out.story;
  story.live = std::move(live);
  story.client = plan->client_named(record.client);
  if (story.client == nullptr)
    return fail(Errc::not_found, "the plan has no client '" + std::string(record.client) + "'");
  CompactReader in(record.story);
  story.arrived = in.moment(record.at);
  story.which_secret = in.number() == 0 ? plan::WhichSecret::current : plan::WhichSecret::old;
  const std::string_view name = in.text();
  const auto group = std::find_if(plan->groups.begin(), plan->groups.end(),
                                  [&](const plan::Group& one) { return one.name == name; });
  if (group != plan->groups.end()) story.group = static_cast<std::size_t>(group - plan->groups.begin());
  const auto copy = [](OctetView octets) { return Octets(octets.begin(), octets.end()); };
  story.request = copy(in.octets());
  story.reply = copy(in.octets());
  out.words = in.text();
  GivenReader reader(in, group == plan->groups.end() ? nullptr : &*group);
  while (!in.at_end()) {
    if (auto given = reader.read()) story.given.push_back(std::move(*given));
  }
  if (!in.ok() || !is_whole(story)) return fail(Errc::malformed, "what is kept of it cannot be read");
  if (!reader.missing().empty())
    return fail(Errc::not_found, "the plan has no server '" + reader.missing() + "' any more");
  return out;
}

}  // namespace jembatan::journal
