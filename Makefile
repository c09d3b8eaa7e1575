# What people type. CMake builds; see CMakePresets.json.
.PHONY: all demo test check fresh bench lint lab loaders storm fleet screenshots processors package install uninstall clean

BUILD = cmake --build --preset
CONFIGURE = cmake -G Ninja --preset
# CI takes warnings for errors; whoever builds with another compiler need not.
WERROR =

all:
	@scripts/setup
	@$(CONFIGURE) release -DWDR_TESTS=OFF -DWDR_WERROR=$(if $(WERROR),ON,OFF) >/dev/null
	@$(BUILD) release

demo: all
	@scripts/setup demo
	@scripts/only demo -- scripts/demo build/release/wanderitas

test:
	@scripts/setup test
	@scripts/only test -- scripts/test

bench:
	@scripts/setup test bench
	@$(CONFIGURE) release -DWDR_TESTS=ON >/dev/null
	@$(BUILD) release
	@scripts/bench build/release
	@scripts/bench-live build/release
	@scripts/bench-move build/release build/bench-moves.json
	@scripts/bench-roster build/release
	@[ ! -e build/bench-moves.json ] || scripts/draw-moves build/bench-moves.json build/bench-moves.svg
	@scripts/bench-pace build/release/wanderitas

# One suite, such as volume/ext, or one case of it.
check:
	@scripts/setup test
	@scripts/only test -- scripts/test $(SUITE) $(CASE)

lint:
	@scripts/setup test lint
	@scripts/only test lint -- scripts/lint

# The README's first command on a bare Debian 12 and 13, as root; TRY=bookworm:test runs the second, too, there.
TRY =
fresh:
	@scripts/setup fresh
	@scripts/fresh $(TRY)

# Virtual boards; LAB=ci is the part of it that CI runs. As root, with a kernel to be had.
LAB = all
lab: all
	@scripts/setup lab
	@tests/lab/run build/release/wanderitas $(LAB)

# Boot loaders as Debian packages them, each installed on a bench of its board.
loaders: all
	@scripts/setup loaders
	@tests/loaders/run build/release/wanderitas

# A running system under attack, as root; SEEDS are what the attacks are made from.
SEEDS =
storm: all
	@scripts/setup storm
	@scripts/only storm -- tests/storm/run build/release/wanderitas $(SEEDS)

# Many boards with Ansible, in network namespaces, as root.
fleet: all
	@scripts/setup fleet
	@tests/fleet/run build/release/wanderitas

screenshots: all
	@scripts/setup screenshots
	@scripts/screenshots build/release/wanderitas

# Builds and tests for the processors of boards, as root; ARCH names some of them.
ARCH =
processors: all
	@scripts/setup test fresh
	@scripts/processors $(ARCH)

# Debian packages in build/packages, those for boards too; tried in bare systems. As root.
package:
	@scripts/setup package
	@scripts/package try boards

# DESTDIR is heeded.
install: all
	cmake --install build/release

uninstall:
	@while read -r file || [ -n "$$file" ]; do rm -fv "$(DESTDIR)$$file"; done <build/release/install_manifest.txt

clean:
	rm -rf build demo
