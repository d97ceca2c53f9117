package etcd

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/zeebo/blake3"
	pb "go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
	"google.golang.org/grpc"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Revisions say nothing about which history they are of: a data folder that was put
// back from an older copy, or a cluster that was made from a file, counts on from
// where that was. So what the last revision read did is kept with the position, and
// compared with what the servers say it did before anything is read on from it.

// errStopped ends reading a log where the caller has what it wants.
var errStopped = errors.New("enough")

// errOtherCluster is returned when the servers are another cluster's than those that
// were connected to.
var errOtherCluster = errors.New("another cluster is at the address")

// responses gives what a member says of its log from a revision on, until fn returns
// an error; [errStopped] ends it without one. It is a stream of its own, which ends
// when the connection does: the library's would go on at whatever is there then.
//
// Pieces has what is large come in pieces.
func (c *cluster) responses(ctx context.Context, endpoint string, from int64, pieces bool,
	fn func(*pb.WatchResponse) error) error {
	cl, err := c.client(ctx, endpoint)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(clientv3.WithRequireLeader(ctx))
	defer cancel()
	ask := &pb.WatchRequest{RequestUnion: &pb.WatchRequest_CreateRequest{CreateRequest: &pb.WatchCreateRequest{
		Key: []byte{0}, RangeEnd: []byte{0}, StartRevision: from, Fragment: pieces}}}
	answers := make(chan *pb.WatchResponse)
	ended := make(chan error, 1)
	go func() {
		ended <- func() error {
			s, err := pb.NewWatchClient(cl.ActiveConnection()).Watch(ctx, grpc.MaxCallRecvMsgSize(math.MaxInt32))
			if err == nil {
				err = s.Send(ask)
			}
			for err == nil {
				var r *pb.WatchResponse
				if r, err = s.Recv(); err == nil {
					select {
					case answers <- r:
					case <-ctx.Done():
						err = ctx.Err()
					}
				}
			}
			return err
		}()
	}()
	begun := time.After(askTime)
	for {
		select {
		case r := <-answers:
			if begun = nil; r.Header.ClusterId != c.id {
				return fmt.Errorf("%s: %w: its id is %016x, and was %016x", hostOf(endpoint), errOtherCluster,
					r.Header.ClusterId, c.id)
			}
			if err := fn(r); errors.Is(err, errStopped) {
				return nil
			} else if err != nil {
				return err
			}
		case err := <-ended:
			return c.explain(err, endpoint)
		case <-begun:
			return fmt.Errorf("%s: %w: it does not begin to give its log", hostOf(endpoint), engine.ErrUnreachable)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// refusal returns why a log was not given from a revision on.
func (c *cluster) refusal(r *pb.WatchResponse, endpoint string) error {
	if !r.Canceled {
		return nil
	}
	return c.explain(errors.New(r.CancelReason), endpoint)
}

// fingerprint tells what one revision did, of its events.
func fingerprint(events []*mvccpb.Event) string {
	if len(events) == 0 {
		return ""
	}
	h := blake3.New()
	part := func(b []byte) {
		_, _ = h.Write(binary.AppendUvarint(nil, uint64(len(b))))
		_, _ = h.Write(b)
	}
	for _, e := range events {
		part(binary.AppendVarint(nil, int64(e.Type)))
		part(e.Kv.Key)
		part(e.Kv.Value)
		for _, n := range []int64{e.Kv.ModRevision, e.Kv.CreateRevision, e.Kv.Version, e.Kv.Lease} {
			part(binary.AppendVarint(nil, n))
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// entryAt asks for the fingerprint of a revision; empty where the servers have
// compacted what it did.
func (c *cluster) entryAt(ctx context.Context, rev int64) (entry string, err error) {
	if rev < 2 {
		return "", nil // none did anything
	}
	err = c.onMember(ctx, func(endpoint string) error {
		entry, err = c.entryOf(ctx, endpoint, rev)
		return err
	})
	return entry, err
}

// onMember asks the chosen member, and others where it does not answer.
func (c *cluster) onMember(ctx context.Context, fn func(endpoint string) error) error {
	c.mu.Lock()
	endpoint := c.chosen
	c.mu.Unlock()
	if endpoint == "" {
		endpoint = c.another("")
	}
	for try := 0; ; try++ {
		err := fn(endpoint)
		if err == nil || try == 3 || ctx.Err() != nil || !errors.Is(err, engine.ErrUnreachable) {
			return err
		}
		pause(ctx, 200*time.Millisecond)
		endpoint = c.another(endpoint)
	}
}

func (c *cluster) entryOf(ctx context.Context, endpoint string, rev int64) (entry string, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var all []*mvccpb.Event
	// From the one before on: compacted up to a revision, servers may have forgotten what
	// that one took away.
	err = c.responses(ctx, endpoint, max(rev-1, 1), true, func(r *pb.WatchResponse) error {
		if r.CompactRevision > 0 {
			return errStopped
		}
		if err := c.refusal(r, endpoint); err != nil {
			return err
		}
		of, after := eventsOf(r.Events, rev)
		if all = append(all, of...); !after && (len(all) == 0 || r.Fragment) {
			return nil
		}
		entry = fingerprint(all)
		return errStopped
	})
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("%s: %w: it does not give what revision %d did", hostOf(endpoint), engine.ErrUnreachable, rev)
	}
	return entry, err
}

// eventsOf returns the events of one revision, which come together, and whether later
// ones follow.
func eventsOf(events []*mvccpb.Event, rev int64) (of []*mvccpb.Event, after bool) {
	for _, e := range events {
		switch {
		case e.Kv.ModRevision == rev:
			of = append(of, e)
		case e.Kv.ModRevision > rev:
			return of, true
		}
	}
	return of, false
}

// errWentBack returns the error of a log that is not the one that was read.
func errWentBack(where, how string) error {
	return fmt.Errorf("%s: %w: it went back: %s; the cluster was put back from an older copy, or made from one", where,
		engine.ErrOtherHistory, how)
}

// goesOn returns [engine.ErrOtherHistory] where the cluster's history is none that goes on
// from a mark.
func (c *cluster) goesOn(ctx context.Context, from record.Mark) error {
	head, err := c.head(ctx)
	if err != nil {
		return err
	}
	last, now := revision(from.Position), revision(head.Position)
	if now < last {
		return errWentBack(c.shard(), fmt.Sprintf("its newest revision is %d, and %d was read", now, last))
	}
	if from.Entry == "" {
		return nil // a position of a version that did not keep it
	}
	entry, err := c.entryAt(ctx, last)
	if err == nil && entry != "" && entry != from.Entry {
		err = errWentBack(c.shard(), fmt.Sprintf("revision %d did something else when it was read", last))
	}
	return err
}

// ResumeFrom implements [engine.HistoryResumer].
func (c *cluster) ResumeFrom(ctx context.Context, _ string, last record.Mark) error {
	p, ok := placeOf(last.Position)
	if !ok {
		return nil
	}
	c.setEpoch(p.epoch)
	err := c.goesOn(ctx, last)
	if errors.Is(err, engine.ErrOtherHistory) {
		c.beginHistory(p.epoch)
		c.mu.Lock()
		c.because = err // which Follow says where it matters
		c.mu.Unlock()
		return nil
	}
	return c.fail(err)
}

func (c *cluster) setEpoch(e uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.epoch = e
}

// beginHistory has positions be after all of an epoch.
func (c *cluster) beginHistory(after uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.epoch <= after {
		c.epoch = max(after+1, uint64(time.Now().UnixMilli()))
	}
}

// at returns the position of a revision of the history that is there now.
func (c *cluster) at(rev int64) place {
	c.mu.Lock()
	defer c.mu.Unlock()
	return place{epoch: c.epoch, rev: rev}
}
