#!/bin/sh
# What a release needs: sources of which a wheel is built that holds all it should, installed alone into a bare
# environment, and at work there.
set -eu
cd "$(dirname "$0")/.."
own=$(mktemp -d)
trap 'rm -rf "$own" build' EXIT

.venv/bin/python - "$own" <<'SOURCES'
import sys
import tarfile

from setuptools import build_meta

folder = sys.argv[1]  # the builder has arguments of its own there
name = build_meta.build_sdist(folder)
with tarfile.open(f"{folder}/{name}") as held:
    names = {one.partition("/")[2] for one in held.getnames()}
if missing := {"pyproject.toml", "README.md", "docs/kanaleto.1", "src/kanaleto/demo/site/alder-lock.toml"} - names:
    sys.exit(f"the sources lack {', '.join(sorted(missing))}")
print(f"{name} holds {len(names)} files")
SOURCES
.venv/bin/python -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir "$own" "$own"/kanaleto-*.tar.gz
wheel=$(ls "$own"/kanaleto-*.whl)
.venv/bin/python - "$wheel" <<'CHECK'
import sys
import zipfile
from pathlib import Path

held = set(zipfile.ZipFile(sys.argv[1]).namelist())
wanted = {
    str(path.relative_to("src"))
    for path in Path("src/kanaleto").rglob("*")
    if path.is_file() and path.suffix not in (".pyc",) and "__pycache__" not in path.parts
}
if missing := sorted(wanted - held):
    sys.exit(f"the wheel lacks {', '.join(missing)}")
print(f"the wheel holds all {len(wanted)} files")
CHECK

python3=$(readlink -f .venv/bin/python)
"$python3" -m venv "$own/bare"
"$own/bare/bin/python" -m pip install --quiet --disable-pip-version-check "$wheel"
cd "$own"
version=$(bare/bin/kanaleto --version)
echo "$version"
case "$wheel" in *"-${version##* }-"*) ;; *) echo "its version is not that of $wheel"; exit 1 ;; esac
test -s bare/share/man/man1/kanaleto.1 || { echo "the wheel brings no page for man"; exit 1; }
bare/bin/kanaleto explain 11 03 00 6B 00 03 76 87 >/dev/null
bare/bin/kanaleto demo --headless --for 5
echo "the wheel works in a bare environment"
