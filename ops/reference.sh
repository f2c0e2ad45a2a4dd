#!/usr/bin/env bash
# Make the reference of the Python interface from its docstrings, into the package, which carries it. Usage: ops/reference.sh
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/sphinx-build -q -W -a -E -d build/reference -b html docs/reference src/kind_echo/reference
rm -rf src/kind_echo/reference/{objects.inv,.buildinfo,_sources}
