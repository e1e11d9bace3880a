#include "engine/conversations.h"

#include <algorithm>

namespace jembatan::engine {

void Conversations::put(const State& state, Conversation conversation, TimePoint now,
                        std::optional<TimePoint> until) {
  auto shard = shards_[state[15] % kShards].lock();
  end_expired(*shard, now);
  if (shard->by_end.size() >= most_each_) push_out(*shard);
  ++shard->of_client[conversation.client];
  const TimePoint ends = until.value_or(now + keep_);
  auto behind = shard->by_end.end();
  while (behind != shard->by_end.begin() && std::prev(behind)->until > ends) --behind;
  const auto held = shard->by_end.insert(behind, {state, std::move(conversation), ends});
  shard->by_state[state] = held;
  size_.fetch_add(1, std::memory_order_relaxed);
}

std::optional<Conversation> Conversations::take(OctetView state, std::string_view client, TimePoint now) {
  State wanted{};
  if (state.size() != wanted.size()) return std::nullopt;
  std::copy(state.begin(), state.end(), wanted.begin());
  auto shard = shards_[wanted[15] % kShards].lock();
  end_expired(*shard, now);
  const auto found = shard->by_state.find(wanted);
  if (found == shard->by_state.end() || found->second->conversation.client != client) return std::nullopt;
  std::optional<Conversation> out = std::move(found->second->conversation);
  found->second->conversation.client = client;  // by which end() counts
  end(*shard, found->second);
  return out;
}

void Conversations::end(Shard& shard, std::list<Held>::iterator held) {
  const auto count = shard.of_client.find(held->conversation.client);
  if (--count->second == 0) shard.of_client.erase(count);
  shard.by_state.erase(held->state);
  shard.by_end.erase(held);
  size_.fetch_sub(1, std::memory_order_relaxed);
}

void Conversations::end_expired(Shard& shard, TimePoint now) {
  while (!shard.by_end.empty() && shard.by_end.front().until <= now) end(shard, shard.by_end.begin());
}

void Conversations::push_out(Shard& shard) {
  const auto most = std::max_element(shard.of_client.begin(), shard.of_client.end(),
                                     [](const auto& a, const auto& b) { return a.second < b.second; });
  const auto oldest = std::find_if(shard.by_end.begin(), shard.by_end.end(),
                                   [&](const Held& held) { return held.conversation.client == most->first; });
  end(shard, oldest);
  pushed_out_.fetch_add(1, std::memory_order_relaxed);
}

}  // namespace jembatan::engine
