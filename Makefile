# What developers and CI type. `make demo` and `make test` set up all they need themselves.
VENV = build/venv
YARRIK = $(VENV)/bin/yarrik

.PHONY: demo demo-linux linux boards boards-arm64 inside commons commons-all commons-boots commons-boots-more sources test coverage test-linux mutations mutations-short mutations-long intruder changes kills flash-tricks network-start on-a-port power-cuts devicetree-corpus devicetree-tenth lint docs setup benchmark benchmark-short benchmark-disks benchmark-files benchmark-devicetree benchmark-shelf profile profile-cold commons-guessed clean

demo: packages-demo setup
	$(YARRIK) demo build/demo

# Its image alone.
linux: packages-demo packages-linux setup
	$(YARRIK) demo build/demo-linux --product tide-gauge-linux --no-boot

# The real thing: a kernel built from source, a real bootloader, our init; about ten minutes the first time.
demo-linux: linux
	$(YARRIK) boot tide-gauge-linux --workspace build/demo-linux --talk build/demo-linux/talks/restart.toml --until-off

test: packages-demo packages-linux packages-test setup
	scripts/run-tests $(VENV)/bin/unittest-parallel --level class -s tests -t .

# The same, and which lines they reach, by room; about twice as long. A process for each module of tests, since a pool ends its
# processes before these have written what they saw. Programs that the tests run count too.
COVERAGE = COVERAGE_FILE=$(CURDIR)/build/coverage/data $(VENV)/bin/coverage
COVERED = tests/test_*.py
coverage: packages-demo packages-linux packages-test setup
	rm -rf build/coverage && mkdir -p build/coverage
	ls $(COVERED) | sed 's,/,.,; s,\.py$$,,' | env COVERAGE_FILE=$(CURDIR)/build/coverage/data \
	  xargs -P $$(nproc) -n 1 $(VENV)/bin/coverage run -m unittest -b || echo "some tests failed: the figures are without them"
	$(COVERAGE) combine --quiet
	$(COVERAGE) json --quiet -o build/coverage/report.json
	scripts/coverage-by-room build/coverage/report.json

# Every board of the demo in its emulator: loaders from source, and five kernels, which take about an hour the first time.
boards: packages-demo packages-linux packages-test packages-boards sources setup
	$(VENV)/bin/python -m unittest -v tests.emulated_boards

# Those boards that have the kernel of demo-linux: our device tree in the running kernel, boot methods, a bootloader from source,
# and mistakes that really fail.
ARM64 = WithAMenu WithASignedImageTree WithAnEnvironmentInFlash FromMemory FindsItsRoot
boards-arm64: packages-test sources linux
	YARRIK_BOARDS=build/demo-linux $(VENV)/bin/python -m unittest -v $(ARM64:%=tests.emulated_boards.Arm64%) tests.emulated_boards.MistakesReallyFail

# The pier's gauge looked at from inside, and power cut at random moments of its first start; the kernel is that of demo-linux.
inside: packages-test linux
	YARRIK_BOARDS=build/demo-linux $(VENV)/bin/python -m unittest -v tests.seen_inside

# Every recipe of the shelf that comes with Yarrik, built for arm64; and a dozen of them in an image that somebody logs in to.
commons: packages-test packages-commons setup
	scripts/commons arm64

# The same for all architectures; those for C++ of the others are installed for it.
commons-all: packages-test packages-commons packages-boards packages-commons-all setup
	for arch in arm64 arm riscv64 x86-64; do scripts/commons $$arch || exit 1; done

commons-boots: packages-test packages-commons linux
	$(VENV)/bin/python -m unittest -v tests.commons_boots.UpstreamProgramsRun tests.screen_seen

# The same board with another C library, and under the large service manager: a quarter of an hour more the first time.
commons-boots-more: packages-test packages-commons linux
	$(VENV)/bin/python -m unittest -v tests.commons_boots.AnotherCLibrary tests.commons_boots.UnderTheServiceManager

# A real kernel mounts what we write, and starts what the shelf's root-finder finds: the one of demo-linux, in the emulator.
test-linux: packages-test linux
	$(VENV)/bin/python -m unittest -v tests.kernel_mounts tests.root_finding

# Damaged images and other inputs for every reader. The short run is CI's; the long one takes about an hour.
mutations: packages-demo packages-test setup
	$(VENV)/bin/python -m tests.mutations 3000
	$(VENV)/bin/python -m tests.mutated_inputs 3000

mutations-short: packages-demo packages-test setup
	$(VENV)/bin/python -m tests.mutations 300
	$(VENV)/bin/python -m tests.mutated_inputs 300

mutations-long: packages-demo packages-test setup
	$(VENV)/bin/python -m tests.mutations 10000
	$(VENV)/bin/python -m tests.mutated_inputs 20000

# Every escape that was ever found, tried on the built program: out of steps, archives and repositories, onto the terminal, and
# the host into builds.
intruder: packages-demo packages-test setup
	$(VENV)/bin/python -m unittest -v tests.test_intruder

# Images onto real block devices of this machine (loop devices): needs root.
flash-tricks: packages-demo packages-test setup
	$(VENV)/bin/python -m unittest -v tests.flash_tricks

