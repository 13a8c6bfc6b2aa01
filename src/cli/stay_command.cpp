#include <fmt/format.h>
#include <poll.h>
#include <systemd/sd-daemon.h>

#include <algorithm>
#include <csignal>
#include <map>
#include <memory>

#include "due_checks.h"
#include "due_runs.h"
#include "kestrum/base/file.h"
#include "kestrum/base/units.h"
#include "kestrum/inspect/forecast.h"
#include "kestrum/machine/own_folders.h"
#include "kestrum/plan/run_plan.h"
#include "kestrum/schedule/change_timer.h"
#include "kestrum/system/due_caller.h"
#include "kestrum/system/folder_watcher.h"
#include "mailing.h"
#include "read_observer.h"
#include "run_job.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kRunsRemembered = 100;
constexpr Nanos kMailLook = 10 * kMinute;

// One job that is run when its files change.
class Followed {
 public:
  Followed(const Context& context, Job job, std::string text, Nanos pause)
      : job_(std::move(job)), text_(std::move(text)), timer_(pause) {
    roots_ = roots_of(job_);
    selection_ = std::make_unique<Selection>(job_.rules, own_folders(context.machine(), ""));
    watcher_ = std::make_unique<FolderWatcher>(roots_, *selection_);
    if (watcher_->incomplete()) {
      context.tell(fmt::format(
          "{}: the system allows only {} watches; the folders are looked at every {} instead "
          "(fs.inotify.max_user_watches)",
          job_.name, watcher_->watches(), format_duration(pause)));
    }
  }

  static std::vector<std::string> roots_of(const Job& job) {
    return in_path_order(expand_patterns(job.folders));
  }

  // Whether the job or the folders that its patterns stand for are others by now.
  bool outdated(const std::string& text) const { return text != text_ || roots_of(job_) != roots_; }
  const Job& job() const { return job_; }
  int fd() const { return watcher_->fd(); }

  void listen() {
    if (watcher_->changed()) timer_.changed(steady_now());
  }
  // Compares the folders with the newest set: at the start, and where changes may go unheard.
  void look_if_wanted(const Context& context) {
    if (!timer_.wants_look(steady_now(), watcher_->incomplete())) return;
    timer_.looked(steady_now());
    if (has_changed(context)) timer_.changed(steady_now());
  }
  ChangeTimer& timer() { return timer_; }

 private:
  bool has_changed(const Context& context) const {
    try {
      Observer silent;
      ForecastOptions options;
      options.sample = false;
      options.stop = stop_requested;
      Forecast forecast = make_forecast(context.machine(), job_, options, context.clock, silent);
      const FileCounts& f = forecast.changes.files;
      bool nothing_yet = forecast.next.id == SetId{1, 0};
      return f.copied + f.moved + f.gone > 0 || nothing_yet;
    } catch (const Error&) {
      return true;  // the run says what is wrong
    }
  }

  Job job_;
  std::string text_;
  ChangeTimer timer_;
  std::vector<std::string> roots_;
  std::unique_ptr<Selection> selection_;
  std::unique_ptr<FolderWatcher> watcher_;
};

class Stay {
 public:
  Stay(const Context& context, const Args& args)
      : context_(context),
        args_(args),
        due_(context, args),
        checks_(context, [this] { return due_.something_is_due() || a_change_is_due(); }) {}

