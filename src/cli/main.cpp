#include "program.h"

int main(int argc, char** argv) {
  return kestrum::cli::run_program(argc, argv);
}