# The real bootloader starts the kernel of demo-linux from the network, in a network of its own: needs root.
network-start: packages-demo packages-test linux
	YARRIK_BOARDS=build/demo-linux $(VENV)/bin/python -m unittest -v tests.network_start

# The script of demo-linux followed on a port, with that kernel on the board behind it and its power switched by a command.
on-a-port: packages-demo packages-test linux
	YARRIK_BOARDS=build/demo-linux $(VENV)/bin/python -m unittest -v tests.on_a_port

# Updates on the emulated board with that kernel: applied over HTTP, cut off at random moments, with systems that do not hold; and
# changed bundles by the ten thousand for the board's program.
power-cuts: packages-demo packages-test linux
	YARRIK_CHANGED=10000 $(VENV)/bin/python -m unittest -v tests.test_update.TheBoardsOwnProgram.test_changed_updates_are_never_accepted
	YARRIK_BOARDS=build/demo-linux $(VENV)/bin/python -m unittest -v tests.power_cuts

# Random changes to a workspace, its cache and this machine's settings: a build that is told to have nothing to do has nothing to do.
changes: packages-demo packages-test setup
	TRIES=3000 $(VENV)/bin/python -m unittest -v tests.test_unchanged

# Random kills of the real program over the demo's build, about a quarter of an hour; some are among the tests.
kills: packages-demo packages-test setup
	$(VENV)/bin/python -m tests.kills 300

# The kernel's device tree sources (arm64, arm, riscv, mips, powerpc) give the same bytes as from the operating system's compiler:
# all, or every tenth.
devicetree-corpus: packages-demo packages-linux packages-test setup
	$(VENV)/bin/python -m tests.corpus

devicetree-tenth: packages-demo packages-linux packages-test setup
	$(VENV)/bin/python -m tests.corpus --every 10

# The docs as pages, in build/site.
docs: setup
	$(VENV)/bin/python -m mkdocs build --strict --quiet
	@echo "build/site/index.html"

lint: setup
	$(VENV)/bin/ruff check src tests benchmarks
	$(VENV)/bin/ruff format --check src tests benchmarks
	$(VENV)/bin/mypy

# Where the time of a null build, of one after a changed source, and of a first build goes: build/where-time-goes.png.
profile: packages-demo setup
	$(VENV)/bin/python benchmarks/where_time_goes.py

# All of them, about a quarter of an hour; build/figures.json has the ratios, compared with those of benchmarks/figures.json.
benchmark: packages-demo packages-test setup
	$(VENV)/bin/python benchmarks/figures.py --begin
	$(VENV)/bin/python benchmarks/overhead.py
	$(VENV)/bin/python benchmarks/overhead.py --recipes 1750 --shape graph
	$(VENV)/bin/python benchmarks/overhead.py --recipes 1750
	$(VENV)/bin/python benchmarks/growth.py
	$(VENV)/bin/python benchmarks/catalogue.py
	$(VENV)/bin/python benchmarks/definitions.py
	$(VENV)/bin/python benchmarks/solver.py
	$(VENV)/bin/python benchmarks/schedule.py
	$(VENV)/bin/python benchmarks/engine.py
	$(VENV)/bin/python benchmarks/unpacking.py
	$(VENV)/bin/python benchmarks/flashing.py
	$(VENV)/bin/python benchmarks/updating.py
	$(VENV)/bin/python benchmarks/figures.py

# Those that say within two minutes whether something has become much slower.
benchmark-short: packages-demo packages-test setup
	$(VENV)/bin/python benchmarks/overhead.py
	$(VENV)/bin/python benchmarks/definitions.py
	$(VENV)/bin/python benchmarks/schedule.py

benchmark-devicetree: packages-demo packages-linux packages-test setup
	$(VENV)/bin/python benchmarks/devicetree.py

# A dozen recipes of the shelf against the same commands by hand: ten minutes, and it needs the network.
benchmark-shelf: packages-test packages-commons setup
	$(VENV)/bin/python benchmarks/shelf.py

# How many recipes that `yarrik new recipe --from` makes build as they are: about an hour, and it needs the network.
commons-guessed: packages-test packages-commons setup
	$(VENV)/bin/python scripts/guessed-recipes build/guessed

# 20,000 and 200,000 files in packages: how publishing, assembling, writing and describing grow; five minutes.
benchmark-files: packages-demo setup
	$(VENV)/bin/python benchmarks/files.py

# Where the time of first builds goes, build/first-builds.png: a kernel from its archive, and a dozen recipes of the shelf (these need
# the network); a quarter of an hour.
profile-cold: packages-demo packages-linux packages-commons setup
	$(VENV)/bin/python benchmarks/cold.py kernel shelf

benchmark-disks: packages-test setup
	$(VENV)/bin/python benchmarks/filesystems.py

# Upstream archives of bootloaders and firmware, for boards that build them.
sources:
	scripts/debian-sources u-boot arm-trusted-firmware opensbi

setup: $(VENV)/.ready

packages-%:
	scripts/host-packages $*

# The order matters on a machine that has no Python yet: its packages come first.
$(VENV)/.ready: pyproject.toml constraints.txt | packages-demo
	python3 -m venv $(VENV)
	$(VENV)/bin/python -m pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev]'
	touch $@

clean:
	rm -rf build
