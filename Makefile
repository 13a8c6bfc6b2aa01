# Two commands matter: `make demo` and `make test`. Each installs what is missing, builds in release
# mode with all cores, and runs.
BUILD ?= build/release
SANITIZED ?= build/sanitized
THREADS ?= build/threads
PIPELINE ?= build/pipeline
JOBS ?= $(shell nproc)
# Several files are compiled as one, which halves the time of a whole build. OFF is better for one
# change after the other.
UNITY ?= ON
CONFIGURE = cmake -S . -G Ninja -DCMAKE_UNITY_BUILD=$(UNITY)
# Some tests mostly wait: for the clock, or at a rate that they are held to.
TEST_JOBS ?= $(shell echo $$(($(JOBS) + 2)))
FUZZ_SECONDS ?= 20
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: build demo test package sanitized test-sanitized test-threads test-pipeline fuzz sweep soak bench format format-check \
  check-rooms lint lint-changed packages clean

build: packages
	$(CONFIGURE) -B $(BUILD) -DCMAKE_BUILD_TYPE=Release >/dev/null
	cmake --build $(BUILD) -j $(JOBS)

demo: build
	$(BUILD)/kestrum demo

test: build
	tests/in_memory.sh ctest --test-dir $(BUILD) --output-on-failure -j $(TEST_JOBS)

# build/release/kestrum_<version>_<architecture>.deb
package: build
	cd $(BUILD) && cpack
	@ls $(BUILD)/kestrum_*.deb

# By clang, which takes half the time that GCC takes for it, and has a fuzzer: one build is for both.
sanitized: packages
	CC=clang CXX=clang++ $(CONFIGURE) -B $(SANITIZED) -DCMAKE_BUILD_TYPE=Debug -DKESTRUM_SANITIZE=ON >/dev/null
	cmake --build $(SANITIZED) -j $(JOBS)

test-sanitized: sanitized
	tests/in_memory.sh ctest --test-dir $(SANITIZED) --output-on-failure -j $(TEST_JOBS) $(CTEST_WORDS)

# What has threads: the pipeline by itself, in a run, and in the program.
test-threads: packages
	$(CONFIGURE) -B $(THREADS) -DCMAKE_BUILD_TYPE=Debug -DKESTRUM_THREAD_SANITIZE=ON >/dev/null
	cmake --build $(THREADS) -j $(JOBS)
	ctest --test-dir $(THREADS) --output-on-failure -j $(TEST_JOBS)

# The pipeline and what speaks to servers by themselves, in a small part of the time.
test-pipeline: packages
	$(CONFIGURE) -B $(PIPELINE) -DCMAKE_BUILD_TYPE=Debug -DKESTRUM_THREAD_SANITIZE=pipeline >/dev/null
	cmake --build $(PIPELINE) -j $(JOBS)
	ctest --test-dir $(PIPELINE) --output-on-failure -j $(TEST_JOBS)

# Each parser of what others may have written is fed for so many seconds; what it finds is left in
# build/sanitized/found, and belongs into fuzz/corpus once it is mended.
fuzz: sanitized
	ls fuzz/corpus | xargs -P $(JOBS) -I TARGET fuzz/run.sh $(SANITIZED) TARGET $(FUZZ_SECONDS)

# The power is cut, or a call fails, at every single call that runs of each kind make to the shelf and to
# this PC's own disk, and the way to a server ends or breaks after every so many bytes; the tests take a
# sample.
CUT_STRIDE ?= 10000
sweep: build
	KESTRUM_FAULT_STRIDE=1 $(BUILD)/kestrum_tests --gtest_brief=1 --gtest_filter='Faults/*:SpanningFaults.*:Seeds/*'
	KESTRUM_CUT_STRIDE=$(CUT_STRIDE) $(BUILD)/kestrum_tests --gtest_brief=1 --gtest_filter='*ServedModel*'

# Random edits, runs, kills, full disks, prunes, rotating disks and restores against a model.
MINUTES ?= 30
SEED ?=
soak: build
	cmake --build $(BUILD) --target kestrum_soak
	KESTRUM_SOAK_MINUTES=$(MINUTES) KESTRUM_SOAK_SEED=$(SEED) $(BUILD)/kestrum_soak

# The program against standard tools on the same data; writes docs/performance.md. FULL=1: with a million
# files; ONLY=A,L: these cases.
FULL ?=
ONLY ?=
bench: build
	python3 bench/run.py $(BUILD)/kestrum --only "$(ONLY)" $(if $(FULL),--full)

format:
	clang-format -i $$(git ls-files '*.cpp' '*.h')

format-check:
	clang-format --dry-run -Werror $$(git ls-files '*.cpp' '*.h')

# Which room includes which, and what else docs/architecture.md promises of files and names.
check-rooms:
	.ci/check-rooms

# clang-tidy reads the compiler's commands; it knows neither GCC's precompiled headers nor all its flags.
TIDY = cmake -S . -B build/lint -G Ninja -DCMAKE_DISABLE_PRECOMPILE_HEADERS=ON -DCMAKE_UNITY_BUILD=OFF \
  -DKESTRUM_TESTS=OFF >/dev/null && xargs -r -P $(JOBS) -n 2 clang-tidy --quiet -p build/lint \
  --extra-arg=-Wno-unknown-warning-option

lint: format-check check-rooms
	git ls-files 'src/*.cpp' 'demo/*.cpp' | ($(TIDY))

# Of the files that changed since LINT_BASE the most changed ones: as many as a few minutes are enough for.
LINT_BASE ?= HEAD~1
LINT_MOST ?= 16
lint-changed: packages
	@git rev-parse -q --verify $(LINT_BASE) >/dev/null || { echo "no $(LINT_BASE) here to compare with"; exit 0; }; \
	changed=$$(git diff --numstat --no-renames --diff-filter=d $(LINT_BASE) -- 'src/*.cpp' 'demo/*.cpp' | sort -k1,1nr -k3 | cut -f3); \
	echo "clang-tidy: $$(echo "$$changed" | grep -c .) files changed, at most $(LINT_MOST) are read"; \
	echo "$$changed" | head -n $(LINT_MOST) | ($(TIDY))

# Installs only what dpkg does not know yet, so that a second call needs neither network nor root.
packages:
	@missing=""; for p in $$(grep -v '^#' apt-packages.txt); do \
	  dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; \
	done; \
	if [ -n "$$missing" ]; then echo "installing:$$missing"; \
	  $(SUDO) apt-get update -q && \
	  DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -q --no-install-recommends $$missing; fi

clean:
	rm -rf build
