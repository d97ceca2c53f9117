#!/usr/bin/env bash
# Prints the licences of all modules that the program is linked from.
set -euo pipefail
echo "Dexamen is linked from the following modules. Their licences:"
go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}' ./cmd/dexamen | sort -u |
  while read -r path version dir; do
    printf '\n================================================================\n%s %s\n\n' "$path" "$version"
    found=no
    for f in "$dir"/LICEN[CS]E* "$dir"/COPYING* "$dir"/NOTICE* "$dir"/UNLICENSE*; do
      [ -f "$f" ] && { cat "$f"; found=yes; }
    done
    [ $found = yes ] || { echo "no licence file in $path" >&2; exit 1; }
  done
