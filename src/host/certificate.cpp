#include "host/certificate.h"

#include <fmt/format.h>
#include <openssl/bio.h>
#include <openssl/pem.h>
#include <openssl/x509.h>
#include <openssl/x509v3.h>

#include <ctime>
#include <memory>

#include "base/ip.h"
#include "base/text.h"

namespace jembatan::host {
namespace {

using namespace std::chrono_literals;
using Days = std::chrono::duration<std::int64_t, std::ratio<24L * 3600>>;

constexpr Days kSoon{30};

using Held = std::unique_ptr<X509, decltype(&X509_free)>;

std::optional<WallTime> end_of(const X509* certificate) {
  std::tm parts{};
  if (certificate == nullptr || ASN1_TIME_to_tm(X509_get0_notAfter(certificate), &parts) != 1)
    return std::nullopt;
  return std::chrono::system_clock::from_time_t(timegm(&parts));
}

std::string text_of(const X509_NAME* name) {
  const std::unique_ptr<BIO, decltype(&BIO_free)> out(BIO_new(BIO_s_mem()), &BIO_free);
  X509_NAME_print_ex(out.get(), name, 0, XN_FLAG_RFC2253);
  char* text = nullptr;
  const auto size = BIO_get_mem_data(out.get(), &text);
  return escaped(std::string_view(text, static_cast<std::size_t>(size)));
}

std::string text_of(const GENERAL_NAME& name) {
  if (name.type == GEN_DNS)
    return escaped(std::string_view(reinterpret_cast<const char*>(ASN1_STRING_get0_data(name.d.dNSName)),
                                    static_cast<std::size_t>(ASN1_STRING_length(name.d.dNSName))));
  if (name.type != GEN_IPADD) return {};
  const std::uint8_t* octets = ASN1_STRING_get0_data(name.d.iPAddress);
  const int size = ASN1_STRING_length(name.d.iPAddress);
  if (size == 4) return IpAddress::from_v4(octets).text();
  return size == 16 ? IpAddress::from_v6(octets).text() : "";
}

}  // namespace

Result<Certificate> certificate_in(OctetView der) {
  const std::uint8_t* at = der.data();
  const Held certificate(d2i_X509(nullptr, &at, static_cast<long>(der.size())), &X509_free);
  const auto end = end_of(certificate.get());
  if (!end) return fail(Errc::malformed, "it is no certificate");
  Certificate out;
  out.expires = *end;
  out.issuer = text_of(X509_get_issuer_name(certificate.get()));
  const std::unique_ptr<GENERAL_NAMES, decltype(&GENERAL_NAMES_free)> names(
      static_cast<GENERAL_NAMES*>(
          X509_get_ext_d2i(certificate.get(), NID_subject_alt_name, nullptr, nullptr)),
      &GENERAL_NAMES_free);
  for (int i = 0; names && i < sk_GENERAL_NAME_num(names.get()); ++i) {
    std::string name = text_of(*sk_GENERAL_NAME_value(names.get(), i));
    if (!name.empty()) out.names.push_back(std::move(name));
  }
  return out;
}

std::string text_of(const Certificate& certificate) {
  return fmt::format("certificate of {}, signed by {}, until {}",
                     certificate.names.empty() ? "no name" : join(certificate.names, ", "),
                     certificate.issuer, second_text(certificate.expires).substr(0, 10));
}

Result<WallTime> expiry_of(std::string_view pem) {
  const std::unique_ptr<BIO, decltype(&BIO_free)> text(
      BIO_new_mem_buf(pem.data(), static_cast<int>(pem.size())), &BIO_free);
  const Held certificate(PEM_read_bio_X509(text.get(), nullptr, nullptr, nullptr), &X509_free);
  const auto end = end_of(certificate.get());
  if (!end) return fail(Errc::malformed, "there is no certificate (PEM) in it");
  return *end;
}

std::string expiry_text(WallTime expiry, WallTime now) {
  const std::string day = second_text(expiry);
  if (expiry <= now) return fmt::format("it expired at {}", day);
  const auto left = std::chrono::floor<Days>(expiry - now);
  if (left >= kSoon) return "";
  return fmt::format("it expires at {}, in {} day{}", day, left.count(), left.count() == 1 ? "" : "s");
}

}  // namespace jembatan::host
