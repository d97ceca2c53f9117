package redis

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// writeRules are what a login needs to restore, beyond what it needs to protect.
var writeRules = []string{"+@write", "+@transaction", "+@scripting", "+swapdb", "+function", "+object", "+asking"}

// Grants implements [engine.Granter], as the command that makes the login. Each server, replicas
// too, keeps logins of its own.
func (Driver) Grants(t engine.Target, restore bool) string {
	user := cmp.Or(t.User, "dexamen")
	rules := []string{"on", ">SECRET", "~*", "+@read", "+ping", "+hello", "+auth", "+select", "+info", "+role",
		"+psync", "+time",
		"+replconf", "+config|get", "+client|setname", "+cluster|slots", "+cluster|shards",
		"+cluster|nodes", "+cluster|myid", "+cluster|info", "+readonly", "+wait"}
	if t.Settings {
		rules = append(rules, "+function|list", "+function|dump", "+acl|list", "+acl|getuser")
	}
	if restore {
		rules = append(rules, writeRules...)
		if t.Settings {
			rules = append(rules, "+acl|setuser", "+acl|deluser", "+acl|save", "+config|rewrite")
		}
	}
	return fmt.Sprintf("# On each server, replicas too; SECRET is the password. Keep it with ACL SAVE or "+
		"CONFIG REWRITE.\n"+
		"ACL SETUSER %s %s\n", user, strings.Join(rules, " "))
}

// Certificates implements [engine.CertificateLister]: of the servers that the address names.
func (Driver) Certificates(ctx context.Context, t engine.Target) ([]engine.Certificate, error) {
	c := &cluster{t: t}
	c.t.TLS.On = false // nothing is verified here
	c.t.Address = strings.Replace(t.Address, "rediss", "redis", 1)
	if err := c.parse(); err != nil {
		return nil, err
	}
	return engine.CertificatesOf(ctx, t.TLS, c.hosts)
}

// ProbeLog implements [engine.LogProber]. In which database the stream goes on does not matter
// here, as nothing of it is kept; without a point it is not known.
func (c *cluster) ProbeLog(ctx context.Context, name string, from record.Position) (note string, err error) {
	p, ok := placeOf(from)
	if !ok {
		return "", fmt.Errorf("cluster %s: %q is no log position of a Redis shard", c.t.Name, from.Hex())
	}
	s, err := c.shard(name)
	if err != nil {
		return "", err
	}
	addr := c.membersOf(s)[0]
	in, err := c.info(ctx, addr)
	if err != nil {
		return "", c.fail(err)
	}
	if in["repl_backlog_active"] != "1" {
		// To ask for the stream would be to ask for everything.
		l, err := c.dial(ctx, addr)
		if err != nil {
			return "", c.fail(err)
		}
		return "a reader may connect; the server keeps its log from the first snapshot on, so it is not tried yet",
			l.Close()
	}
	if p.db == 0 || p.db == unknownDB {
		p.db = 1
	}
	return "", c.Follow(ctx, name, p.position(), func([]record.Change, engine.Progress) error {
		return engine.ErrStopFollowing
	})
}

var (
	_ engine.Granter           = Driver{}
	_ engine.CertificateLister = Driver{}
	_ engine.LogProber         = (*cluster)(nil)
)
