#include "kestrum/mail/smtp.h"

#include <curl/curl.h>

#include <memory>

#include "kestrum/base/error.h"
#include "kestrum/base/text.h"
#include "kestrum/crypto/password_file.h"

namespace kestrum {
namespace {

using Curl = std::unique_ptr<CURL, decltype(&curl_easy_cleanup)>;
using MailLines = std::unique_ptr<curl_slist, decltype(&curl_slist_free_all)>;
using Mime = std::unique_ptr<curl_mime, decltype(&curl_mime_free)>;

void add_line(MailLines& lines, const std::string& line) {
  lines.reset(curl_slist_append(lines.release(), line.c_str()));
}

curl_mimepart* add_part(curl_mime* mime, const std::string& content, const char* type) {
  curl_mimepart* part = curl_mime_addpart(mime);
  curl_mime_data(part, content.data(), content.size());
  curl_mime_type(part, type);
  curl_mime_encoder(part, "base64");
  return part;
}

// Text and HTML as alternatives, and a page beside them if there is one.
Mime body_of(CURL* curl, const MailMessage& message) {
  Mime whole(curl_mime_init(curl), curl_mime_free);
  curl_mime* alternatives = whole.get();
  if (!message.page.empty()) {
    alternatives = curl_mime_init(curl);
    curl_mimepart* part = curl_mime_addpart(whole.get());
    curl_mime_subparts(part, alternatives);  // which owns it from now on
    curl_mime_type(part, "multipart/alternative");
  }
  add_part(alternatives, message.text, "text/plain; charset=utf-8");
  add_part(alternatives, message.html, "text/html; charset=utf-8");
  if (!message.page.empty()) {
    curl_mimepart* page = add_part(whole.get(), message.page, "text/html; charset=utf-8");
    curl_mime_filename(page, message.page_name.c_str());
  }
  return whole;
}

// A connection to the server, as far as it is the same for all that is done with it. Throws
// Error(kFailed) if there can be none.
Curl connection_to(const MailSettings& settings, Nanos limit, char* problem) {
  static const bool kReady = curl_global_init(CURL_GLOBAL_DEFAULT) == CURLE_OK;
  Curl curl(kReady ? curl_easy_init() : nullptr, curl_easy_cleanup);
  if (!curl) throw Error(ErrorKind::kFailed, "no client for mail can be had");
  long milliseconds = static_cast<long>(limit / (kSecond / 1000));
  if (milliseconds <= 0) throw Error(ErrorKind::kFailed, "no time was left");
  CURL* c = curl.get();
  curl_easy_setopt(c, CURLOPT_ERRORBUFFER, problem);
  curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L);
  curl_easy_setopt(c, CURLOPT_TIMEOUT_MS, milliseconds);
  curl_easy_setopt(c, CURLOPT_CONNECTTIMEOUT_MS, milliseconds);
  // Mail goes where the settings say: not by what the environment says of proxies.
  curl_easy_setopt(c, CURLOPT_PROXY, "");
  curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR, "smtp,smtps");
  // What the path of the URL would say is the name that this PC greets with.
  std::string url = settings.server;
  if (url.back() != '/') url += '/';
  curl_easy_setopt(c, CURLOPT_URL, (url + "kestrum.invalid").c_str());
  curl_easy_setopt(c, CURLOPT_USE_SSL, settings.tls ? CURLUSESSL_ALL : CURLUSESSL_NONE);
  if (!settings.ca.empty()) curl_easy_setopt(c, CURLOPT_CAINFO, settings.ca.c_str());
  if (!settings.user.empty()) {
    Secret password = read_password(settings.password_from);
    curl_easy_setopt(c, CURLOPT_USERNAME, settings.user.c_str());
    curl_easy_setopt(c, CURLOPT_PASSWORD, std::string(password.text()).c_str());
  }
  return curl;
}

std::string why_failed(CURLcode code, const char* problem) {
  if (code == CURLE_OPERATION_TIMEDOUT) return "the server does not answer in time";
  return printable(problem[0] != '\0' ? problem : curl_easy_strerror(code));
}

}  // namespace

SendResult send_mail(const MailSettings& settings, const MailMessage& message, Nanos limit) {
  char problem[CURL_ERROR_SIZE] = "";
  Curl curl(nullptr, curl_easy_cleanup);
  try {
    curl = connection_to(settings, limit, problem);
  } catch (const Error& error) {
    return {false, false, error.message()};
  }
  CURL* c = curl.get();
  MailLines recipients(nullptr, curl_slist_free_all), headers(nullptr, curl_slist_free_all);
  std::string to;
  for (const std::string& address : message.to) {
    add_line(recipients, "<" + address + ">");
    to += (to.empty() ? "" : ", ") + address;
  }
  curl_easy_setopt(c, CURLOPT_MAIL_FROM, ("<" + settings.from + ">").c_str());
  curl_easy_setopt(c, CURLOPT_MAIL_RCPT, recipients.get());
  add_line(headers, "From: Kestrum <" + settings.from + ">");
  add_line(headers, "To: " + to);
  add_line(headers, "Subject: " + header_text(message.subject));
  add_line(headers, "Date: " + header_date(message.made));
  add_line(headers, "Message-ID: <" + message.id + ">");
  add_line(headers, "Auto-Submitted: auto-generated");  // RFC 3834: nobody answers by machine
  curl_easy_setopt(c, CURLOPT_HTTPHEADER, headers.get());
  Mime body = body_of(c, message);
  if (message.page.empty()) {
    // The body as a whole is of this kind then.
    add_line(headers, "Content-Type: multipart/alternative");
    curl_easy_setopt(c, CURLOPT_HTTPHEADER, headers.get());
  }
  curl_easy_setopt(c, CURLOPT_MIMEPOST, body.get());
  CURLcode code = curl_easy_perform(c);
  if (code == CURLE_OK) return {true, false, ""};
  long answer = 0;
  curl_easy_getinfo(c, CURLINFO_RESPONSE_CODE, &answer);
  bool refused = answer >= 500 && code != CURLE_LOGIN_DENIED && code != CURLE_USE_SSL_FAILED;
  return {false, refused, why_failed(code, problem)};
}

std::string why_no_server(const MailSettings& settings, Nanos limit) {
  char problem[CURL_ERROR_SIZE] = "";
  try {
    Curl curl = connection_to(settings, limit, problem);
    curl_easy_setopt(curl.get(), CURLOPT_CONNECT_ONLY, 1L);
    CURLcode code = curl_easy_perform(curl.get());
    return code == CURLE_OK ? "" : why_failed(code, problem);
  } catch (const Error& error) {
    return error.message();
  }
}

}  // namespace kestrum
