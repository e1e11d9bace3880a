#include "cli/error_cause.h"

#include <fmt/format.h>

#include <map>

namespace jembatan::cli {

std::string error_cause_text(std::optional<std::uint32_t> cause) {
  static const std::map<std::uint32_t, std::string_view> kCauses{
      {401, "Unsupported-Attribute: it does not do what one of the attributes asks for"},
      {402, "Missing-Attribute: it wants more to know the session by, or Event-Timestamp"},
      {403, "NAS-Identification-Mismatch: the NAS attributes are not its own"},
      {404, "Invalid-Request: an attribute does not belong here"},
      {405, "Unsupported-Service: not with this Service-Type"},
      {406, "Unsupported-Extension: it does not know this kind of request"},
      {407, "Invalid-Attribute-Value"},
      {501, "Administratively-Prohibited: it was told not to do that, or not for whom asked"},
      {502, "Request-Not-Routable: a proxy knows no way to the device"},
      {503, "Session-Context-Not-Found: it has no session of these attributes"},
      {504, "Session-Context-Not-Removable: it cannot end this session"},
      {505, "Other-Proxy-Processing-Error: a proxy could not go on"},
      {506, "Resources-Unavailable: it has no room for that now"},
      {507, "Request-Initiated: it asks for a new sign-in first"},
      {508, "Multiple-Session-Selection-Unsupported: the attributes fit several sessions"}};
  if (!cause) return "it does not say why (no Error-Cause)";
  const auto known = kCauses.find(*cause);
  return known == kCauses.end() ? fmt::format("Error-Cause {}", *cause)
                                : fmt::format("{} {}", *cause, known->second);
}

bool is_of_proxies(std::uint32_t cause) {
  return cause == 502 || cause == 505;
}

}  // namespace jembatan::cli
