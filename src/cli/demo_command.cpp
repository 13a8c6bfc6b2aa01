#include "command.h"
namespace kestrum::cli {
int run_demo(const Context&, const Args&) { return 0; }
}
