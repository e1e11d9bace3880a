#pragma once
#include "plan/model.h"

namespace jembatan::plan {

/// A client that takes Disconnect- and CoA-Requests (RFC 5176), as a group that is asked: the first server is
/// the client by its secret, the second, while that is rotated, the client by its old one.
Group device_of(const Client& client);

}  // namespace jembatan::plan
