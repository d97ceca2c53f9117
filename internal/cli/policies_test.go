package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/redis/redistest"
)

// say is run with all that was printed.
func (s *site) say(want int, args ...string) string {
	s.t.Helper()
	out, errs := s.run(want, args...)
	return out + errs
}

// TestPolicies drives policies as an administrator does: look at one, have it
// carried out by cron and by a daemon that is killed, see what was done, hold a
// point, retire the others.
func TestPolicies(t *testing.T) {
	s := newSite(t, 500)
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	write := func(policy string) {
		require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(text, []byte("policies:\n  nightly:\n    "+
			"clusters: [meadow]\n    namespaces: [\"apiary.*\", \"not apiary.harvests*\"]\n"+policy)...), 0o600))
	}
	write("    snapshot: every 24h\n    capture: 1h\n    keep: { every_moment: 7d, thin: [daily for 2d], " +
		"never_more: 30 }\n")
	s.say(0, "store", "create", "larder")
	out := s.say(0, "policy", "preview")
	require.Contains(t, out, "there is no point yet; due now")
	require.Regexp(t, `apiary\.harvests +\d+ +\S+ KiB +left out`, out)
	require.Regexp(t, `about \d+ points once it has run for long`, out)
	require.Contains(t, s.say(0, "policy", "list"), "no policy protects gone, wrong")
	require.Contains(t, s.say(0, "due"), "now (")

	out = s.say(0, "due", "--run")
	require.Contains(t, out, "snapshot")
	require.Contains(t, out, "done")
	require.Contains(t, s.say(0, "due", "--run"), "nothing is due")
	require.NotContains(t, s.say(0, "browse", "meadow@latest"), "harvests", "what is left out is not in it")
	var points []struct{ ID string }
	s.json(&points, "points", "meadow")
	require.Len(t, points, 1)
	first := points[0].ID

	// By hand the same scope counts, and every run is in the history.
	for range 4 {
		s.say(0, "snapshot", "meadow")
	}
	require.NotContains(t, s.say(0, "browse", "meadow@latest"), "harvests")
	require.Contains(t, s.say(2, "hold", "meadow@"+first, "--until", "90d"), "say until when and why")
	require.Contains(t, s.say(0, "hold", "meadow@"+first, "--until", "90d", "--why", "the auditors look at it"),
		"is held until")
	require.Contains(t, s.say(0, "points", "meadow"), "the auditors look at it")

	// The rule as it is keeps all of the last week; without that promise the
	// held one and the newest stay.
	require.Contains(t, s.say(0, "retention"), "none goes")
	write("    snapshot: every 24h\n    keep: { never_fewer: 1 }\n    retention: every 8760h\n")
	out = s.say(0, "retention")
	require.Contains(t, out, "3 go")
	require.Contains(t, out, "held until")
	require.Contains(t, out, "no rule keeps it")
	require.Contains(t, s.say(5, "retention", "--apply"), "say --yes")
	said := s.say(0, "retention", "--apply", "--yes")
	require.Contains(t, said, "3 points removed")
	require.Regexp(t, `see: dexamen runs show \S+\n`, said)
	s.json(&points, "points", "meadow")
	require.Len(t, points, 2)
	require.Equal(t, first, points[0].ID)
	s.say(0, "hold", "meadow@"+first, "--lift")
	require.Contains(t, s.say(2, "hold", "meadow@"+first, "--lift"), "is not held")
	require.Contains(t, s.say(0, "retention", "--apply", "--yes"), "1 point removed")

	// What went comes back, whole, and is held.
	require.Contains(t, s.say(0, "retention", "meadow"), "--bring-back POINT")
	require.Contains(t, s.say(5, "retention", "meadow", "--bring-back", "20200101-000000-aaaa"), "can be brought back")
	require.Contains(t, s.say(2, "retention", "--bring-back", first), "name the cluster")
	out = s.say(0, "retention", "meadow", "--bring-back", first)
	require.Contains(t, out, "a point is there again: "+first)
	require.Contains(t, out, "held until")
	s.say(0, "verify", "meadow@"+first)
	require.NotContains(t, s.say(0, "retention", "meadow", "--apply", "--yes"), "point removed")
	s.json(&points, "points", "meadow")
	require.Len(t, points, 2)
	require.Contains(t, s.say(2, "store", "reclaim", "larder", "--grace", "5m"), "is not safe")

	s.say(0, "verify", "meadow@latest")
	s.say(1, "snapshot", "gone")
	out = s.say(0, "runs", "--worst-first")
	lines := strings.Split(out, "\n")
	require.Contains(t, lines[1], "gone")
	require.Contains(t, lines[1], "failed")
	require.NotContains(t, s.say(0, "runs", "--failed"), "meadow")
	var runs []struct{ ID, Kind string }
	s.json(&runs, "runs", "meadow", "--kind", "retention")
	require.Len(t, runs, 4, "one by cron, three by hand")
	require.Contains(t, s.say(0, "runs", "show", runs[2].ID), "no rule keeps it")
	require.Contains(t, s.say(2, "runs", "show", "nonesuch"), "no run is called")

	write("    snapshot: \"61 1 * * *\"\n")
	require.Contains(t, s.say(2, "config", "check"), "dexamen.yaml:")
	require.Contains(t, s.say(2, "daemon"), "61")
}

