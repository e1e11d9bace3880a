#pragma once
#include "engine/actions.h"
#include "journal/entry.h"

namespace jembatan::journal {

/// What the journal keeps of an event; its trail is made here, from the event's story.
Entry entry_of(const engine::Event& event);

/// True if the condition holds for the request that the event is about; false for events without a story.
bool holds_for(const condition::Condition& condition, const engine::Event& event);

}  // namespace jembatan::journal
