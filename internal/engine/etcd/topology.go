package etcd

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	pb "go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Roles of members.
const (
	leader   = "leader"
	follower = "follower"
	learner  = "learner"
)

// Engine implements [engine.Cluster].
func (c *cluster) Engine() string { return Name }

// Topology implements [engine.Cluster]. A prefix depth is part of the identity: a
// log captured with another one would not fit the points before it.
func (c *cluster) Topology(ctx context.Context) (*engine.Topology, error) {
	if err := c.refresh(ctx); err != nil {
		return nil, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	t := &engine.Topology{Engine: Name, Kind: "etcd cluster",
		Identity: fmt.Sprintf("%016x, prefixes of depth %d", c.id, c.prefixes.Depth), Settings: c.t.Settings,
		Exact: true, ID: fmt.Sprintf("%016x", c.id)}
	sh := engine.Shard{Name: c.shard()}
	list := c.list()
	members := make([]engine.Member, len(list))
	var wg sync.WaitGroup
	for i, m := range list {
		wg.Go(func() { members[i] = c.look(ctx, m) })
	}
	wg.Wait()
	sh.Members = members
	for _, m := range members {
		if m.Healthy && (t.Version == "" || m.Version < t.Version) {
			t.Version = m.Version
		}
	}
	w, err := c.window(ctx)
	if err != nil {
		return nil, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	sh.Log = w
	t.Shards = []engine.Shard{sh}
	t.Limitations = append(t.Limitations, engine.Limitation{What: "the servers keep no times of changes",
		Consequence: "a change is dated when it is captured: to the second while it is captured continuously, else " +
			"to the interval; revisions are exact (log:REVISION)"})
	if t.Settings {
		t.Limitations = append(t.Limitations,
			engine.Limitation{What: "the log does not tell of users and roles, and servers give out no passwords",
				Consequence: "they are known as of each snapshot; a user comes back without a password"})
	}
	return t, nil
}

func (c *cluster) shard() string { return fmt.Sprintf("%016x", c.id) }

func (c *cluster) list() []member {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.members)
}

// refresh asks anew who the members are, of any that answers.
func (c *cluster) refresh(ctx context.Context) error {
	var errs []error
	for _, m := range c.list() {
		cl, err := c.client(ctx, m.endpoint)
		if err == nil {
			var ans *clientv3.MemberListResponse
			ans, err = ask(ctx, func(ctx context.Context) (*clientv3.MemberListResponse, error) {
				return cl.MemberList(ctx)
			})
			if err == nil {
				c.mu.Lock()
				defer c.mu.Unlock()
				c.members = c.membersIn(ans.Members)
				return nil
			}
			err = c.explain(err, m.endpoint)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// ask bounds one question. The library does not keep to a context in all it does.
func ask[T any](ctx context.Context, fn func(context.Context) (T, error)) (T, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	type answer struct {
		v   T
		err error
	}
	answered := make(chan answer, 1)
	go func() {
		v, err := fn(ctx)
		answered <- answer{v, err}
	}()
	late := make(chan struct{})
	defer context.AfterFunc(ctx, func() {
		time.AfterFunc(time.Second, func() { close(late) })
	})()
	select {
	case a := <-answered:
		return a.v, a.err
	case <-late:
		var none T
		return none, ctx.Err()
	}
}

// look asks a member how it is.
func (c *cluster) look(ctx context.Context, m member) engine.Member {
	out := engine.Member{Address: hostOf(m.endpoint), Role: follower}
	if m.learner {
		out.Role = learner // it answers nothing but how it is
	}
	cl, err := c.client(ctx, m.endpoint)
	var st *clientv3.StatusResponse
	if err == nil {
		st, err = ask(ctx, func(ctx context.Context) (*clientv3.StatusResponse, error) {
			return cl.Status(ctx, m.endpoint)
		})
	}
	if err != nil {
		out.Role, out.Note = "unreachable", c.explain(err, m.endpoint).Error()
		return out
	}
	out.Version, out.Healthy = st.Version, true
	switch {
	case st.Header.ClusterId != c.id:
		out.Healthy, out.Note = false, fmt.Sprintf("belongs to another cluster, %016x", st.Header.ClusterId)
	case st.Leader == 0:
		out.Healthy, out.CutOff, out.Note = false, true, "knows no leader"
	case st.Leader == m.id:
		out.Role = leader
	}
	if len(st.Errors) > 0 {
		out.Note = strings.Join(append(st.Errors, out.Note), "; ")
	}
	if behind := int64(st.RaftIndex) - int64(st.RaftAppliedIndex); behind > 1000 {
		out.Note = fmt.Sprintf("%d entries not applied yet", behind)
	}
	return out
}

func hostOf(endpoint string) string {
	_, host, _ := strings.Cut(endpoint, "://")
	return host
}

// Choose implements [engine.Cluster]. A scan is exact whichever member is read,
// and a follower has the least to do.
func (c *cluster) Choose(ctx context.Context, _ string) (engine.Choice, error) {
	list := c.list()
	members := make([]engine.Member, len(list))
	var wg sync.WaitGroup
	for i, m := range list {
		wg.Go(func() { members[i] = c.look(ctx, m) })
	}
	wg.Wait()
	choice, err := engine.Pick(c.t, c.shard(), members, leader, follower)
	if err != nil {
		return choice, c.fail(err)
	}
	for i, m := range members {
		if m.Address == choice.Member.Address {
			c.mu.Lock()
			c.chosen = list[i].endpoint
			c.mu.Unlock()
		}
	}
	return choice, nil
}

// head returns the newest revision that a majority has, and a time at which it
// was that.
func (c *cluster) head(ctx context.Context) (record.Mark, error) {
	m, _, err := c.headAt(ctx)
	return m, err
}

// headAt returns also the time just before it was asked: every change made until
// then is of that revision or an earlier one.
func (c *cluster) headAt(ctx context.Context) (record.Mark, time.Time, error) {
	var before time.Time
	var ans *clientv3.GetResponse
	var err error
	for try := 0; ; try++ {
		var cl *clientv3.Client
		if cl, err = c.client(ctx, ""); err != nil {
			return record.Mark{}, before, err
		}
		before = time.Now()
		ans, err = ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
			return cl.Get(ctx, "\x00", clientv3.WithCountOnly())
		})
		if err == nil || try == 3 || ctx.Err() != nil || errors.Is(err, rpctypes.ErrPermissionDenied) {
			break
		}
		pause(ctx, 200*time.Millisecond)
	}
	if err != nil {
		return record.Mark{}, before, c.explain(err, "reading the newest revision")
	}
	if id := ans.Header.ClusterId; id != c.id {
		return record.Mark{}, before, fmt.Errorf("%w: its id is %016x, and was %016x", errOtherCluster, id, c.id)
	}
	return record.Mark{Position: c.at(ans.Header.Revision).position(), Wall: time.Now()}, before, nil
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// window finds how far back the servers' history reaches.
func (c *cluster) window(ctx context.Context) (*engine.LogWindow, error) {
	last, err := c.head(ctx)
	if err != nil {
		return nil, err
	}
	w := &engine.LogWindow{First: record.Mark{Position: c.at(1).position()}, Last: last}
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, err
	}
	_, err = ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
		return cl.Get(ctx, "\x00", clientv3.WithCountOnly(), clientv3.WithRev(1))
	})
	if err == nil || !errors.Is(c.explain(err, ""), engine.ErrStateGone) {
		return w, c.explain(err, "reading the oldest revision")
	}
	// Asked for all of it, a member answers with where it begins now.
	err = c.onMember(ctx, func(endpoint string) error {
		ctx, cancel := context.WithTimeout(ctx, askTime)
		defer cancel()
		return c.responses(ctx, endpoint, 1, true, func(r *pb.WatchResponse) error {
			if r.CompactRevision > 0 {
				w.First.Position = c.at(r.CompactRevision).position()
				return errStopped
			}
			return c.refusal(r, endpoint)
		})
	})
	if err != nil {
		return nil, c.explain(err, "asking for the oldest revision")
	}
	return w, nil
}
