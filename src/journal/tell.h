#pragma once
// The words for what the journal keeps.
#include "journal/pack.h"

namespace jembatan::journal {

/// The steps of a request's course, a line each.
///   source  where the request came from
std::vector<std::string> steps_of(const engine::Story& story, const IpAddress& source);

/// An entry as people read it, without its trail and packets.
Entry heading_of(const Record& record);

/// All of it. Where the steps cannot be told any more, the trail says why.
Entry entry_of(const Record& record, const PlanOf& plans);

/// True if the condition holds for the request that the event is about; false for events without a story.
bool holds_for(const condition::Condition& condition, const engine::Event& event);

}  // namespace jembatan::journal