// TestADaemonIsKilled: what it was doing is told as broken off, the hook after it
// runs all the same, and the next daemon does what is due; SIGTERM ends that one
// cleanly, and SIGHUP and a broken file leave it at work.
func TestADaemonIsKilled(t *testing.T) {
	s := newSite(t, 500)
	text, err := os.ReadFile(s.path("dexamen.yaml"))
	require.NoError(t, err)
	policy := fmt.Sprintf(`policies:
  nightly:
    clusters: [meadow]
    snapshot: every 1h
    capture: continuous
    flush: 1s
    retry: { first: 1s }
    hooks:
      - { before: snapshot, run: [/bin/sh, -c, "test -f %[1]s || sleep 30"] }
      - { after: snapshot, run: [/bin/sh, -c, "echo $DEXAMEN_RESULT >> %[2]s"] }
`, s.path("ready"), s.path("after"))
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(text, policy...), 0o600))
	s.say(0, "store", "create", "larder")
	log, err := os.OpenFile(s.path("said"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	require.NoError(t, err)
	defer log.Close()
	said := func() string {
		text, err := os.ReadFile(log.Name())
		require.NoError(t, err)
		return string(text)
	}
	daemon := func() *exec.Cmd {
		cmd := s.command("daemon")
		cmd.Stdout, cmd.Stderr = nil, log
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd
	}
	captured := regexp.MustCompile("capture +meadow")
	runs := func() string { return s.say(0, "runs", "--all") }
	d := daemon()
	require.Eventually(t, func() bool { return strings.Contains(runs(), "going on") }, time.Minute,
		100*time.Millisecond)
	require.NoError(t, d.Process.Kill())
	_ = d.Wait()
	require.Contains(t, runs(), "died")
	_, err = os.ReadFile(s.path("after"))
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(s.path("ready"), nil, 0o600))

	d, second := daemon(), daemon()
	require.Eventually(t, func() bool { return captured.MatchString(runs()) }, time.Minute, 100*time.Millisecond,
		"the log is followed")
	after, err := os.ReadFile(s.path("after"))
	require.NoError(t, err)
	require.Equal(t, "died\ndone\n", string(after), "once each, with two daemons")
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), []byte("nonsense: true\n"), 0o600))
	require.NoError(t, d.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(said(), "the new configuration is refused") },
		time.Minute, 50*time.Millisecond)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"), append(text, policy...), 0o600))
	for _, cmd := range []*exec.Cmd{d, second} {
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		require.NoError(t, cmd.Wait(), "%s", said())
	}
	require.Regexp(t, `capture +meadow .*interrupted`, runs())
	require.Contains(t, s.say(0, "daemon", "--unit"), "ExecReload=kill -HUP $MAINPID")
	require.Contains(t, s.say(0, "coverage"), "at the worst by policy nightly about 1s")
}

// TestARealLogIsProven: a real Redis server under a policy, another one on which
// its log is proven and moments between points are looked at.
func TestARealLogIsProven(t *testing.T) {
	t.Parallel()
	from, bench := redistest.Start(t), redistest.Start(t)
	cl := redistest.Client(t, from)
	s := &site{t: t, dir: t.TempDir()}
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		[]byte(fmt.Sprintf(`stores: { larder: { location: "file://%s", key: { file: %q } } }
clusters:
  bramble: { address: %q, options: { prefix_depth: 1 }, scratch: hedge }
  hedge: { address: %q }
policies:
  nightly: { clusters: ["*"], snapshot: every 1s, capture: 1s, keep: { every_moment: 7d } }
`, s.path("larder"), s.path("larder.key"), redistest.Address(from), redistest.Address(bench))), 0o600))
	s.say(0, "store", "create", "larder")
	for i := range 3 {
		require.NoError(t, cl.HSet(t.Context(), fmt.Sprint("stalls:", i), "wax", i).Err())
		said := s.say(0, "due", "--run")
		require.NotContains(t, said, "hedge", "it is not protected")
		time.Sleep(1100 * time.Millisecond)
	}
	require.GreaterOrEqual(t, strings.Count(s.say(0, "points", "bramble"), "proven"), 2, s.say(0, "points", "bramble"))
	require.NoError(t, cl.HSet(t.Context(), "stalls:9", "honey", 1).Err())
	s.say(0, "capture", "bramble")
	require.Contains(t, s.say(0, "browse", "bramble@latest/db0/stalls:"), "db0/stalls:        4")
	require.Contains(t, s.say(0, "verify", "bramble@latest", "--live", "bramble"), "equal")
	require.NoError(t, cl.HSet(t.Context(), "stalls:9", "honey", 2).Err())
	require.Contains(t, s.say(3, "verify", "bramble@latest", "--live", "bramble"), "changed")
	bench.Kill()
	require.Contains(t, s.say(1, "browse", "bramble@latest"), "no server answers")
}
