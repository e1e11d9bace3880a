#pragma once
// A second, independent way to write and check packets: it shares no code with the server, so that a mistake
// in one is not hidden by the same mistake in the other. Written from RFC 2865, 2866 and 3579; digests from
// OpenSSL.
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace second {

using Bytes = std::vector<unsigned char>;
using Attributes = std::vector<std::pair<int, std::string>>;

Bytes md5(const Bytes& in);
Bytes hmac_md5(const std::string& key, const Bytes& in);

/// Access-Request (1) or Status-Server (12), signed; `password` empty: none.
Bytes access_request(int code, int id, const std::string& authenticator16, const std::string& secret,
                     const std::string& password, const Attributes& attributes);
/// Accounting-Request (4).
Bytes accounting_request(int id, const std::string& secret, const Attributes& attributes);

/// Checks Response Authenticator and, for access, that Message-Authenticator comes first and is right.
///   returns  an empty text, or what is wrong
std::string wrong_with_reply(const Bytes& reply, const Bytes& request, const std::string& secret);

/// The first value of an attribute, "" if there is none.
std::string value_of(const Bytes& packet, int type);

}  // namespace second
