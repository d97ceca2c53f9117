package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	urfave "github.com/urfave/cli/v3"

	"dexamen/internal/cli"
)

// TestReferenceIsCurrent holds the pages that list commands and the configuration to what the program says
// itself (DEXAMEN_UPDATE=1 writes them anew).
func TestReferenceIsCurrent(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("# Commands\n\nWhat `--help` says, of every command; made from that.\n\n```text\n")
	help := func(words ...string) string {
		out, err := exec.Command(binary, append(words, "--help")...).CombinedOutput()
		require.NoError(t, err, "%v: %s", words, out)
		text, _, _ := strings.Cut(string(out), "\nGLOBAL OPTIONS:")
		return strings.TrimSpace(text) + "\n"
	}
	whole, err := exec.Command(binary, "--help").CombinedOutput()
	require.NoError(t, err)
	before, version, _ := strings.Cut(string(whole), "\nVERSION:\n")
	_, after, _ := strings.Cut(version, "\n\n")
	b.WriteString(strings.TrimSpace(before+"\n"+after) + "\n```\n")
	n := 0
	var walk func(c *urfave.Command, words []string)
	walk = func(c *urfave.Command, words []string) {
		for _, sub := range c.Commands {
			if sub.Hidden || sub.Name == "help" {
				continue
			}
			n++
			path := append(append([]string{}, words...), sub.Name)
			fmt.Fprintf(&b, "\n## dexamen %s\n\n```text\n%s```\n", strings.Join(path, " "), help(path...))
			walk(sub, path)
		}
	}
	walk(cli.Root(), nil)
	require.Greater(t, n, 50)
	isCurrent(t, "../../docs/reference/commands.md", b.String())

	sample, err := exec.Command(binary, "config", "sample").Output()
	require.NoError(t, err)
	isCurrent(t, "../../docs/reference/configuration.md", "# Configuration\n\n"+
		"What `dexamen config sample` prints: everything "+
		"that can be said, with what holds where it is left out. Found in this order: `--config`, `DEXAMEN_CONFIG`, "+
		"`./dexamen.yaml`, the user's, the system's.\n\n```yaml\n"+strings.TrimSpace(string(sample))+"\n```\n")
}

func isCurrent(t *testing.T, page, want string) {
	t.Helper()
	if os.Getenv("DEXAMEN_UPDATE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(want), 0o600))
	}
	is, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, want, string(is), "%s is not what the program says; DEXAMEN_UPDATE=1 writes it anew", page)
}
