#include <fmt/format.h>
#include <hpdf.h>
#include <utf8proc.h>

#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/report/sheet.h"

namespace kestrum {
namespace {

constexpr double kPointsAMillimetre = 72 / 25.4;
constexpr double kGrey = 0.12;  // of words and lines

// In WinAnsiEncoding, of which only the part that it shares with Unicode is used.
std::string western(const std::string& text) {
  std::string out;
  const auto* at = reinterpret_cast<const utf8proc_uint8_t*>(text.data());
  for (utf8proc_ssize_t left = static_cast<utf8proc_ssize_t>(text.size()); left > 0;) {
    utf8proc_int32_t code = 0;
    utf8proc_ssize_t length = utf8proc_iterate(at, left, &code);
    bool known = length > 0 && ((code >= 0x20 && code < 0x7f) || (code >= 0xa0 && code <= 0xff));
    out += known ? static_cast<char>(code) : '?';
    length = std::max<utf8proc_ssize_t>(length, 1);
    at += length;
    left -= length;
  }
  return out;
}

// After an error the library does nothing more; what it was is asked for at the end.
class PdfPage {
 public:
  explicit PdfPage(const Sheet& sheet)
      : sheet_(sheet), document_(HPDF_New(nullptr, nullptr), HPDF_Free) {
    if (!document_) throw Error(ErrorKind::kFailed, "a PDF file cannot be made: no memory");
    HPDF_SetCompressionMode(document_.get(), HPDF_COMP_ALL);
    HPDF_SetInfoAttr(document_.get(), HPDF_INFO_TITLE, western(sheet.title).c_str());
    page_ = HPDF_AddPage(document_.get());
    HPDF_Page_SetWidth(page_, points(sheet.width));
    HPDF_Page_SetHeight(page_, points(sheet.height));
  }

  std::string draw() {
    for (const Sheet::Words& words : sheet_.words) put(words);
    HPDF_Page_SetGrayStroke(page_, kGrey);
    HPDF_Page_SetLineWidth(page_, points(0.2));
    for (const Sheet::Line& line : sheet_.lines) {
      HPDF_Page_MoveTo(page_, points(line.x), up(line.y));
      HPDF_Page_LineTo(page_, points(line.to_x), up(line.y));
      HPDF_Page_Stroke(page_);
    }
    HPDF_Page_SetGrayFill(page_, 0);
    for (const Sheet::Box& box : sheet_.boxes) {
      HPDF_Page_Rectangle(page_, points(box.x), up(box.y + box.height), points(box.width),
                          points(box.height));
    }
    if (!sheet_.boxes.empty()) HPDF_Page_Fill(page_);
    return bytes();
  }

 private:
  static HPDF_REAL points(double millimetres) {
    return static_cast<HPDF_REAL>(millimetres * kPointsAMillimetre);
  }
  HPDF_REAL up(double y) const { return points(sheet_.height - y); }

  void put(const Sheet::Words& words) {
    const char* name = words.style == Sheet::Style::kPlain  ? "Helvetica"
                       : words.style == Sheet::Style::kBold ? "Helvetica-Bold"
                                                            : "Courier";
    HPDF_Font font = HPDF_GetFont(document_.get(), name, "WinAnsiEncoding");
    HPDF_Page_SetGrayFill(page_, kGrey);
    HPDF_Page_SetFontAndSize(page_, font, points(words.size));
    HPDF_Page_BeginText(page_);
    HPDF_Page_TextOut(page_, points(words.x), up(words.y), western(words.text).c_str());
    HPDF_Page_EndText(page_);
  }

  std::string bytes() {
    HPDF_SaveToStream(document_.get());
    if (HPDF_STATUS status = HPDF_GetError(document_.get()); status != HPDF_OK) {
      throw Error(ErrorKind::kFailed, fmt::format("a PDF file cannot be made: libharu says {:#x}",
                                                  static_cast<unsigned long>(status)));
    }
    std::string bytes(HPDF_GetStreamSize(document_.get()), '\0');
    auto size = static_cast<HPDF_UINT32>(bytes.size());
    HPDF_ReadFromStream(document_.get(), reinterpret_cast<HPDF_BYTE*>(bytes.data()), &size);
    if (size != bytes.size()) throw Error(ErrorKind::kFailed, "a PDF file was cut short");
    return bytes;
  }

  const Sheet& sheet_;
  std::unique_ptr<std::remove_pointer_t<HPDF_Doc>, void (*)(HPDF_Doc)> document_;
  HPDF_Page page_ = nullptr;
};

}  // namespace

std::string sheet_pdf(const Sheet& sheet) {
  return PdfPage(sheet).draw();
}

}  // namespace kestrum
