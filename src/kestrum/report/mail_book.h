// What was mailed last about each job: <state>/mail/told.json.
#pragma once

#include <map>
#include <string>

#include "kestrum/job/job_store.h"
#include "kestrum/report/run_mail.h"

namespace kestrum {

class MailBook {
 public:
  explicit MailBook(const Home& home) : state_folder_(home.state + "/mail") {}

  // By job; of a file that is damaged nothing.
  std::map<std::string, MailTold> load() const;
  // Takes in what was told of these jobs.
  void note(const std::map<std::string, MailTold>& told) const;

 private:
  std::string state_folder_;
};

}  // namespace kestrum
