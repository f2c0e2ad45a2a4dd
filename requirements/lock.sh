#!/usr/bin/env bash
# Renew the lock files. They carry hashes and name no package index, so that any mirror serves them.
set -euo pipefail
cd "$(dirname "$0")"
for name in runtime dev node; do
    PIP_FIND_LINKS='' ../.venv/bin/pip-compile --quiet --upgrade --generate-hashes --allow-unsafe --strip-extras \
        --no-header --no-emit-index-url --no-emit-find-links --no-emit-trusted-host --no-emit-options \
        --output-file "$name.txt" "$name.in"
done
