// Stands for libssh where the program is linked, and loads it at the first call.
#include <libssh/callbacks.h>
#include <libssh/libssh.h>

#include "kestrum/remote/on_demand.h"

namespace {

constexpr kestrum::LibraryOnDemand kSsh = {"libssh.so.4", "servers of SFTP are spoken to",
                                           "libssh-4"};

}  // namespace

#define KESTRUM_SSH(name) KESTRUM_ON_DEMAND(kSsh, name)

extern "C" {

ssh_session ssh_new() {
  return KESTRUM_SSH(ssh_new)();
}

void ssh_free(ssh_session session) {
  KESTRUM_SSH(ssh_free)(session);
}

int ssh_options_set(ssh_session session, ssh_options_e type, const void* value) {
  return KESTRUM_SSH(ssh_options_set)(session, type, value);
}

void ssh_set_blocking(ssh_session session, int blocking) {
  KESTRUM_SSH(ssh_set_blocking)(session, blocking);
}

int ssh_connect(ssh_session session) {
  return KESTRUM_SSH(ssh_connect)(session);
}

int ssh_is_connected(ssh_session session) {
  return KESTRUM_SSH(ssh_is_connected)(session);
}

int ssh_get_poll_flags(ssh_session session) {
  return KESTRUM_SSH(ssh_get_poll_flags)(session);
}

const char* ssh_get_error(void* of) {
  return KESTRUM_SSH(ssh_get_error)(of);
}

int ssh_get_server_publickey(ssh_session session, ssh_key* key) {
  return KESTRUM_SSH(ssh_get_server_publickey)(session, key);
}

int ssh_known_hosts_parse_line(const char* host, const char* line, ssh_knownhosts_entry** entry) {
  return KESTRUM_SSH(ssh_known_hosts_parse_line)(host, line, entry);
}

void ssh_knownhosts_entry_free(ssh_knownhosts_entry* entry) {
  KESTRUM_SSH(ssh_knownhosts_entry_free)(entry);
}

ssh_keytypes_e ssh_key_type(const ssh_key key) {
  return KESTRUM_SSH(ssh_key_type)(key);
}

int ssh_key_cmp(const ssh_key one, const ssh_key other, ssh_keycmp_e what) {
  return KESTRUM_SSH(ssh_key_cmp)(one, other, what);
}

void ssh_key_free(ssh_key key) {
  KESTRUM_SSH(ssh_key_free)(key);
}

int ssh_pki_export_pubkey_base64(const ssh_key key, char** text) {
  return KESTRUM_SSH(ssh_pki_export_pubkey_base64)(key, text);
}

int ssh_pki_import_privkey_file(const char* file, const char* words, ssh_auth_callback ask,
                                void* asked, ssh_key* key) {
  return KESTRUM_SSH(ssh_pki_import_privkey_file)(file, words, ask, asked, key);
}

void ssh_string_free_char(char* text) {
  KESTRUM_SSH(ssh_string_free_char)(text);
}

int ssh_userauth_publickey(ssh_session session, const char* user, const ssh_key key) {
  return KESTRUM_SSH(ssh_userauth_publickey)(session, user, key);
}

int ssh_userauth_agent(ssh_session session, const char* user) {
  return KESTRUM_SSH(ssh_userauth_agent)(session, user);
}

int ssh_userauth_password(ssh_session session, const char* user, const char* password) {
  return KESTRUM_SSH(ssh_userauth_password)(session, user, password);
}

int ssh_userauth_kbdint(ssh_session session, const char* user, const char* methods) {
  return KESTRUM_SSH(ssh_userauth_kbdint)(session, user, methods);
}

int ssh_userauth_kbdint_getnprompts(ssh_session session) {
  return KESTRUM_SSH(ssh_userauth_kbdint_getnprompts)(session);
}

int ssh_userauth_kbdint_setanswer(ssh_session session, unsigned i, const char* answer) {
  return KESTRUM_SSH(ssh_userauth_kbdint_setanswer)(session, i, answer);
}

ssh_channel ssh_channel_new(ssh_session session) {
  return KESTRUM_SSH(ssh_channel_new)(session);
}

void ssh_channel_free(ssh_channel channel) {
  KESTRUM_SSH(ssh_channel_free)(channel);
}

int ssh_channel_open_session(ssh_channel channel) {
  return KESTRUM_SSH(ssh_channel_open_session)(channel);
}

int ssh_channel_request_subsystem(ssh_channel channel, const char* name) {
  return KESTRUM_SSH(ssh_channel_request_subsystem)(channel, name);
}

int ssh_channel_write(ssh_channel channel, const void* data, uint32_t length) {
  return KESTRUM_SSH(ssh_channel_write)(channel, data, length);
}

int ssh_channel_read_timeout(ssh_channel channel, void* out, uint32_t length, int of_errors,
                             int timeout) {
  return KESTRUM_SSH(ssh_channel_read_timeout)(channel, out, length, of_errors, timeout);
}

int ssh_channel_is_eof(ssh_channel channel) {
  return KESTRUM_SSH(ssh_channel_is_eof)(channel);
}

int ssh_set_channel_callbacks(ssh_channel channel, ssh_channel_callbacks calls) {
  return KESTRUM_SSH(ssh_set_channel_callbacks)(channel, calls);
}

int ssh_remove_channel_callbacks(ssh_channel channel, ssh_channel_callbacks calls) {
  return KESTRUM_SSH(ssh_remove_channel_callbacks)(channel, calls);
}

}  // extern "C"
