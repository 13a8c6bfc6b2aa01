// What the program does from its first line to its last.
#pragma once

namespace kestrum::cli {

// Runs the command that the words name; the exit code of interface.md. Nothing is thrown.
int run_program(int argc, char** argv);

}  // namespace kestrum::cli
