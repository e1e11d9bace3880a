#pragma once
// A value or an Error; has the interface of std::expected (C++23), so that it can be replaced by it.
#include <string>
#include <string_view>
#include <utility>
#include <variant>

namespace jembatan {

/// What kind of thing went wrong because of others: packets, files, peers, people. The list is closed.
enum class Errc {
  malformed,    ///< octets or text that do not follow their format
  too_long,     ///< more than the format or a limit allows
  too_short,    ///< less than the format allows
  not_found,    ///< a name or file that does not exist
  not_allowed,  ///< forbidden by rights or policy
  conflict,     ///< exists already, or contradicts something that does
  unreachable,  ///< nobody answers at an address
  not_genuine,  ///< an authenticator does not verify
  io,           ///< the operating system or the database refused
  busy,         ///< a bound was reached; try again later
};

struct Error {
  Errc code = Errc::malformed;
  std::string text;  ///< where, what was found, what is allowed; never a secret

  /// The same error with the place in front, added on the way out: "PLACE: TEXT".
  [[nodiscard]] Error at(std::string_view place) const { return {code, std::string(place) + ": " + text}; }
};

template <class T>
class [[nodiscard]] Result {
 public:
  Result(T value) : held_(std::move(value)) {}      // NOLINT(google-explicit-constructor)
  Result(Error error) : held_(std::move(error)) {}  // NOLINT(google-explicit-constructor)
  bool has_value() const { return held_.index() == 0; }
  explicit operator bool() const { return has_value(); }
  T& operator*() & { return *std::get_if<0>(&held_); }
  const T& operator*() const& { return *std::get_if<0>(&held_); }
  T&& operator*() && { return std::move(*std::get_if<0>(&held_)); }
  T* operator->() { return std::get_if<0>(&held_); }
  const T* operator->() const { return std::get_if<0>(&held_); }
  const Error& error() const { return *std::get_if<1>(&held_); }

 private:
  std::variant<T, Error> held_;
};

template <>
class [[nodiscard]] Result<void> {
 public:
  Result() = default;
  Result(Error error) : error_(std::move(error)), ok_(false) {}  // NOLINT(google-explicit-constructor)
  bool has_value() const { return ok_; }
  explicit operator bool() const { return ok_; }
  const Error& error() const { return error_; }

 private:
  Error error_;
  bool ok_ = true;
};

using Status = Result<void>;

inline Error fail(Errc code, std::string text) {
  return Error{code, std::move(text)};
}

}  // namespace jembatan
