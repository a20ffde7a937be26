#!/usr/bin/env bash
# Resolve the ranges of pyproject.toml to exact, hashed versions for every supported Python.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
python3 -m venv "$work/venv"
"$work/venv/bin/pip" install --quiet uv
# Without a shim for terminals of another system.
resolve() {
  "$work/venv/bin/uv" pip compile --quiet --universal --python-version 3.11 --generate-hashes --no-header --no-annotate \
    --no-emit-package colorama "$@"
}
resolve pyproject.toml -o requirements.lock
resolve --group build --group dev pyproject.toml -c requirements.lock -o requirements-dev.lock
