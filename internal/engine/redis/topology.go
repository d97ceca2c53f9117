package redis

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Roles of members.
const (
	primary = "primary"
	replica = "replica"
)

// Engine implements [engine.Cluster].
func (c *cluster) Engine() string { return Name }

// Topology implements [engine.Cluster]. The depth of prefixes is part of the
// identity: a log captured with another one would not fit the points before it.
func (c *cluster) Topology(ctx context.Context) (*engine.Topology, error) {
	if err := c.discover(ctx); err != nil {
		return nil, c.fail(err)
	}
	t := &engine.Topology{Engine: Name, Kind: "primary with replicas", Settings: c.t.Settings, Exact: true}
	switch {
	case c.clustered:
		t.Kind, t.Identity = "redis cluster", "redis cluster"
	case c.sentinel != "":
		t.Kind, t.Identity = "primary with replicas and sentinels", "sentinel "+c.sentinel
	default:
		t.Identity = "redis"
	}
	t.Identity += fmt.Sprintf(", prefixes of depth %d", c.prefixes.Depth)
	list := c.list()
	t.Shards = make([]engine.Shard, len(list))
	lacks := make([][]engine.Limitation, len(list))
	errs := make([]error, len(list))
	var wg sync.WaitGroup
	for i, s := range list {
		wg.Go(func() {
			t.Shards[i] = engine.Shard{Name: s.name, Members: c.look(ctx, s)}
			t.Shards[i].Log, lacks[i], errs[i] = c.window(ctx, s)
		})
	}
	wg.Wait()
	for i := range list {
		if errs[i] != nil {
			return nil, c.fail(errs[i])
		}
		for _, l := range lacks[i] {
			if !slices.Contains(t.Limitations, l) {
				t.Limitations = append(t.Limitations, l)
			}
		}
		for _, m := range t.Shards[i].Members {
			if m.Version != "" && (t.Version == "" || m.Version < t.Version) {
				t.Version = m.Version
			}
		}
	}
	if len(list) == 1 && len(t.Shards[0].Members) == 1 && c.sentinel == "" && !c.clustered {
		t.Kind = "lone server"
	}
	t.Limitations = append(t.Limitations, engine.Limitation{What: "the servers keep no times of changes",
		Consequence: "a command is dated when it is captured: to the second while it is captured continuously, else " +
			"to the interval"})
	if t.Settings {
		t.Limitations = append(t.Limitations,
			engine.Limitation{What: "the log does not tell of users",
				Consequence: "they are known as of each snapshot"})
	}
	return t, nil
}

// look asks every member of a shard how it is.
func (c *cluster) look(ctx context.Context, s *shard) []engine.Member {
	addrs := c.membersOf(s)
	out := make([]engine.Member, len(addrs))
	offsets := make([]uint64, len(addrs))
	var wg sync.WaitGroup
	for i, addr := range addrs {
		wg.Go(func() { out[i], offsets[i] = c.lookAt(ctx, addr) })
	}
	wg.Wait()
	for i := range out {
		if out[i].Role == replica && offsets[0] > offsets[i] && out[0].Role == primary {
			note := fmt.Sprintf("%d bytes behind", offsets[0]-offsets[i])
			out[i].Note = strings.TrimPrefix(out[i].Note+"; "+note, "; ")
		}
	}
	return out
}

func (c *cluster) lookAt(ctx context.Context, addr string) (engine.Member, uint64) {
	m := engine.Member{Address: addr, Role: "unreachable"}
	in, err := c.info(ctx, addr)
	if err != nil {
		m.Note = err.Error()
		return m, 0
	}
	m.Version, m.Healthy, m.Role = in["redis_version"], true, primary
	if in["loading"] == "1" {
		m.Healthy, m.Note = false, "loading its content"
	}
	if in["role"] != "master" {
		m.Role = replica
		if in["master_link_status"] != "up" {
			m.Healthy, m.Note = false, "has lost its primary for "+in["master_link_down_since_seconds"]+" s"
		}
		if ago, err := strconv.Atoi(in["master_last_io_seconds_ago"]); err == nil && ago > 15 {
			m.Lag = time.Duration(ago) * time.Second
		}
	}
	return m, num(in["master_repl_offset"])
}