  int run() {
    sigset_t ending_signals, before;
    sigemptyset(&ending_signals);
    sigaddset(&ending_signals, SIGINT);
    sigaddset(&ending_signals, SIGTERM);
    Nanos since = context_.clock.now();
    ::sd_notify(0, "READY=1");
    while (!stop_requested()) {
      due_.run(since);
      std::set<std::string> ran = jobs_that_made_a_set(due_.reports());
      if (!checks_.run(since, ran)) {  // a run is due: what was done is told after it
        run_changed();
        continue;
      }
      keep(due_.reports());
      follow();
      run_changed();
      ::sd_notifyf(0, "STATUS=%zu jobs follow changes", followed_.size());
      std::vector<pollfd> waiting;
      for (auto& [name, job] : followed_) waiting.push_back({job->fd(), POLLIN, 0});
      timespec timeout = to_timespec(time_to_wait());
      // Between the question and the wait no signal gets lost.
      ::pthread_sigmask(SIG_BLOCK, &ending_signals, &before);
      if (!stop_requested()) ::ppoll(waiting.data(), waiting.size(), &timeout, &before);
      ::pthread_sigmask(SIG_SETMASK, &before, nullptr);
      for (auto& [name, job] : followed_) job->listen();
    }
    ::sd_notify(0, "STOPPING=1");
    if (context_.json) {
      context_.print_json({{"runs", runs_}});
    } else {
      context_.say("stopped; nothing runs by itself until kestrum run --stay is started again");
    }
    return 0;
  }

 private:
  void keep(std::vector<RunReport>& reports) {
    // Also of what did not run; not at each change of a file.
    if (!reports.empty() || steady_now() - mail_looked_ > kMailLook) {
      mail_looked_ = steady_now();
      mail_about(context_, reports, std::nullopt);
    }
    power_off_after(context_, reports);
    for (const RunReport& report : reports) {
      runs_.push_back(report.to_json());
      if (runs_.size() > kRunsRemembered) runs_.erase(runs_.begin());
    }
    reports.clear();
  }

  void follow() {
    std::map<std::string, std::unique_ptr<Followed>> now;
    for (const Job& job : due_.last_look().when_files_change) {
      std::string text = read_file(context_.jobs().path(job.name));
      auto known = followed_.find(job.name);
      if (known != followed_.end() && !known->second->outdated(text)) {
        now[job.name] = std::move(known->second);
        continue;
      }
      Nanos pause = *due_.scheduler().timetable(job).when_files_change();
      now[job.name] = std::make_unique<Followed>(context_, job, text, pause);
    }
    followed_ = std::move(now);
    for (auto& [name, job] : followed_) job->look_if_wanted(context_);
  }

  bool a_change_is_due() {
    return std::any_of(followed_.begin(), followed_.end(), [&](auto& followed) {
      Followed& job = *followed.second;
      job.listen();
      auto due = job.timer().due();
      return due && *due <= steady_now() && !due_.scheduler().waits_for(job.job());
    });
  }

  void run_changed() {
    for (auto& [name, job] : followed_) {
      auto due = job->timer().due();
      if (!due || *due > steady_now() || stop_requested()) continue;
      if (auto reason = due_.scheduler().waits_for(job->job())) {
        if (due_.scheduler().waits(name, *reason)) {
          record_skipped(context_, job->job(), "waits: " + *reason, 0);
        }
        job->timer().waits(steady_now());
        continue;
      }
      RunRequest request;
      request.job = name;
      request.trigger = "files changed";
      request.by_hand = false;
      job->timer().began(steady_now());
      std::vector<RunReport> reports = {run_job(context_, args_, request)};
      job->timer().ended(steady_now(), reports[0].set.has_value());
      keep(reports);
    }
  }

  Nanos time_to_wait() const {
    Nanos wait = kLookAgain;
    if (auto next = due_.last_look().next; next && !context_.clock.simulated()) {
      wait = std::min(wait, *next - context_.clock.now());
    }
    for (const auto& [name, job] : followed_) {
      if (auto due = job->timer().due()) wait = std::min(wait, *due - steady_now());
    }
    return std::max<Nanos>(wait, kSecond / 20);
  }

  const Context& context_;
  const Args& args_;
  DueRuns due_;
  DueChecks checks_;
  std::map<std::string, std::unique_ptr<Followed>> followed_;
  Json runs_ = Json::array();
  Nanos mail_looked_ = 0;
};

}  // namespace

int run_and_stay(const Context& context, const Args& args) {
  auto lock = lock_due_runs(context);
  if (!lock) {
    throw Error(ErrorKind::kBusy, "another kestrum run --stay or --due is at work here");
  }
  write_all(lock->get(), as_bytes(std::string_view(kStays)), due_lock_path(context.home));
  return Stay(context, args).run();
}

}  // namespace kestrum::cli
