#pragma once
// The addresses of host names, as objects keep them: so a plan is the same one after a restart, and while
// nobody can look names up.
#include <string_view>

#include "document/value.h"
#include "plan/plan.h"

namespace jembatan::revision {

/// Writes the addresses that host names have in `plan` into an object's table: `resolved` of a client, and of
/// each server of a group. What has no host name loses it.
void note_resolved(std::string_view kind, document::Value& table, const plan::Plan& plan);

/// Takes the addresses out, so that they are looked up when the object is read.
void forget_resolved(std::string_view kind, document::Value& table);

}  // namespace jembatan::revision
