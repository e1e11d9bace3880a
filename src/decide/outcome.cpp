#include "decide/outcome.h"

#include <array>

namespace jembatan::decide {
namespace {

struct Row {
  std::string_view name;
  Weight weight;
  bool drop;
};

// In the order of Outcome.
constexpr std::array<Row, kOutcomes> kRows{{
    {"accepted", Weight::info, false},
    {"rejected", Weight::info, false},
    {"challenged", Weight::info, false},
    {"accounted", Weight::info, false},
    {"status-answered", Weight::debug, false},
    {"repeat-answered", Weight::debug, false},
    {"repeat-waiting", Weight::debug, false},
    {"superseded", Weight::info, true},
    {"no-answer", Weight::warning, true},
    {"ignored", Weight::info, true},
    {"not-recorded", Weight::error, true},
    {"unknown-client", Weight::warning, true},
    {"client-off", Weight::warning, true},
    {"wrong-listener", Weight::warning, true},
    {"over-limit", Weight::warning, true},
    {"malformed", Weight::warning, true},
    {"wrong-code", Weight::warning, true},
    {"unsigned-request", Weight::warning, true},
    {"wrong-signature", Weight::warning, true},
    {"overloaded", Weight::warning, true},
    {"reply-too-long", Weight::error, true},
    {"loop", Weight::warning, false},
    {"stopped", Weight::info, true},
    {"reply-used", Weight::debug, false},
    {"reply-unexpected", Weight::debug, true},
    {"reply-malformed", Weight::warning, true},
    {"reply-not-genuine", Weight::warning, true},
    {"mirror-differs", Weight::info, false},
    {"acknowledged", Weight::info, false},
    {"not-acknowledged", Weight::warning, false},
    {"replayed", Weight::warning, true},
}};

}  // namespace

std::string_view name_of(Outcome outcome) {
  return kRows[static_cast<std::size_t>(outcome)].name;
}
Weight weight_of(Outcome outcome) {
  return kRows[static_cast<std::size_t>(outcome)].weight;
}
bool is_drop(Outcome outcome) {
  return kRows[static_cast<std::size_t>(outcome)].drop;
}

}  // namespace jembatan::decide
