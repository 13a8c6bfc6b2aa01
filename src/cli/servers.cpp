#include "servers.h"

#include <fmt/format.h>

#include "kestrum/base/text.h"
#include "kestrum/remote/remote_settings.h"
#include "questions.h"

namespace kestrum::cli {
namespace {

// A run by night has time; whoever waits for an answer has less.
constexpr Nanos kPatienceOfRuns = kHour, kPatienceElsewhere = kMinute / 2;

}  // namespace

void reach_servers_for(const Context& context, const std::string& command) {
  RemoteContext& servers = remote_context();
  servers.settings_file = context.home.config + "/places.toml";
  servers.spool_folder = context.home.state;
  servers.patience =
      command == "run" || command == "shelf copy" ? kPatienceOfRuns : kPatienceElsewhere;
  servers.stopped = stop_requested;
  servers.note = [&context](const std::string& text) { context.tell(printable(text)); };
}

void ask_about_host_keys(const Context& context) {
  if (!can_ask(context)) return;
  remote_context().accept = [&context](const HostKey& key) {
    context.tell(fmt::format("{} is not known yet. It says that its key is:", printable(key.host)));
    context.tell(fmt::format("  {} {}", printable(key.kind), key.fingerprint));
    return ask_yes("Is that what its owner says?", false);
  };
}

}  // namespace kestrum::cli
