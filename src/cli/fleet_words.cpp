#include "fleet_words.h"

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"

namespace kestrum::cli {
namespace {

constexpr std::uint64_t kListLimit = 1 << 20;  // bytes of --expect's file

// A host a line; what comes behind # is for people.
std::vector<std::string> expected_hosts(const std::string& file) {
  std::vector<std::string> hosts;
  for (const std::string& line : split(read_file(file, kListLimit), '\n')) {
    std::string host(trimmed(line.substr(0, line.find('#'))));
    if (!host.empty()) hosts.push_back(std::move(host));
  }
  if (hosts.empty()) {
    throw Error(ErrorKind::kUsage, "--expect: no host in " + printable(file),
                "the name of a PC on each line");
  }
  return hosts;
}

}  // namespace

FleetRequest fleet_request(const Context& context, const Args& args) {
  FleetRequest request;
  request.folder = absolute_path(*args.get("shelves"));
  request.now = context.clock.now();
  if (auto file = args.get("expect")) request.expected = expected_hosts(*file);
  return request;
}

}  // namespace kestrum::cli
