package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
)

// inline is a command within a sentence.
var inline = regexp.MustCompile("`(dexamen [^`]*)`")

// documented returns the lines of the indented and the fenced blocks of a page, and what sentences say to
// type, with where they stand.
func documented(t *testing.T, file string) (lines map[int]string) {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	lines = map[int]string{}
	fenced, console, last := false, false, 0
	for i, line := range strings.Split(string(text), "\n") {
		if strings.HasPrefix(line, "```") {
			fenced, console = !fenced, strings.HasPrefix(line, "```console")
			continue
		}
		code, indented := strings.CutPrefix(line, "    ")
		if !fenced && !indented {
			for _, m := range inline.FindAllStringSubmatch(line, -1) {
				lines[i+1] += m[1] + "; "
			}
			last = 0
			continue
		}
		if fenced {
			typed := false
			if code, typed = strings.CutPrefix(line, "$ "); console && !typed {
				continue // what was printed
			}
		}
		if before, goes := strings.CutSuffix(lines[last], "\\"); last > 0 && goes {
			lines[last] = before + strings.TrimSpace(code)
			continue
		}
		lines[i+1], last = code, i+1
	}
	return lines
}

var (
	// anywhere is where dexamen is called: at the beginning, after a pipe, &&, $( and the like, or by cron.
	anywhere = regexp.MustCompile(`(?:^|[|&;(\x60]\s*|\b(?:sudo|then|do|while|if)\s+|\*\s+)dexamen\s+([^|&;)\x60#]*)`)
	quoted   = regexp.MustCompile(`'[^']*'|"[^"]*"`)
)

// TestDocumentedCommands: whatever a page says to type names commands and flags that are there.
func TestDocumentedCommands(t *testing.T) {
	t.Parallel()
	pages := allPages(t)
	root := Root()
	var global []string
	for _, f := range root.Flags {
		global = append(global, f.Names()...)
	}
	n := 0
	for _, page := range append(pages, "../../README.md", "../../CONTRIBUTING.md") {
		if filepath.Base(page) == "format.md" {
			continue // its texts are what keys are made from
		}
		for at, line := range documented(t, page) {
			for _, m := range anywhere.FindAllStringSubmatch(line, -1) {
				words := strings.Fields(quoted.ReplaceAllString(m[1], "X"))
				if len(words) == 0 || strings.HasPrefix(words[0], "@") || words[0] == "completion" {
					continue
				}
				n++
				checkLine(t, root, global, words, filepath.Base(page), at)
			}
		}
	}
	require.Greater(t, n, 90, "they were looked at")
}

func checkLine(t *testing.T, c *cli.Command, global, words []string, page string, at int) {
	t.Helper()
	for i := 0; i < len(words); i++ {
		w := words[i]
		if !strings.HasPrefix(w, "-") || w == "-" {
			if sub := c.Command(w); sub != nil {
				c = sub
			} else if len(c.Commands) > 1 && c.Name != "runs" && c.Name != "help" {
				t.Errorf("%s:%d: %s has no command %q", page, at, c.Name, w)
				return
			}
			continue
		}
		name, _, given := strings.Cut(strings.TrimLeft(w, "-"), "=")
		if regexp.MustCompile(`^\d`).MatchString(name) {
			continue // a distance back
		}
		known := slices.Contains(global, name) || name == "help" || name == "version"
		takes := false
		for _, f := range append(slices.Clone(c.Flags), Root().Flags...) {
			if slices.Contains(f.Names(), name) {
				known = true
				_, isBool := f.(*cli.BoolFlag)
				takes = !isBool
			}
		}
		if !known {
			t.Errorf("%s:%d: %s has no flag --%s", page, at, c.Name, name)
		}
		if takes && !given {
			i++ // its value
		}
	}
}

// allPages returns the pages below docs.
func allPages(t *testing.T) (pages []string) {
	require.NoError(t, filepath.WalkDir("../../docs", func(name string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(name, ".md") {
			pages = append(pages, name)
		}
		return err
	}))
	require.NotEmpty(t, pages)
	return pages
}

// TestLinksLead: what a page links to, within the project, is there.
func TestLinksLead(t *testing.T) {
	t.Parallel()
	link := regexp.MustCompile(`\]\(([^)#:]+)(?:#([\w-]+))?\)`)
	n := 0
	for _, page := range append(allPages(t), "../../README.md", "../../CONTRIBUTING.md", "../../SECURITY.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			n++
			to := filepath.Join(filepath.Dir(page), m[1])
			there, err := os.ReadFile(to)
			if info, serr := os.Stat(to); serr == nil && info.IsDir() {
				err = nil
			}
			require.NoError(t, err, page)
			if m[2] != "" {
				heading := strings.ReplaceAll(m[2], "-", "[ -]")
				require.Regexp(t, "(?im)^#+ "+heading+"$", string(there), "%s: %s", page, m[0])
			}
		}
	}
	require.Greater(t, n, 80)
}

// TestShellBlocksAreFenced: only what is fenced is run by the test of the pages.
func TestShellBlocksAreFenced(t *testing.T) {
	t.Parallel()
	shell := regexp.MustCompile(`^(    |\t)(\$ |dexamen |sudo |curl |etcdctl |redis-cli )`)
	for _, page := range allPages(t) {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, line := range strings.Split(string(text), "\n") {
			require.False(t, shell.MatchString(line), "%s:%d: %s: fence it with console, so that it is run", page, i+1,
				line)
		}
	}
}

// TestDocumentedConfiguration: what a page shows of a configuration is one, beside what it needs.
func TestDocumentedConfiguration(t *testing.T) {
	t.Parallel()
	pages := allPages(t)
	sections := regexp.MustCompile(`^(stores|clusters|quiesce|servers|policies|alerts|daemon|evidence|report|limits):`)
	n := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, part := range strings.Split("\n"+string(text), "\n```yaml")[1:] {
			_, block, _ := strings.Cut(part, "\n")
			block, _, _ = strings.Cut(block, "\n```")
			if !sections.MatchString(block) {
				continue
			}
			n++
			_, err := config.Parse([]byte(strings.ReplaceAll(block, ", …", "")), filepath.Base(page))
			if err != nil && strings.Contains(err.Error(), "unknown field") { // what else is wrong is not shown there
				t.Errorf("%s: %v\n%s", filepath.Base(page), err, block)
			}
		}
	}
	require.Greater(t, n, 4, "they were looked at")
}
