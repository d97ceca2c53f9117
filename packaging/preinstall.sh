#!/bin/sh
# The user under which the daemon runs.
set -e
getent group dexamen > /dev/null || groupadd --system dexamen
getent passwd dexamen > /dev/null ||
  useradd --system --gid dexamen --home-dir /var/lib/dexamen --shell /usr/sbin/nologin dexamen
