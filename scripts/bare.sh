# Bare Debian systems in folders, for scripts that are run as root. To be sourced, from the project's folder.
# The minimal systems are kept as tar files in ~/.cache/wanderitas-fresh.
# shellcheck shell=bash

bare_skip() { echo "skipped: $*"; exit 0; }
[ "$(id -u)" -eq 0 ] || bare_skip "a bare Debian can only be made by root"
command -v debootstrap >/dev/null || bare_skip "there is no debootstrap"

cache=${XDG_CACHE_HOME:-$HOME/.cache}/wanderitas-fresh
mkdir -p "$cache"
work=$(mktemp -d "${TMPDIR:-/tmp}/wanderitas-fresh-XXXXXX")
# shellcheck disable=SC2317 # called by the trap
clean_up() {
	local mount
	for mount in "$work"/*/proc "$work"/*/sys "$work"/*/dev/shm "$work"/*/dev "$work"/*; do
		# Whoever still runs in there keeps it from being unmounted at once, not from going.
		if mountpoint -q "$mount"; then umount -l "$mount" || true; fi
	done
	rm -rf --one-file-system "$work"
}
trap clean_up EXIT
trap 'exit 1' INT TERM

# Where this machine gets its own packages from.
# shellcheck disable=SC2016 # the variable is apt's
mirror=$(apt-get indextargets --format '$(SITE)' 'Created-By: Packages' | grep -v security | head -n 1)
[ -n "$mirror" ] || bare_skip "apt knows no source of packages"

make_base() {
	local release=$1 folder=$work/base-$1
	echo "== making a bare $release"
	debootstrap --variant=minbase --include=make,git,ca-certificates "$release" "$folder" "$mirror" >"$folder.log" 2>&1 ||
		{ tail -n 20 "$folder.log" >&2; return 1; }
	tar -C "$folder" --one-file-system -cf "$cache/$release.tar.part" .
	mv "$cache/$release.tar.part" "$cache/$release.tar"
	rm -rf --one-file-system "$folder"
}

# A system of its own in $work/$release.
unpack() {
	local release=$1 top=$work/$1
	# Another script may be making it.
	(
		flock 9
		[ -s "$cache/$release.tar" ] || make_base "$release"
	) 9>"$cache/$release.lock"
	mkdir "$top"
	# A system's root is a mount point. Programs that make mount namespaces rely on it.
	mount --bind "$top" "$top"
	mount --make-private "$top"
	tar -C "$top" -xf "$cache/$release.tar"
	echo "deb $mirror $release main" >"$top/etc/apt/sources.list"
	apt-config dump Acquire >"$top/etc/apt/apt.conf.d/00host"
	# Nobody needs it after a power cut.
	echo force-unsafe-io >"$top/etc/dpkg/dpkg.cfg.d/unsafe-io"
	cp -L /etc/resolv.conf "$top/etc/resolv.conf"
	mount -t proc proc "$top/proc"
	mount -t sysfs -o ro sysfs "$top/sys"
	mount --bind /dev "$top/dev"
	# What is mounted below it is not shown to this machine.
	mount --make-private "$top/dev"
	mount -t tmpfs tmpfs "$top/dev/shm"
}

run_in() {
	local release=$1
	shift
	echo "== $release: $*"
	env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root TERM=dumb LANG=C.UTF-8 \
		chroot "$work/$release" sh -c 'cd /root && exec "$@"' sh "$@"
}

# What it takes to compile for another processor there, and further packages.
add_architecture() { # RELEASE ARCHITECTURE PACKAGE...
	local release=$1 arch=$2 libraries
	shift 2
	libraries=$(scripts/setup --list | tr ' ' '\n' | grep -E -- '-dev$' | grep -v '^libc6-dev')
	run_in "$release" dpkg --add-architecture "$arch"
	run_in "$release" apt-get -qq update
	# shellcheck disable=SC2086,SC2046 # words
	run_in "$release" env DEBIAN_FRONTEND=noninteractive apt-get -qq install -y --no-install-recommends \
		"crossbuild-essential-$arch" "$@" $(printf "%s:$arch " $libraries) >"$work/log" 2>&1 ||
		{ tail -n 20 "$work/log" >&2; return 1; }
}

remove() {
	umount "$work/$1/proc" "$work/$1/sys" "$work/$1/dev/shm" "$work/$1/dev"
	umount "$work/$1"
	rm -rf --one-file-system "${work:?}/$1"
}
