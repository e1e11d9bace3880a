#include "cli/qr.h"

#include <png.h>
#include <qrencode.h>

#include <memory>

namespace jembatan::cli {
namespace {

constexpr std::size_t kMargin = 4;  // modules (ISO/IEC 18004 §9.1)

// A module, counted from the margin's corner.
bool is_dark(const QrCode& code, std::size_t x, std::size_t y) {
  return x >= kMargin && y >= kMargin && code.at(x - kMargin, y - kMargin);
}

}  // namespace

Result<QrCode> qr_code(const Secret& text) {
  const std::string copy(text_of(text.reveal()));
  const std::unique_ptr<QRcode, void (*)(QRcode*)> made(
      QRcode_encodeString8bit(copy.c_str(), 0, QR_ECLEVEL_L), &QRcode_free);
  if (!made) return fail(Errc::too_long, "the text does not fit into a QR code");
  QrCode out;
  out.width = static_cast<std::size_t>(made->width);
  for (std::size_t i = 0; i < out.width * out.width; ++i) out.dark.push_back((made->data[i] & 1U) != 0);
  return out;
}

std::vector<std::string> qr_lines(const QrCode& code) {
  static constexpr const char* kHalves[] = {"█", "▀", "▄", " "};  // light is filled
  std::vector<std::string> out;
  const std::size_t size = code.width + 2 * kMargin;
  for (std::size_t y = 0; y < size; y += 2) {
    std::string& line = out.emplace_back();
    for (std::size_t x = 0; x < size; ++x) {
      const bool upper = is_dark(code, x, y);
      const bool lower = is_dark(code, x, y + 1);
      line += kHalves[(upper ? 2U : 0U) | (lower ? 1U : 0U)];
    }
  }
  return out;
}

Result<std::string> qr_png(const QrCode& code, unsigned pixels) {
  const std::size_t size = (code.width + 2 * kMargin) * pixels;
  std::vector<png_byte> grey(size * size);
  for (std::size_t y = 0; y < size; ++y)
    for (std::size_t x = 0; x < size; ++x)
      grey[y * size + x] = is_dark(code, x / pixels, y / pixels) ? 0 : 255;
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.width = image.height = static_cast<png_uint_32>(size);
  image.format = PNG_FORMAT_GRAY;
  png_alloc_size_t octets = 0;
  if (png_image_write_to_memory(&image, nullptr, &octets, 0, grey.data(), 0, nullptr) == 0)
    return fail(Errc::io, image.message);
  std::string out(octets, '\0');
  if (png_image_write_to_memory(&image, out.data(), &octets, 0, grey.data(), 0, nullptr) == 0)
    return fail(Errc::io, image.message);
  out.resize(octets);
  return out;
}

}  // namespace jembatan::cli
