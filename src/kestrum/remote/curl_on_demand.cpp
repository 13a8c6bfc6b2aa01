// Stands for libcurl where the program is linked, and loads it at the first call: only WebDAV, FTPS
// and mail need it, and it brings forty libraries along.
#include <curl/curl.h>

#include <cstdarg>

#include "kestrum/remote/on_demand.h"

// A macro of the header in front of its own functions.
#undef curl_easy_setopt
#undef curl_easy_getinfo

namespace {

// As its headers are: the ABI since 2006.
constexpr kestrum::LibraryOnDemand kCurl = {
    "libcurl.so.4", "servers of WebDAV, FTPS and mail are spoken to", "libcurl4"};

}  // namespace

#define KESTRUM_CURL(name) KESTRUM_ON_DEMAND(kCurl, name)

extern "C" {

CURLcode curl_global_init(long flags) {
  return KESTRUM_CURL(curl_global_init)(flags);
}

CURL* curl_easy_init() {
  return KESTRUM_CURL(curl_easy_init)();
}

// Under other names here: what comes before "..." is an enumeration in the header, which C++ does
// not allow in that place.
CURLcode kestrum_curl_setopt(CURL* handle, int option, ...) __asm__("curl_easy_setopt");
CURLcode kestrum_curl_getinfo(CURL* handle, int info, ...) __asm__("curl_easy_getinfo");

// Each option takes one value: a number of 64 bits, or what is as long as a pointer.
CURLcode kestrum_curl_setopt(CURL* handle, int option, ...) {
  va_list values;
  va_start(values, option);
  auto call = [&](auto value) {
    return KESTRUM_CURL(curl_easy_setopt)(handle, static_cast<CURLoption>(option), value);
  };
  CURLcode code = option >= CURLOPTTYPE_OFF_T && option < CURLOPTTYPE_BLOB
                      ? call(va_arg(values, curl_off_t))
                  : option < CURLOPTTYPE_OBJECTPOINT ? call(va_arg(values, long))
                                                     : call(va_arg(values, void*));
  va_end(values);
  return code;
}

CURLcode kestrum_curl_getinfo(CURL* handle, int info, ...) {
  va_list values;
  va_start(values, info);
  auto* where = va_arg(values, void*);
  va_end(values);
  return KESTRUM_CURL(curl_easy_getinfo)(handle, static_cast<CURLINFO>(info), where);
}

CURLcode curl_easy_perform(CURL* handle) {
  return KESTRUM_CURL(curl_easy_perform)(handle);
}

void curl_easy_reset(CURL* handle) {
  KESTRUM_CURL(curl_easy_reset)(handle);
}

void curl_easy_cleanup(CURL* handle) {
  KESTRUM_CURL(curl_easy_cleanup)(handle);
}

const char* curl_easy_strerror(CURLcode code) {
  return KESTRUM_CURL(curl_easy_strerror)(code);
}

curl_slist* curl_slist_append(curl_slist* list, const char* line) {
  return KESTRUM_CURL(curl_slist_append)(list, line);
}

void curl_slist_free_all(curl_slist* list) {
  KESTRUM_CURL(curl_slist_free_all)(list);
}

CURLM* curl_multi_init() {
  return KESTRUM_CURL(curl_multi_init)();
}

CURLMcode curl_multi_add_handle(CURLM* multi, CURL* handle) {
  return KESTRUM_CURL(curl_multi_add_handle)(multi, handle);
}

CURLMcode curl_multi_remove_handle(CURLM* multi, CURL* handle) {
  return KESTRUM_CURL(curl_multi_remove_handle)(multi, handle);
}

CURLMcode curl_multi_perform(CURLM* multi, int* running) {
  return KESTRUM_CURL(curl_multi_perform)(multi, running);
}

CURLMcode curl_multi_poll(CURLM* multi, curl_waitfd* more, unsigned more_count, int timeout,
                          int* ready) {
  return KESTRUM_CURL(curl_multi_poll)(multi, more, more_count, timeout, ready);
}

CURLMsg* curl_multi_info_read(CURLM* multi, int* left) {
  return KESTRUM_CURL(curl_multi_info_read)(multi, left);
}

CURLMcode curl_multi_cleanup(CURLM* multi) {
  return KESTRUM_CURL(curl_multi_cleanup)(multi);
}

curl_mime* curl_mime_init(CURL* handle) {
  return KESTRUM_CURL(curl_mime_init)(handle);
}

void curl_mime_free(curl_mime* mime) {
  KESTRUM_CURL(curl_mime_free)(mime);
}

curl_mimepart* curl_mime_addpart(curl_mime* mime) {
  return KESTRUM_CURL(curl_mime_addpart)(mime);
}

CURLcode curl_mime_data(curl_mimepart* part, const char* data, size_t size) {
  return KESTRUM_CURL(curl_mime_data)(part, data, size);
}

CURLcode curl_mime_type(curl_mimepart* part, const char* type) {
  return KESTRUM_CURL(curl_mime_type)(part, type);
}

CURLcode curl_mime_filename(curl_mimepart* part, const char* name) {
  return KESTRUM_CURL(curl_mime_filename)(part, name);
}

CURLcode curl_mime_encoder(curl_mimepart* part, const char* encoding) {
  return KESTRUM_CURL(curl_mime_encoder)(part, encoding);
}

CURLcode curl_mime_subparts(curl_mimepart* part, curl_mime* below) {
  return KESTRUM_CURL(curl_mime_subparts)(part, below);
}

}  // extern "C"
