#include "support/second_encoder.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

namespace second {
namespace {

Bytes packet(int code, int id, const std::string& authenticator, const Attributes& attributes) {
  Bytes out;
  out.push_back(static_cast<unsigned char>(code));
  out.push_back(static_cast<unsigned char>(id));
  out.push_back(0);
  out.push_back(0);
  for (const char c : authenticator) out.push_back(static_cast<unsigned char>(c));
  for (const auto& [type, value] : attributes) {
    out.push_back(static_cast<unsigned char>(type));
    out.push_back(static_cast<unsigned char>(value.size() + 2));
    for (const char c : value) out.push_back(static_cast<unsigned char>(c));
  }
  out[2] = static_cast<unsigned char>(out.size() / 256);
  out[3] = static_cast<unsigned char>(out.size() % 256);
  return out;
}

Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes out;
  for (const Bytes& part : parts) out.insert(out.end(), part.begin(), part.end());
  return out;
}

Bytes bytes(const std::string& text) {
  return {text.begin(), text.end()};
}

std::string hidden(std::string password, const std::string& authenticator, const std::string& secret) {
  password.resize((password.size() + 15) / 16 * 16, '\0');
  std::string out;
  std::string previous = authenticator;
  for (std::size_t at = 0; at < password.size(); at += 16) {
    const Bytes key = md5(joined({bytes(secret), bytes(previous)}));
    std::string block;
    for (std::size_t i = 0; i < 16; ++i) block.push_back(static_cast<char>(password[at + i] ^ key[i]));
    out += block;
    previous = block;
  }
  return out;
}

}  // namespace

Bytes md5(const Bytes& in) {
  Bytes out(16);
  EVP_Digest(in.data(), in.size(), out.data(), nullptr, EVP_md5(), nullptr);
  return out;
}

Bytes hmac_md5(const std::string& key, const Bytes& in) {
  Bytes out(16);
  unsigned length = 16;
  HMAC(EVP_md5(), key.data(), static_cast<int>(key.size()), in.data(), in.size(), out.data(), &length);
  return out;
}

Bytes access_request(int code, int id, const std::string& authenticator16, const std::string& secret,
                     const std::string& password, const Attributes& attributes) {
  Attributes all = attributes;
  if (!password.empty()) all.emplace_back(2, hidden(password, authenticator16, secret));
  all.emplace_back(80, std::string(16, '\0'));  // last, where most devices put it
  Bytes out = packet(code, id, authenticator16, all);
  const Bytes signature = hmac_md5(secret, out);
  std::copy(signature.begin(), signature.end(), out.end() - 16);
  return out;
}

Bytes accounting_request(int id, const std::string& secret, const Attributes& attributes) {
  Bytes out = packet(4, id, std::string(16, '\0'), attributes);
  const Bytes digest = md5(joined({out, bytes(secret)}));
  std::copy(digest.begin(), digest.end(), out.begin() + 4);
  return out;
}

std::string wrong_with_reply(const Bytes& reply, const Bytes& request, const std::string& secret) {
  if (reply.size() < 20 || reply[2] * 256U + reply[3] != reply.size()) return "the length is wrong";
  if (reply[1] != request[1]) return "the identifier is another";
  Bytes check = reply;
  std::copy(request.begin() + 4, request.begin() + 20, check.begin() + 4);
  const Bytes digest = md5(joined({check, bytes(secret)}));
  if (!std::equal(digest.begin(), digest.end(), reply.begin() + 4))
    return "the Response Authenticator is wrong";
  if (request[0] == 4) return "";
  if (reply.size() < 38 || reply[20] != 80 || reply[21] != 18) return "Message-Authenticator is not first";
  std::fill(check.begin() + 22, check.begin() + 38, 0);
  const Bytes signature = hmac_md5(secret, check);
  return std::equal(signature.begin(), signature.end(), reply.begin() + 22)
             ? ""
             : "the Message-Authenticator is wrong";
}

std::string value_of(const Bytes& packet, int type) {
  for (std::size_t at = 20; at + 1 < packet.size() && packet[at + 1] >= 2; at += packet[at + 1]) {
    if (packet[at] != type) continue;
    return {packet.begin() + static_cast<long>(at) + 2,
            packet.begin() + static_cast<long>(at) + packet[at + 1]};
  }
  return "";
}

}  // namespace second
