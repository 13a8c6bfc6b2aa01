#include "each_job.h"

#include "kestrum/base/text.h"

namespace kestrum::cli {

int for_each_job(const Context& context, const Args& args, const std::string& usage,
                 const std::function<JobAnswer(const Args&)>& answer) {
  if (!args.has("all")) {
    args.expect(args.has("shelf") ? 0 : 1, 1, usage);
    JobAnswer one = answer(args);
    forget_environment_passphrase();
    if (context.json) context.print_json(one.json);
    return one.exit;
  }
  args.expect(0, 0, usage);
  if (args.has("shelf")) throw Error(ErrorKind::kUsage, "either --all or --shelf", usage);
  int exit = 0;
  Json documents = Json::array();
  std::vector<std::string> names = context.jobs().names();
  for (const std::string& name : names) {
    try {
      JobAnswer one = answer(args.with_job(name));
      documents.push_back(std::move(one.json));
      exit = worse_exit(exit, one.exit);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::kStopped) throw;
      documents.push_back({{"job", name}, {"error", error_json(error)}});
      context.tell(printable(name + ": " + error.message()));
      exit = worse_exit(exit, error.exit_code());
    }
  }
  if (names.empty()) context.say("no jobs yet");
  if (context.json) context.print_json({{"jobs", documents}});
  return exit;
}

}  // namespace kestrum::cli
