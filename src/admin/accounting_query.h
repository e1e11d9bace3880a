#pragma once
// What the calls about accounting are asked with.
#include <initializer_list>
#include <optional>

#include "accounting/store.h"
#include "admin/asked.h"

namespace jembatan::admin {

/// The request's query; nothing, with a problem answered, if a part of it is not understood.
///   others  parts that the call reads itself
std::optional<accounting::Query> accounting_query(const Asked& asked,
                                                  std::initializer_list<std::string_view> others = {});

/// A label of a client, as the plan in force says it; empty if it has none.
std::string label_of(const plan::Plan& plan, const std::string& client, std::string_view label);

}  // namespace jembatan::admin
