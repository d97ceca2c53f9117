package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// nextStep is how an error says what to do: something to type, to write, or to look at.
var nextStep = regexp.MustCompile("near it|write|see:|see that|dexamen |--[a-z]|\\b(use|give|say) |such as|" +
	"for example|check |has [a-z]+, |configured are|take |make |put |begin |name |is needed|as " +
	"in|nearest|it holds|known are")

// TestMistakes types what somebody in a hurry types: each line is refused with the code for it, in a few
// lines that say what to do next, and changes nothing. What comes back is kept in
// testdata/mistakes.golden (DEXAMEN_UPDATE=1 writes it anew).
func TestMistakes(t *testing.T) {
	t.Parallel()
	s := newSite(t, 300)
	s.configure("  paddock: { address: \"mongodb://127.0.0.1:1/\", unprotected: true }\n")
	s.run(0, "store", "create", "larder")
	s.run(0, "snapshot", "meadow")
	points, _ := s.run(0, "points")
	text, err := os.ReadFile("testdata/mistakes.lines")
	require.NoError(t, err)
	var lines []string
	for l := range strings.SplitSeq(strings.TrimSpace(string(text)), "\n") {
		if !strings.HasPrefix(l, "#") {
			lines = append(lines, l)
		}
	}
	said := make([]string, len(lines))
	slots := make(chan struct{}, 4)
	var group sync.WaitGroup
	for i, l := range lines {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			cmd := s.command(append([]string{"--no-color"}, strings.Fields(l)...)...)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			timer := time.AfterFunc(30*time.Second, func() { _ = cmd.Process.Kill() })
			_ = cmd.Run()
			timer.Stop()
			said[i] = fmt.Sprintf("$ dexamen %s\n%s[%d]\n", l, out.String(), cmd.ProcessState.ExitCode())
		})
	}
	group.Wait()
	hide := []struct{ what, with string }{
		{regexp.QuoteMeta(s.dir), "DIR"}, {fmt.Sprint(s.port), "PORT"}, {fmt.Sprint(s.port + 1), "PORT"},
		{fmt.Sprint(s.port + 2), "PORT"}, {`\d{8}-\d{6}-[a-z0-9]{4}`, "POINT"},
		{`\d{4}-\d\d-\d\dT[\d:.]+(Z|[+-]\d\d:\d\d)`, "TIME"}, {`\d{4}-\d\d-\d\d [\d:.]+ [+-]\d\d:\d\d`, "TIME"},
		{`\b[\d.]+(ms|µs|s)\b`, "LONG"}, {`\b[\d.]+ (KiB|MiB|B)( a second)?`, "SIZE"}, {`age1\w+`, "KEY"},
		{`\b[0-9a-f]{12,}\b`, "HEX"}, {`\(secondary|primary, preferred: [a-z]+\)`, "(MEMBER)"},
	}
	for i, l := range lines {
		assert.NotRegexp(t, `\[(0|-1)\]\n$`, said[i], "it is taken for right, or hangs")
		assert.NotContains(t, said[i], "panic")
		assert.NotContains(t, said[i], "%!")
		assert.NotContains(t, said[i], "made up")
		body := said[i][len("$ dexamen ")+len(l):]
		assert.Regexp(t, nextStep, body, "%s says nothing to do next", l)
		assert.LessOrEqual(t, strings.Count(body, "\n"), 14, "too much to read in a hurry: %s", said[i])
		for _, h := range hide {
			said[i] = regexp.MustCompile(h.what).ReplaceAllString(said[i], h.with)
		}
	}
	golden := filepath.Join("testdata", "mistakes.golden")
	if os.Getenv("DEXAMEN_UPDATE") != "" {
		require.NoError(t, os.WriteFile(golden, []byte(strings.Join(said, "")), 0o600))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	for i, part := range strings.SplitAfter(string(want), "]\n$ ") {
		part = strings.TrimSuffix(part, "$ ")
		if i > 0 {
			part = "$ " + part
		}
		if i < len(said) {
			require.Equal(t, part, said[i])
		}
	}
	now, _ := s.run(0, "points")
	require.Equal(t, points, now, "nothing was done")
}
