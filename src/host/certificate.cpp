#include "host/certificate.h"

#include <fmt/format.h>
#include <openssl/bio.h>
#include <openssl/pem.h>
#include <openssl/x509.h>

#include <ctime>
#include <memory>

#include "base/text.h"

namespace jembatan::host {
namespace {

using namespace std::chrono_literals;
using Days = std::chrono::duration<std::int64_t, std::ratio<24L * 3600>>;

constexpr Days kSoon{30};

}  // namespace

Result<WallTime> expiry_of(std::string_view pem) {
  const std::unique_ptr<BIO, decltype(&BIO_free)> text(
      BIO_new_mem_buf(pem.data(), static_cast<int>(pem.size())), &BIO_free);
  const std::unique_ptr<X509, decltype(&X509_free)> certificate(
      PEM_read_bio_X509(text.get(), nullptr, nullptr, nullptr), &X509_free);
  std::tm parts{};
  if (!certificate || ASN1_TIME_to_tm(X509_get0_notAfter(certificate.get()), &parts) != 1)
    return fail(Errc::malformed, "there is no certificate (PEM) in it");
  return std::chrono::system_clock::from_time_t(timegm(&parts));
}

std::string expiry_text(WallTime expiry, WallTime now) {
  const std::string day = second_text(expiry);
  if (expiry <= now) return fmt::format("it expired at {}", day);
  const auto left = std::chrono::floor<Days>(expiry - now);
  if (left >= kSoon) return "";
  return fmt::format("it expires at {}, in {} day{}", day, left.count(), left.count() == 1 ? "" : "s");
}

}  // namespace jembatan::host