// window reports how much of its stream a shard's primary still has.
func (c *cluster) window(ctx context.Context, s *shard) (*engine.LogWindow, []engine.Limitation, error) {
	addr := c.membersOf(s)[0]
	in, err := c.info(ctx, addr)
	if err != nil {
		return nil, nil, err
	}
	history, err := historyOf(in["master_replid"])
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", addr, err)
	}
	at := place{epoch: c.epochOf(s), offset: num(in["master_repl_offset"]), history: history}
	last := at
	last.db = unknownDB // no point of this offset is after it
	w := &engine.LogWindow{Marked: true, Last: record.Mark{Position: last.position(), Wall: time.Now()},
		Size: int64(num(in["repl_backlog_histlen"])), Max: int64(num(in["repl_backlog_size"]))}
	first := at
	var lacks []engine.Limitation
	if in["repl_backlog_active"] == "1" {
		first.offset = num(in["repl_backlog_first_byte_offset"]) - 1
	} else {
		lacks = append(lacks, engine.Limitation{What: "the server has kept no replication backlog yet",
			Consequence: "it does from the first snapshot on, for as long as repl-backlog-ttl allows without a " +
				"replica; continuous capture keeps it going"})
	}
	w.First = record.Mark{Position: first.position()}
	if _, needs := in["min_slaves_good_slaves"]; needs && in["role"] == "master" && len(c.membersOf(s)) == 1 {
		lacks = append(lacks, engine.Limitation{
			What: "the server refuses writes without replicas (min-replicas-to-write), and has none",
			Consequence: "it counts whoever follows its log as one: while a capture goes on it takes writes that " +
				"nobody else has; let it have a replica"})
	}
	if w.Max > 0 && w.Max < 16<<20 {
		lacks = append(lacks, engine.Limitation{
			What:        fmt.Sprintf("the replication backlog is %d KiB (repl-backlog-size)", w.Max>>10),
			Consequence: "a capture that is away while more than that is written finds a gap; 64mb or more is common"})
	}
	if in["role"] == "master" && num(in["used_memory_dataset"]) > 1<<20 {
		cfg, err := ask(ctx, func(ctx context.Context) (map[string]string, error) {
			return c.client(addr).ConfigGet(ctx, "repl-diskless-sync").Result()
		})
		if err == nil && cfg["repl-diskless-sync"] == "no" {
			lacks = append(lacks, engine.Limitation{
				What:        "servers send their content by way of a file (repl-diskless-sync no)",
				Consequence: "a snapshot writes and reads that file on the server"})
		}
	}
	return w, lacks, nil
}

func (c *cluster) epochOf(s *shard) uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return s.epoch
}

// Choose implements [engine.Cluster].
func (c *cluster) Choose(ctx context.Context, name string) (engine.Choice, error) {
	s, err := c.shard(name)
	if err != nil {
		return engine.Choice{}, err
	}
	choice, err := engine.Pick(c.t, name, c.look(ctx, s), primary, replica)
	if err != nil {
		// The members may be others by now.
		if derr := c.discover(ctx); derr == nil {
			choice, err = engine.Pick(c.t, name, c.look(ctx, s), primary, replica)
		}
	}
	if err != nil {
		return choice, c.fail(fmt.Errorf("shard %s: %w", name, err))
	}
	c.mu.Lock()
	s.chosen = choice.Member.Address
	c.mu.Unlock()
	return choice, nil
}

// LogEnd implements [engine.Logged]: what the primary has written. Redis knows no
// majority; what a failover loses is found out, and told as a gap.
func (c *cluster) LogEnd(ctx context.Context, name string) (record.Mark, error) {
	s, err := c.shard(name)
	if err != nil {
		return record.Mark{}, err
	}
	in, err := c.info(ctx, c.membersOf(s)[0])
	if err == nil && in["role"] != "master" {
		if err = c.discover(ctx); err == nil {
			in, err = c.info(ctx, c.membersOf(s)[0])
		}
	}
	if err != nil {
		return record.Mark{}, c.fail(err)
	}
	history, err := historyOf(in["master_replid"])
	p := place{epoch: c.epochOf(s), offset: num(in["master_repl_offset"]), history: history, db: 1}
	for k := range in {
		if strings.HasPrefix(k, "db") && k != "db0" && num(k[2:]) > 0 {
			p.db = 0 // several are in use: which the stream is at is not known
		}
	}
	return record.Mark{Position: p.position(), Wall: time.Now()}, err
}

// LogStart implements [engine.Logged].
func (c *cluster) LogStart(ctx context.Context, name string) (record.Mark, error) {
	return c.LogEnd(ctx, name)
}

// LogMember implements [engine.Logged].
func (c *cluster) LogMember(name string) string {
	s, err := c.shard(name)
	if err != nil {
		return ""
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case s.logged != "":
		return s.logged
	case s.chosen != "":
		return s.chosen
	}
	return s.members[0]
}
