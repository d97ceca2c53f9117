package store_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// fault is a change to the program that takes a safeguard away.
type fault struct {
	name, file, is, becomes string
}

// faults are put back in, one at a time, to see that the simulation finds them.
var faults = []fault{
	{"a writer that stood still commits", "sealed/claim.go", "func (l *Claim) Confirm(ctx context.Context) error {\n",
		"func (l *Claim) Confirm(ctx context.Context) error {\n\tif l.Mu != nil {\n\t\treturn nil\n\t}\n"},
	{"what is marked is relied on", "content/index.go", "func (p *File) Lasting() bool { return !p.PendingDelete && !p.Suspect }",
		"func (p *File) Lasting() bool { return !p.Suspect }"},
	{"what is marked is not looked at again", "upkeep/reclaim.go",
		"if r.needed[i] > 0 {\n\t\t\t\tr.out.Withdrawn++\n\t\t\t\tcontinue\n\t\t\t}", ""},
	{"reclaim does not wait for writers", "upkeep/reclaim.go", "\t\t\t\twaiting = true\n", ""},
	{"nothing is reclaimed while somebody has ended badly", "sealed/claim.go",
		"if most := i.Made.Add(2 * claimTime); !i.Made.IsZero() && e.Until.After(most) {",
		"if most := i.Made; false {"},
}

// TestTheSimulationFindsFaults takes one safeguard after the other away and sees that the
// simulation fails. It builds the tests anew for each, so it runs only when asked for
// (DEXAMEN_FAULTS, schedules for each).
func TestTheSimulationFindsFaults(t *testing.T) {
	schedules := os.Getenv("DEXAMEN_FAULTS")
	if schedules == "" {
		t.Skip("DEXAMEN_FAULTS=3000 runs it; make simulate does")
	}
	core, err := filepath.Abs("..")
	require.NoError(t, err)
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(core, f.file)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			require.Equal(t, 1, strings.Count(string(text), f.is), "the program has changed: %s", f.is)
			changed := filepath.Join(dir, filepath.Base(path))
			require.NoError(t, os.WriteFile(changed, []byte(strings.Replace(string(text), f.is, f.becomes, 1)), 0o600))
			raw, err := json.Marshal(map[string]any{"Replace": map[string]string{path: changed}})
			require.NoError(t, err)
			overlay := filepath.Join(dir, "overlay.json")
			require.NoError(t, os.WriteFile(overlay, raw, 0o600))
			cmd := exec.Command("go", "test", "-overlay", overlay, "-run", "^TestSimulation$", "-timeout", "20m", ".")
			cmd.Env = append(os.Environ(), "DEXAMEN_SCHEDULES="+schedules)
			out, err := cmd.CombinedOutput()
			require.Error(t, err, "nothing was found")
			require.Contains(t, string(out), "seed ", "%s", out)
			for line := range strings.Lines(string(out)) {
				if strings.Contains(line, "seed ") {
					t.Log(strings.TrimSpace(line))
					break
				}
			}
		})
	}
}
