#include "engine/origins.h"

#include "base/text_hash.h"

namespace jembatan::engine {

Origins::Key Origins::key_of(std::string_view client, OctetView state) const {
  const std::string_view text(reinterpret_cast<const char*>(state.data()), state.size());
  return mixed_number(mixed_number(seed_ ^ stable_number(client)) ^ stable_number(text));
}

void Origins::began(std::string_view client, OctetView state, const Endpoint& server, TimePoint now) {
  const Key key = key_of(client, state);
  auto shard = shards_[key % kShards].lock();
  while (!shard->by_age.empty() &&
         (shard->by_age.front().first <= now || shard->by_age.size() >= most_each_)) {
    const auto [until, oldest] = shard->by_age.front();
    shard->by_age.pop_front();
    const auto held = shard->by_key.find(oldest);
    if (held != shard->by_key.end() && held->second.until == until) shard->by_key.erase(held);
  }
  shard->by_key[key] = {server, now + keep_};
  shard->by_age.emplace_back(now + keep_, key);
}

std::optional<Endpoint> Origins::of(std::string_view client, OctetView state, TimePoint now) const {
  const Key key = key_of(client, state);
  auto shard = shards_[key % kShards].lock();
  const auto found = shard->by_key.find(key);
  if (found == shard->by_key.end() || found->second.until <= now) return std::nullopt;
  return found->second.server;
}

std::size_t Origins::size() const {
  std::size_t out = 0;
  for (auto& shard : shards_) out += shard.lock()->by_key.size();
  return out;
}

}  // namespace jembatan::engine
