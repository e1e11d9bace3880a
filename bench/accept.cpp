// A server that lets everybody in, and acknowledges all accounting, as cheaply as a genuine answer can be
// made: what a hop is measured with.
//   jembatan_accept PORT
#include <algorithm>

#include "serve.h"
#include "wire/authenticator.h"
#include "wire/builder.h"

int main(int argc, char** argv) {
  using namespace jembatan;
  if (argc != 2) return 2;
  const wire::SharedSecret secret(Secret("bench-secret-of-32-characters-ok"));
  return bench::serve(argv[1], [&](std::span<std::uint8_t> room, std::size_t size) -> std::size_t {
    const auto asked = wire::PacketView::parse(room.first(size));
    if (!asked) return 0;
    const bool accounting = asked->code() == wire::Code::accounting_request;
    if (accounting && !wire::verify_digested_request(*asked, secret)) return 0;
    wire::PacketBuilder reply(accounting ? wire::Code::accounting_response : wire::Code::access_accept,
                              asked->identifier(), asked->authenticator());
    if (!accounting) {
      (void)reply.add_message_authenticator();
      (void)reply.add(wire::AttributeType::reply_message, std::string_view("Welcome aboard."));
    }
    for (const wire::Attribute one : asked->attributes()) {
      if (one.type == wire::AttributeType::proxy_state) (void)reply.add(one.type, one.value);
    }
    const OctetSpan octets = reply.finish();
    wire::sign_response(octets, asked->authenticator(), secret);
    std::copy(octets.begin(), octets.end(), room.begin());
    return octets.size();
  });
}
