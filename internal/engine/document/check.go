package document

import (
	"context"
	"errors"
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/engine"
)

// probe is a question that the work asks a member, with what it is needed for.
type probe struct {
	what, db string
	cmd      bson.D
	// optional says what follows where it is refused; empty where nothing works
	// without it.
	optional string
}

func find(coll string) bson.D { return bson.D{{Key: "find", Value: coll}, {Key: "limit", Value: 1}} }

func (c *set) probes() []probe {
	if c.role == routers {
		return []probe{
			{"list databases", "admin", bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: true}}, ""},
			{"list shards", "admin", bson.D{{Key: "listShards", Value: 1}}, ""},
			{"find the config servers", "admin", bson.D{{Key: "getShardMap", Value: 1}}, ""},
			{"read where content is", "config", find("chunks"), ""},
		}
	}
	out := []probe{{"list databases", "admin",
		bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: true}}, ""}}
	if c.set == "" {
		return out
	}
	if c.caps.status {
		out = append(out,
			probe{"replication status", "admin", bson.D{{Key: "replSetGetStatus", Value: 1}}, ""},
			probe{"replication configuration", "admin", bson.D{{Key: "replSetGetConfig", Value: 1}},
				"hidden and delayed members are not known as such"},
			probe{"open transactions", "config", find("transactions"), ""})
	}
	if c.caps.log {
		out = append(out, probe{"read the log", "local", find("oplog.rs"), ""},
			probe{"size of the log", "local", bson.D{{Key: "collStats", Value: "oplog.rs"}},
				"how full the log is is not shown"})
	}
	if c.role == layout {
		for _, coll := range layoutCollections {
			out = append(out, probe{"read config." + coll, "config", find(coll), ""})
		}
	}
	if c.t.Settings && (c.role == alone || c.role == layout) {
		out = append(out, probe{"read users", "admin", find("system.users"), ""},
			probe{"read roles", "admin", find("system.roles"), ""})
	}
	return out
}

// Check implements [engine.Checker].
func (c *cluster) Check(ctx context.Context, report func(string, error, string)) {
	all := []*set{}
	if c.routers != nil {
		all = append(all, c.routers)
	}
	for _, name := range c.order {
		all = append(all, c.sets[name])
	}
	for _, s := range all {
		for _, addr := range s.hosts {
			m, _, err := s.member(ctx, addr)
			if err == nil && !m.Healthy {
				err = errors.New(m.Note)
			}
			where := addr
			if c.routers != nil {
				where = s.shardName() + " " + addr
				if s.role == routers {
					where = "router " + addr
				}
			}
			note := m.Role
			if m.Note != "" {
				note += ", " + m.Note
			}
			report("member "+where, err, note)
			if err != nil || m.Role == "arbiter" {
				continue
			}
			works := 0
			list := s.probes()
			for _, p := range list {
				_, err := s.ask(ctx, addr, p.db, p.cmd)
				switch {
				case err == nil:
					works++
				case p.optional != "":
					report("  "+p.what, nil, fmt.Sprintf("refused: %s (%v)", p.optional, err))
				default:
					report("  "+p.what, err, "")
				}
			}
			report("  privileges", nil, fmt.Sprintf("%d of %d tried work", works, len(list)))
			if m.Role == "primary" && s.gossip != nil {
				if err := s.note(ctx, addr); err != nil {
					report("  write a note to the log", nil,
						fmt.Sprintf("refused: a snapshot waits until an idle shard writes by itself, up to 10 s (%v)",
							err))
				} else {
					report("  write a note to the log", nil, "an idle shard holds nobody up")
				}
			}
		}
	}
}

var _ engine.Checker = (*cluster)(nil)
