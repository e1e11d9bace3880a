#pragma once
// What every call of the API answers with, and reads from.
#include <nlohmann/json_fwd.hpp>

#include "admin/http.h"
#include "base/clock.h"
#include "base/result.h"
#include "document/problems.h"

namespace jembatan::admin {

/// As it is sent: octets that are no UTF-8 are replaced.
std::string json_text(const nlohmann::json& body);
void answer(Response& response, const nlohmann::json& body);
/// Problem details (RFC 9457).
void problem(Response& response, int status, std::string_view title, const std::string& detail);
/// The problem that an error makes: 404 not found, 403 not allowed, 409 conflict, 422 with the plan's
/// problems, 507 for the store.
void problem(Response& response, const Error& error, const document::Problems& problems = {});

/// One part of a query as a number, `absent` if it is not there; nothing, with a problem answered, if it is
/// none.
std::optional<std::uint64_t> number_in(const Request& request, Response& response, const char* key,
                                       std::uint64_t absent);
/// The most rows that are wanted: 100 unless `most` says otherwise.
std::optional<std::size_t> most_in(const Request& request, Response& response);

/// The body as a JSON object with no other keys than these; otherwise a problem is answered.
std::optional<nlohmann::json> read_body(const Request& request, Response& response,
                                        const std::vector<std::string>& allowed);
/// The time of a query's part, as parse_moment() reads it; nothing if there is none.
///   returns  false, with a problem answered, if it is not understood
bool moment_in(const Request& request, Response& response, const char* key, std::optional<WallTime>& out);
/// The text under a key; empty if it is not there.
///   errors  Errc::malformed: it is something else
Result<std::string> text_in(const nlohmann::json& body, const std::string& key);

}  // namespace jembatan::admin
