package docsim

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Control is what can be done to a running cluster, by lines of text: to rehearse what happens to
// real ones.
type Control struct{ sets []*ReplicaSet }

// Control returns what can be done to the set.
func (rs *ReplicaSet) Control() *Control { return &Control{[]*ReplicaSet{rs}} }

// Control returns what can be done to the shards and the config servers.
func (c *Sharded) Control() *Control {
	sets := []*ReplicaSet{c.config}
	for _, n := range c.names {
		sets = append(sets, c.shards[n])
	}
	return &Control{sets}
}

// ControlHelp lists the lines that Do takes.
const ControlHelp = "stop MEMBER, start MEMBER, cut MEMBER, rejoin MEMBER, lose-log, members"

// ErrLine is returned for a line that is none of those in ControlHelp.
var ErrLine = errors.New("write one of")

// Do carries out a line, and returns what there is to say. A member is named by its address, or the
// end of it, such as its port.
func (c *Control) Do(line string) (string, error) {
	f := strings.Fields(line)
	if len(f) == 0 {
		return "", nil
	}
	switch {
	case f[0] == "members" && len(f) == 1:
		var out []string
		for _, rs := range c.sets {
			for i, m := range rs.members {
				rs.mu.Lock()
				is := "secondary"
				switch {
				case !m.up:
					is = "stopped"
				case m.alone != nil:
					is = "cut off"
				case rs.primary == i:
					is = "primary"
				}
				out = append(out, fmt.Sprintf("%s %s %s", rs.opt.Name, m.addr, is))
				rs.mu.Unlock()
			}
		}
		return strings.Join(out, "\n"), nil
	case f[0] == "lose-log" && len(f) == 1:
		for _, rs := range c.sets {
			rs.LoseLog()
		}
		return "all but the newest entry is forgotten", nil
	case slices.Contains([]string{"stop", "start", "cut", "rejoin"}, f[0]) && len(f) == 2:
		rs, i, err := c.member(f[1])
		if err != nil {
			return "", err
		}
		rs.mu.Lock()
		up, alone := rs.members[i].up, rs.members[i].alone != nil
		rs.mu.Unlock()
		switch {
		case f[0] == "start" && up, f[0] != "start" && !up:
			return "", fmt.Errorf("%s is %s already", rs.members[i].addr, map[bool]string{true: "up",
				false: "stopped"}[up])
		case f[0] == "rejoin" && !alone:
			return "", fmt.Errorf("%s is not cut off", rs.members[i].addr)
		case f[0] == "stop":
			rs.Kill(i)
		case f[0] == "start":
			err = rs.Restart(i)
		case f[0] == "cut":
			rs.CutOff(i)
		case f[0] == "rejoin":
			rs.Rejoin(i)
		}
		return f[0] + " " + rs.members[i].addr, err
	}
	return "", fmt.Errorf("%w: %s", ErrLine, ControlHelp)
}

// member finds one by the end of its address.
func (c *Control) member(name string) (*ReplicaSet, int, error) {
	for _, rs := range c.sets {
		for i, m := range rs.members {
			if strings.HasSuffix(m.addr, name) {
				return rs, i, nil
			}
		}
	}
	return nil, 0, fmt.Errorf("there is no member %s", name)
}

// LoseLog forgets all of the log but what somebody has still to apply, and the newest entry: as where it
// was too small for what was written.
func (rs *ReplicaSet) LoseLog() {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	was := rs.opt.LogBytes
	rs.opt.LogBytes = 0
	rs.settle()
	rs.opt.LogBytes = was
}
