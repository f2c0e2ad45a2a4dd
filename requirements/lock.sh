#!/usr/bin/env bash
# Renew the lock files from the package's metadata. They carry hashes and name no package index, so that any mirror serves
# them. Usage: requirements/lock.sh [--upgrade]
set -euo pipefail
cd "$(dirname "$0")/.."
lock() {
    PIP_FIND_LINKS='' .venv/bin/pip-compile --quiet --generate-hashes --unsafe-package kind-echo --strip-extras \
        --no-header --no-emit-index-url --no-emit-find-links --no-emit-trusted-host --no-emit-options "$@"
}
lock "$@" --extra demo --build-deps-for editable --output-file requirements/runtime.txt pyproject.toml
lock "$@" --extra dev --build-deps-for editable --output-file requirements/dev.txt pyproject.toml
lock "$@" --output-file requirements/node.txt requirements/node.in
