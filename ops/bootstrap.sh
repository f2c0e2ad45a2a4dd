#!/usr/bin/env bash
# Install what is missing: Debian packages, the virtual environment, npm packages, the built page.
# Usage: ops/bootstrap.sh runtime|dev
set -euo pipefail
cd "$(dirname "$0")/.."
kind=${1:?runtime or dev}

say() { printf '%s\n' "$*"; }

as_root() {
    if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi
}

packages=(python3 python3-venv python3-dev gcc libc6-dev postgresql-15 ca-certificates util-linux lilv-utils lv2-examples sox
    libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0 fonts-dejavu-core) # the last line: reports as PDF
# Real sounds that causes are told on: music, voice, instruments, signals of a desktop.
sounds=(alsa-utils frozen-bubble-data extremetuxracer-data oxygen-sounds sound-theme-freedesktop timgm6mb-soundfont)
[ "$kind" = dev ] && packages+=(chromium-headless-shell ffmpeg "${sounds[@]}")
missing=()
for package in "${packages[@]}"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
    say "Installing Debian packages: ${missing[*]}"
    # The project makes a cluster of its own; Debian need not make one as well.
    if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
        as_root mkdir -p /etc/postgresql-common
        echo 'create_main_cluster = false' | as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
    fi
    as_root apt-get update -qq
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
        -o Dpkg::Options::=--force-confold "${missing[@]}" >/dev/null
fi

# Real plug-ins that come in three standards. They are not installed: what is would be offered on every machine. One of
# them is laid out as a build of the demo's effect that is rendered in all three.
plugins=.plug-ins
if [ ! -e "$plugins/stamp" ]; then
    say "Fetching plug-ins"
    rm -rf "$plugins" && mkdir -p "$plugins"
    fetch() { (cd "$plugins" && apt-get download -qq zam-plugins >/dev/null 2>&1); }
    if fetch || { as_root apt-get update -qq && fetch; }; then
        dpkg-deb --fsys-tarfile "$plugins"/*.deb | tar -x -C "$plugins" --strip-components=3 ./usr/lib
        build=$plugins/builds/lantern/1.0.0
        for binary in "$plugins"/vst3/ZamEQ2.vst3/Contents/*/ZamEQ2.so; do
            inside=$build/lantern.vst3/Contents/$(basename "$(dirname "$binary")")
            mkdir -p "$inside"
            cp "$binary" "$inside/lantern.so"
        done
        cp "$plugins/clap/ZamEQ2.clap" "$build/lantern.clap"
        cp -r "$plugins/lv2/ZamEQ2.lv2" "$build/lantern.lv2"
        rm "$plugins"/*.deb
        touch "$plugins/stamp"
    else
        say "No plug-ins can be fetched: the demo has none in three standards, and their tests are skipped."
    fi
fi

python=''
for candidate in python3.11 /usr/bin/python3.11 python3; do
    if "$candidate" -c 'import sys, venv, ensurepip; sys.exit(sys.version_info[:2] != (3, 11))' 2>/dev/null; then
        python=$candidate
        break
    fi
done
[ -n "$python" ] || { say "Python 3.11 with venv is needed, and was not found." >&2; exit 1; }

# A step is done again only when what it depends on has changed.
fresh() { [ -e "$1" ] && [ "$(cat "$1")" = "$2" ]; }
digest() { cat "$@" | sha256sum | cut -d' ' -f1; }

# The page is built while Python's packages are installed and compiled.
build_page() {
    local want
    node_does() { "$1" -e 'const [a, b] = process.versions.node.split(".").map(Number);
        process.exit((a === 20 && b >= 19) || (a === 22 && b >= 12) || a > 22 ? 0 : 1)' 2>/dev/null; }
    if ! { node_does node && command -v npm >/dev/null; }; then
        want=$(digest requirements/node.txt)
        if ! fresh .node/stamp "$want"; then
            say "Installing Node.js"
            "$python" -m venv .node
            .node/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r requirements/node.txt
            echo "$want" >.node/stamp
        fi
        PATH="$PWD/.node/bin:$PATH"
        export PATH
    fi
    want=$(digest frontend/package-lock.json)
    if ! fresh frontend/node_modules/.stamp "$want"; then
        say "Installing npm packages"
        npm --prefix frontend ci --loglevel=error --no-audit --no-fund
        echo "$want" >frontend/node_modules/.stamp
    fi
    want=$(find frontend/src frontend/public frontend/index.html frontend/vite.config.ts frontend/package-lock.json \
        frontend/limits.mjs frontend/compress.mjs frontend/package.json docs/openapi.json -type f ! -name "*.gen.ts" |
        LC_ALL=C sort | xargs -d '\n' cat | sha256sum | cut -d' ' -f1)
    if ! fresh src/kind_echo/web/static/.stamp "$want"; then
        say "Building the page"
        npm --prefix frontend run --silent build
        echo "$want" >src/kind_echo/web/static/.stamp
    fi
}
build_page &
page=$!
trap 'kill $(jobs -p) 2>/dev/null || true' EXIT

[ -x .venv/bin/python ] || "$python" -m venv .venv
installed=''
install_packages() {
    local want
    want=$(digest "requirements/$1.txt")
    if ! fresh ".venv/$1.stamp" "$want"; then
        say "Installing Python packages ($1)"
        .venv/bin/python -m pip install -q --no-compile --disable-pip-version-check --require-hashes \
            -r "requirements/$1.txt"
        installed=yes
        echo "$want" >".venv/$1.stamp"
    fi
}
install_packages runtime
compile_project() {
    local want
    want=$(digest pyproject.toml setup.py src/kind_echo/core/compiled/*.p* src/kind_echo/standins/*.pyx requirements/runtime.txt)-$(uname -m)
    if ! fresh .venv/project.stamp "$want" || ! ls src/kind_echo/core/compiled/_loops.*.so src/kind_echo/standins/_loops.*.so >/dev/null 2>&1; then
        say "Compiling the loops over samples"
        .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
        echo "$want" >.venv/project.stamp
    fi
    # A program of the project's then begins half a second earlier.
    .venv/bin/python -m compileall -q src
}
compile_project &
project=$!
if [ "$kind" = dev ]; then install_packages dev; fi
# On all cores and without the packages' own tests; pip takes one core, and twice as long.
if [ -n "$installed" ]; then
    .venv/bin/python -m compileall -q -j 0 -x '[/\\]tests?[/\\]' .venv/lib/python3.*/site-packages
fi
wait "$project"
wait "$page"
if [ "$kind" = dev ]; then
    want=$(find docs/reference src/kind_echo -type f \( -name '*.py' -o -name '*.rst' \) | LC_ALL=C sort | xargs -d '\n' cat | sha256sum)
    if ! fresh src/kind_echo/reference/.stamp "$want"; then
        say "Building the reference"
        ops/reference.sh
        echo "$want" >src/kind_echo/reference/.stamp
    fi
fi
trap - EXIT
