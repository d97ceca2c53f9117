package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestJSONKeys holds one spelling of keys, and one word for each kind of time. Servers
// begin names of their own with an underscore.
func TestJSONKeys(t *testing.T) {
	snake := regexp.MustCompile(`^_?[a-z][a-z0-9]*(_[a-z0-9]+)*$`)
	other := map[string]string{"began": "started", "begun": "started", "ended": "finished", "made_at": "created",
		"when": "created, or what it is of", "why": "reason", "not": "differing, or a word for what is not",
		"more": "parity_pieces, or what there is more of", "alive": "process_started", "harm": "loses_data",
		"whole": "intact"}
	seen := 0
	each(t, ".", ".go", func(name string, text []byte) {
		if strings.HasSuffix(name, "_test.go") {
			return
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			field, ok := n.(*ast.Field)
			if !ok || field.Tag == nil {
				return true
			}
			key, _, _ := strings.Cut(reflect.StructTag(strings.Trim(field.Tag.Value, "`")).Get("json"), ",")
			if key == "" || key == "-" {
				return true
			}
			seen++
			require.Regexp(t, snake, key, name)
			require.Empty(t, other[key], "%s: json:%q", name, key)
			return true
		})
	})
	require.Greater(t, seen, 200)
}

// TestNoFormerWords looks for names that are no longer used, in what users read and
// in what is kept.
func TestNoFormerWords(t *testing.T) {
	former := regexp.MustCompile(`--(onto|present|failed-first|renew|share|mend|rescan|leases|lone|fill|fold)\b|` +
		`\b(unhold|keep_locked|space_for|at_once|auth_source|unlock:|notices:|rescan:|promise:|letGo|` +
		`DEXAMEN_WHEN|DEXAMEN_BEGAN|cellar|attic)\b|` +
		`dexamen (retire|unhold)\b|store (audit|probe)\b|rebuild-index|somebody else is at it|ended without a word|` +
		`"(packs|slots|leases|audits|condemned|witness|mended)/|what came of it\b`)
	here := regexp.MustCompile(`words_test\.go$`)
	seen := 0
	for _, root := range []string{".", "../docs", "../cmd", "../README.md", "../CONTRIBUTING.md", "../Makefile"} {
		each(t, root, "", func(name string, text []byte) {
			if here.MatchString(name) || strings.Contains(name, "testdata") || strings.HasSuffix(name, ".png") {
				return
			}
			seen++
			for i, line := range strings.Split(string(text), "\n") {
				require.Empty(t, former.FindString(line), "%s:%d: %s", name, i+1, line)
			}
		})
	}
	require.Greater(t, seen, 200)
}

// each calls fn with the files below a folder whose names end so.
func each(t *testing.T, root, suffix string, fn func(name string, text []byte)) {
	err := filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(name, suffix) {
			return err
		}
		text, err := os.ReadFile(name)
		if err == nil {
			fn(name, text)
		}
		return err
	})
	require.NoError(t, err)
}
