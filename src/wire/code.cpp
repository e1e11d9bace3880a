#include "wire/code.h"

namespace jembatan::wire {

std::string_view known_name_of(Code code) {
  switch (code) {
    case Code::access_request:
      return "Access-Request";
    case Code::access_accept:
      return "Access-Accept";
    case Code::access_reject:
      return "Access-Reject";
    case Code::accounting_request:
      return "Accounting-Request";
    case Code::accounting_response:
      return "Accounting-Response";
    case Code::access_challenge:
      return "Access-Challenge";
    case Code::status_server:
      return "Status-Server";
    case Code::disconnect_request:
      return "Disconnect-Request";
    case Code::disconnect_ack:
      return "Disconnect-ACK";
    case Code::disconnect_nak:
      return "Disconnect-NAK";
    case Code::coa_request:
      return "CoA-Request";
    case Code::coa_ack:
      return "CoA-ACK";
    case Code::coa_nak:
      return "CoA-NAK";
  }
  return {};
}

std::string name_of(Code code) {
  const std::string_view known = known_name_of(code);
  return known.empty() ? "code " + std::to_string(static_cast<int>(code)) : std::string(known);
}

bool is_digested(Code code) {
  return code == Code::accounting_request || code == Code::coa_request || code == Code::disconnect_request;
}

bool is_reply(Code code) {
  switch (code) {
    case Code::access_accept:
    case Code::access_reject:
    case Code::accounting_response:
    case Code::access_challenge:
    case Code::disconnect_ack:
    case Code::disconnect_nak:
    case Code::coa_ack:
    case Code::coa_nak:
      return true;
    default:
      return false;
  }
}

}  // namespace jembatan::wire
