package internal

import (
	"encoding/json"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestImportArrows holds the shape of the program: imports run one way.
func TestImportArrows(t *testing.T) {
	verbs := []string{"run", "moment", "prepare", "snapshot", "capture", "restore", "verify", "pinpoint", "undo",
		"export", "serve", "account", "prove", "drill"}
	verbs = verbs[:len(verbs):len(verbs)]
	noInterface := []string{"go.mongodb.org/", "github.com/urfave/", "github.com/jedib0t/"}
	// What packages of each part may import: of this module, only these parts
	// (and their own); of others, none that begins so.
	rules := map[string]struct{ may, never []string }{
		"core": {[]string{"core"},
			[]string{"go.mongodb.org/", "github.com/urfave/", "github.com/redis/", "go.etcd.io/etcd",
				"github.com/jedib0t/", "github.com/vbauerster/"}},
		"command": {nil, noInterface},
		"engine": {[]string{"core", "engine", "servertest", "command"},
			[]string{"github.com/urfave/", "github.com/jedib0t/"}},
		"sim": {[]string{"docquery", "docwire"},
			[]string{"github.com/urfave/", "go.mongodb.org/mongo-driver/v2/mongo"}},
		"docquery": {nil, []string{"github.com/urfave/", "go.mongodb.org/mongo-driver/v2/mongo"}},
		"docwire":  {nil, []string{"github.com/urfave/", "go.mongodb.org/mongo-driver/v2/mongo"}},
		"demo":     {[]string{"core", "demo", "sim", "view"}, []string{"github.com/urfave/"}},
		"run":      {[]string{"core", "engine", "command"}, noInterface},
		"moment":   {[]string{"core", "engine", "run"}, noInterface},
		"prepare":  {[]string{"core", "engine", "run", "guard"}, noInterface},
		"snapshot": {[]string{"core", "engine", "run", "moment", "prepare"}, noInterface},
		"capture":  {[]string{"core", "engine", "run", "moment", "prepare"}, noInterface},
		"restore":  {[]string{"core", "engine", "run", "moment"}, noInterface},
		"verify":   {[]string{"core", "engine", "run", "moment", "restore"}, noInterface},
		"pinpoint": {[]string{"core", "engine", "run", "moment"}, noInterface},
		"prove": {[]string{"core", "engine", "run", "moment", "snapshot", "capture", "restore", "verify"},
			noInterface},
		"export": {[]string{"core", "engine", "run", "moment"}, noInterface},
		"serve": {[]string{"core", "engine", "run", "moment", "docquery", "docwire"},
			[]string{"go.mongodb.org/mongo-driver/v2/mongo", "github.com/urfave/", "github.com/jedib0t/"}},
		"undo":        {[]string{"core", "engine", "run", "moment", "capture", "snapshot", "restore"}, noInterface},
		"account":     {[]string{"core", "engine", "run"}, noInterface},
		"guided":      {[]string{"view"}, []string{"go.mongodb.org/", "github.com/urfave/"}},
		"notify":      {[]string{"core", "engine", "explain", "config"}, noInterface},
		"integration": {nil, nil},
		"explain":     {[]string{"core"}, noInterface},
		"pin":         {[]string{"core"}, noInterface},
		"report":      {[]string{"core"}, []string{"go.mongodb.org/", "github.com/urfave/", "github.com/jedib0t/"}},
		"evidence":    {[]string{"core", "pin"}, noInterface},
		"drill": {[]string{"core", "engine", "run", "moment", "restore", "serve", "verify", "command"},
			noInterface},
		"guard":      {[]string{"core", "engine"}, noInterface},
		"workers":    {[]string{"core", "servertest"}, noInterface},
		"config":     {[]string{"core", "engine", "command"}, []string{"go.mongodb.org/", "github.com/urfave/"}},
		"view":       {[]string{"core", "run", "explain"}, []string{"go.mongodb.org/", "github.com/urfave/"}},
		"servertest": {nil, []string{"github.com/urfave/"}},
		"daemon": {append(verbs, "core", "engine", "explain", "config", "notify", "report", "workers"),
			[]string{"go.mongodb.org/", "github.com/urfave/", "github.com/jedib0t/"}},
		"cli": {append(verbs, "core", "engine", "explain", "daemon", "config", "view", "sim", "demo", "guard", "pin",
			"notify", "guided", "evidence", "report", "workers"),
			nil},
	}
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	seen := map[string]bool{}
	for dec := json.NewDecoder(out); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		rel, ok := strings.CutPrefix(p.ImportPath, "dexamen/internal/")
		if !ok {
			continue
		}
		part, _, _ := strings.Cut(rel, "/")
		rule, ok := rules[part]
		require.True(t, ok, "no rule for %s", p.ImportPath)
		seen[part] = true
		for _, imp := range p.Imports {
			if to, ok := strings.CutPrefix(imp, "dexamen/internal/"); ok {
				to, _, _ = strings.Cut(to, "/")
				allowed := to == part
				for _, m := range rule.may {
					allowed = allowed || m == to
				}
				require.True(t, allowed, "%s imports %s", p.ImportPath, imp)
			}
			for _, n := range rule.never {
				require.False(t, strings.HasPrefix(imp, n), "%s imports %s", p.ImportPath, imp)
			}
			if part == "core" {
				require.NotContains(t, []string{"os/exec", "log", "log/slog"}, imp, p.ImportPath)
			}
		}
	}
	require.NoError(t, cmd.Wait())
	require.Len(t, seen, len(rules), "every part was looked at")
}
