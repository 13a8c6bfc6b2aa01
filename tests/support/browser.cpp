#include "support/browser.h"

#include <algorithm>

#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "support/program.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace {

// Put behind a copy of the page without its policy, which forbids scripts.
constexpr const char* kLook = R"html(<script>
const parse = (text) => (text.match(/[\d.]+/g) || [0, 0, 0, 0]).map(Number);
const light = ([r, g, b]) => [r, g, b].map((v) => v / 255)
  .map((v) => v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)
  .reduce((sum, v, i) => sum + v * [0.2126, 0.7152, 0.0722][i], 0);
const behind = (e) => {
  for (; e; e = e.parentElement) {
    const c = parse(getComputedStyle(e).backgroundColor);
    if (c.length < 4 || c[3] > 0) return c;
  }
  return [255, 255, 255];
};
const low = [];
for (const e of document.querySelectorAll('body *:not(svg *):not(script):not(style)')) {
  const own = [...e.childNodes].some((n) => n.nodeType === 3 && n.textContent.trim());
  if (!own || e.closest('.skip')) continue;
  const a = light(parse(getComputedStyle(e).color)), b = light(behind(e));
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  if (ratio < 4.5) low.push(e.textContent.trim().slice(0, 40) + ' ' + ratio.toFixed(2));
}
const ids = [...document.querySelectorAll('[id]')].map((e) => e.id);
const links = [...document.querySelectorAll('a')].map((e) => e.getAttribute('href'));
const result = {
  low, ids, links,
  doubled: ids.filter((id, i) => ids.indexOf(id) !== i),
  wide: document.documentElement.scrollWidth > document.documentElement.clientWidth,
  unnamed: [...document.querySelectorAll('svg, a')].filter((e) => e.tagName === 'A'
    ? !e.textContent.trim() : !(e.closest('[role=img]') && document.getElementById(
        (e.closest('[role=img]').getAttribute('aria-labelledby') || '').split(' ')[0]))).length,
  headings: [...document.querySelectorAll('h1, h2, h3')].map((e) => e.textContent.trim()),
};
document.body.innerHTML = '';
document.body.setAttribute('data-result', encodeURIComponent(JSON.stringify(result)));
</script>)html";

std::string decoded(const std::string& text) {
  std::string bytes;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      bytes += text[i];
      continue;
    }
    bytes += static_cast<char>(std::stoi(text.substr(i + 1, 2), nullptr, 16));
    i += 2;
  }
  return bytes;
}

}  // namespace

bool have_browser() {
  return have_program("chromium");
}

Json look_at_page(const std::string& file, bool dark, int width) {
  TempFolder folder;
  std::string page = read_file(file), look = folder / "page.html";
  std::size_t policy = page.find("<meta http-equiv");
  if (policy != std::string::npos) page.erase(policy, page.find('>', policy) + 1 - policy);
  page.insert(page.rfind("</body>"), kLook);
  write_file(look, page);
  std::vector<std::string> words = {"chromium",
                                    "--headless",
                                    "--no-sandbox",
                                    "--disable-gpu",
                                    "--no-first-run",
                                    "--disable-background-networking",
                                    "--disable-component-update",
                                    "--disable-sync",
                                    "--disable-quic",
                                    "--user-data-dir=" + (folder / "profile"),
                                    "--window-size=" + std::to_string(width) + ",900",
                                    "--enable-logging=stderr",
                                    "--v=0",
                                    "--virtual-time-budget=2000",
                                    "--timeout=200000",
                                    "--dump-dom"};
  if (dark) words.push_back("--force-dark-mode");
  if (dark) words.push_back("--blink-settings=preferredColorScheme=0");
  words.push_back("file://" + look);
  Ran ran = run_program(words, {{"HOME", folder.path()}});
  std::size_t from = ran.out.find("data-result=\""), to = ran.out.find('"', from + 13);
  if (from == std::string::npos) return {{"console", ran.err}};
  Json seen = Json::parse(decoded(ran.out.substr(from + 13, to - from - 13)));
  Json broken = Json::array(), console = Json::array();
  for (const Json& link : seen["links"]) {
    std::string target = link.get<std::string>();
    bool inside = target.starts_with('#');
    bool there = inside ? std::find(seen["ids"].begin(), seen["ids"].end(), target.substr(1)) !=
                              seen["ids"].end()
                        : path_exists(parent_of(file) + "/" + target);
    if (!there) broken.push_back(target);
  }
  for (const std::string& line : split(ran.err, '\n')) {
    if (line.find("CONSOLE") != std::string::npos) console.push_back(line);
  }
  seen["broken"] = broken;
  seen["console"] = console;
  return seen;
}

}  // namespace kestrum::test
