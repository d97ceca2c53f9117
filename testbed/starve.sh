#!/usr/bin/env bash
# Runs a command as on a machine that has little left for it: on one processor,
# niced, beside busy loops, and stopped for 2.2 s out of every few.
set -u
loops=()
for _ in $(seq "${LOOPS:-2}"); do
  (while :; do :; done) &
  loops+=($!)
done
export GOMAXPROCS=1
nice -n 10 setsid "$@" &
work=$!
(
  while sleep $((4 + RANDOM % 4)); do
    kill -STOP -- "-$work" 2> /dev/null || exit 0
    sleep 2.2
    kill -CONT -- "-$work" 2> /dev/null || exit 0
  done
) &
stops=$!
wait "$work"
code=$?
kill "${loops[@]}" "$stops" 2> /dev/null
exit $code
