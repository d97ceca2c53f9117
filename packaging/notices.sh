#!/usr/bin/env bash
# Prints the licences of all modules that the program is linked from.
set -euo pipefail
echo "Dexamen is linked from the following modules. Their licences:"
go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}' ./cmd/dexamen | sort -u |
  while read -r path version dir; do
    printf '\n================================================================\n%s %s\n\n' "$path" "$version"
    found=no
    while read -r f; do cat "$f"; found=yes; done < <(find "$dir" -maxdepth 1 -type f \
      \( -iname 'licen[cs]e*' -o -iname 'copying*' -o -iname 'notice*' -o -iname 'unlicense*' \) | sort)
    [ $found = yes ] || { echo "no licence file in $path" >&2; exit 1; }
  done
