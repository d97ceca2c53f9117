package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dexamen/internal/pin"
	"dexamen/internal/prove"
	"dexamen/internal/view"
)

// proved is what trying the assumptions on a cluster's servers showed, as this host keeps it: it holds for
// that cluster and for that version of its servers.
type proved struct {
	Cluster  string          `json:"cluster"`
	Identity string          `json:"identity"`
	Version  string          `json:"version"`
	At       time.Time       `json:"at"`
	Findings []prove.Finding `json:"findings"`
}

// provedFile returns where what was found of a cluster is kept; empty where this host has no place for it.
func provedFile(cluster string) string {
	state := pin.StateFolder()
	if state == "" {
		return ""
	}
	return filepath.Join(state, "proved", cluster+".json")
}

// keepProved keeps what was found; a host that cannot goes without.
func keepProved(p proved) {
	if file := provedFile(p.Cluster); file != "" {
		_ = pin.Save(file, p)
	}
}

// provedOf returns what was found of a cluster; nil where nothing was tried, or on another one of that name.
func provedOf(cluster, identity string) (*proved, error) {
	file := provedFile(cluster)
	if file == "" {
		return nil, nil
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	p := new(proved)
	if err == nil {
		err = json.Unmarshal(raw, p)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: what was found of the cluster cannot be read: %w; remove it, and try again with: "+
			"dexamen cluster check %s --prove", file, err, cluster)
	}
	if p.Identity != identity {
		return nil, nil
	}
	return p, nil
}

// provedBy returns whether what was tried on a cluster holds, by the trial, for servers of a version; nil where nothing
// was, or cannot be read, which is told where it is shown.
func provedBy(cluster, identity, version string) map[string]bool {
	p, err := provedOf(cluster, identity)
	if err != nil || p == nil || p.Version != version {
		return nil
	}
	out := map[string]bool{}
	for _, f := range p.Findings {
		if f.Verdict != prove.NotKnown {
			out[f.ID] = f.Verdict == prove.Holds
		}
	}
	return out
}

// showProved prints what was found of a cluster, and that it is to be tried again when its servers have
// changed.
func (a *app) showProved(p *proved, version string) {
	if p == nil {
		return
	}
	var fails []string
	for _, f := range p.Findings {
		if f.Verdict == prove.Fails {
			fails = append(fails, f.ID)
		}
	}
	s := a.screen
	text := fmt.Sprintf("of %d assumptions none was found not to hold", len(p.Findings))
	if len(fails) > 0 {
		text = s.Loss(fmt.Sprintf("%d of %d assumptions do not hold", len(fails), len(p.Findings))) + ": " +
			strings.Join(fails, ", ")
	}
	s.Line("\n  tried %s on version %s: %s", view.Time(p.At), p.Version, text)
	if p.Version != version {
		s.Line("  %s its servers have had another version since; try again: dexamen cluster check %s --prove",
			s.Loss("not known:"), p.Cluster)
	}
}
