#include "kestrum/mail/message.h"

#include <date/date.h>
#include <fmt/format.h>

#include <algorithm>

#include "kestrum/base/base64.h"
#include "kestrum/base/error.h"
#include "kestrum/base/json.h"
#include "kestrum/base/uuid.h"

namespace kestrum {
namespace {

// Bytes of a text in one encoded word, whose length may be 75.
constexpr std::size_t kWordBytes = 39;
constexpr std::size_t kPlainLimit = 200;  // so that no line of a header is too long

}  // namespace

std::string MailMessage::to_json() const {
  return Json{{"to", to},     {"subject", subject},     {"text", text}, {"html", html},
              {"page", page}, {"page_name", page_name}, {"made", made}, {"id", id}}
      .dump(-1, ' ', false, Json::error_handler_t::replace);
}

MailMessage MailMessage::parse(std::string_view json, const std::string& what) {
  Json parsed = parse_json(json, what);
  MailMessage message;
  for (const Json& address : json_member(parsed, "to", what)) {
    if (!address.is_string()) throw Error(ErrorKind::kDamage, what + ": to: not a text");
    message.to.push_back(address.get<std::string>());
  }
  message.subject = json_string(parsed, "subject", what);
  message.text = json_string(parsed, "text", what);
  message.html = json_string(parsed, "html", what);
  message.page = json_string(parsed, "page", what);
  message.page_name = json_string(parsed, "page_name", what);
  message.made = json_int(parsed, "made", what);
  message.id = json_string(parsed, "id", what);
  return message;
}

std::string new_message_id(const std::string& host) {
  std::string name;
  for (char c : host) {
    bool plain =
        (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-';
    name += plain ? c : '-';
  }
  return make_uuid() + "@" + (name.empty() ? "localhost" : name) + ".kestrum.invalid";
}

std::string header_text(const std::string& text) {
  std::string line;
  for (char c : text) line += static_cast<unsigned char>(c) < 0x20 || c == 0x7f ? ' ' : c;
  bool plain = line.size() <= kPlainLimit && line.find("=?") == std::string::npos &&
               std::all_of(line.begin(), line.end(), [](char c) { return (c & 0x80) == 0; });
  if (plain) return line;
  std::string words;
  for (std::size_t at = 0; at < line.size();) {
    std::size_t end = std::min(line.size(), at + kWordBytes);
    while (end < line.size() && end > at + 1 && (line[end] & 0xc0) == 0x80)
      --end;  // whole characters
    words += (words.empty() ? "" : "\r\n ") +
             fmt::format("=?UTF-8?B?{}?=", base64_encode(line.substr(at, end - at)));
    at = end;
  }
  return words;
}

std::string header_date(Nanos time) {
  date::sys_seconds seconds{std::chrono::seconds(time / kSecond)};
  return date::format("%a, %d %b %Y %T +0000", seconds);
}

}  // namespace kestrum
