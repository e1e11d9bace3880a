#pragma once
// How a request that waits goes on. For the sources of Engine alone.
#include "engine/engine.h"

namespace jembatan::engine {

template <class Step>
void Engine::resume(Ticket ticket, const Turn& turn, Step step) {
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) return;
  const wire::PacketView packet = *wire::PacketView::parse(pending->octets);
  const Datagram in{pending->listener, pending->from, pending->to, pending->octets};
  step(Request{packet, in, pending->live, *pending->client, pending->which_secret, pending->repeat,
               pending->arrived, turn, &*pending->course, &pending->given, &pending->conversation, ticket});
  if (pending_.get(ticket) == nullptr) return;  // it waits again, under another
  pending->live.reset();
  pending->course.reset();
  pending->given.clear();
  pending->stored = {};
  pending->conversation.reset();
  pending_.release(ticket);
}

template <class What>
void Engine::give(const Request& request, What what) {
  carry_on(request, request.course->on(std::move(what)));
}

template <class What>
void Engine::note_and_give(const Request& request, What what) {
  request.given->push_back({request.age(), what});
  give(request, std::move(what));
}

}  // namespace jembatan::engine
