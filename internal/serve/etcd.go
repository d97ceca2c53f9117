package serve

import (
	"bytes"
	"container/heap"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"iter"
	"net"
	"slices"
	"sync"

	pb "go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/mvccpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine/etcd"
)

// etcdServer answers the clients of etcd clusters: ranges, as of the moment's revision.
type etcdServer struct {
	pb.UnimplementedKVServer
	pb.UnimplementedAuthServer
	pb.UnimplementedMaintenanceServer
	pb.UnimplementedClusterServer
	c        *Content
	o        Options
	address  string
	revision int64

	mu     sync.Mutex
	tokens map[string]bool
}

// serveEtcd answers connections until the context ends.
func serveEtcd(ctx context.Context, c *Content, l net.Listener, o Options) error {
	s := &etcdServer{c: c, o: o, address: l.Addr().String(), tokens: map[string]bool{}}
	for _, m := range c.Moment.Upto {
		s.revision = max(s.revision, etcd.Revision(m.Position))
	}
	g := grpc.NewServer(grpc.UnaryInterceptor(s.check), grpc.MaxRecvMsgSize(4<<20),
		grpc.UnknownServiceHandler(func(any, grpc.ServerStream) error {
			return status.Error(codes.Unimplemented, "this is "+c.Moment.String()+": only ranges are answered")
		}))
	pb.RegisterKVServer(g, s)
	pb.RegisterAuthServer(g, s)
	pb.RegisterMaintenanceServer(g, s)
	pb.RegisterClusterServer(g, s)
	stop := context.AfterFunc(ctx, g.Stop)
	defer stop()
	err := g.Serve(l)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// check lets in who has logged in, and refuses what changes something.
func (s *etcdServer) check(ctx context.Context, req any, info *grpc.UnaryServerInfo,
	next grpc.UnaryHandler) (any, error) {
	if info.FullMethod == "/etcdserverpb.Auth/Authenticate" {
		return next(ctx, req)
	}
	md, _ := metadata.FromIncomingContext(ctx)
	token := ""
	for _, name := range []string{rpctypes.TokenFieldNameGRPC, rpctypes.TokenFieldNameSwagger} {
		if v := md.Get(name); len(v) > 0 {
			token = v[0]
		}
	}
	s.mu.Lock()
	known := s.tokens[token]
	s.mu.Unlock()
	if !known {
		return nil, rpctypes.ErrGRPCUserEmpty
	}
	out, err := next(ctx, req)
	if status.Code(err) == codes.Unimplemented {
		if s.o.Log != nil {
			s.o.Log("refused: %s", info.FullMethod)
		}
		err = status.Errorf(codes.PermissionDenied, "%s is not allowed: this is %s, which is read only",
			info.FullMethod,
			s.c.Moment)
	}
	return out, err
}

func (s *etcdServer) header() *pb.ResponseHeader {
	return &pb.ResponseHeader{Revision: s.revision, RaftTerm: 1}
}

// Authenticate implements the login.
func (s *etcdServer) Authenticate(_ context.Context, r *pb.AuthenticateRequest) (*pb.AuthenticateResponse, error) {
	if r.Name != s.o.User || subtle.ConstantTimeCompare([]byte(r.Password), []byte(s.o.Password)) != 1 {
		return nil, rpctypes.ErrGRPCAuthFailed
	}
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails, by its contract
	token := hex.EncodeToString(b)
	s.mu.Lock()
	defer s.mu.Unlock()
	const most = 10_000
	if len(s.tokens) >= most {
		clear(s.tokens)
	}
	s.tokens[token] = true
	return &pb.AuthenticateResponse{Header: s.header(), Token: token}, nil
}

// Status implements the service of that name.
func (s *etcdServer) Status(context.Context, *pb.StatusRequest) (*pb.StatusResponse, error) {
	size := int64(0)
	for _, ns := range s.c.Moment.Point.Parts() {
		if slices.Contains(s.c.Names(), ns.Name) {
			size += ns.Root.Bytes
		}
	}
	return &pb.StatusResponse{Header: s.header(), Version: s.c.Moment.Point.Version, DbSize: size, DbSizeInUse: size,
		Leader:   1,
		RaftTerm: 1}, nil
}

// MemberList implements the service of that name: there is this one server.
func (s *etcdServer) MemberList(context.Context, *pb.MemberListRequest) (*pb.MemberListResponse, error) {
	return &pb.MemberListResponse{Header: s.header(), Members: []*pb.Member{{ID: 1, Name: "dexamen",
		ClientURLs: []string{"http://" + s.address}}}}, nil
}

// mostRanged is how many bytes an answer may have: clients take 2 GiB, and nobody wants that.
const mostRanged = 256 << 20

// Range implements the service of that name. The revisions of single keys are not kept: each is
// said to be of the moment's.
func (s *etcdServer) Range(ctx context.Context, r *pb.RangeRequest) (*pb.RangeResponse, error) {
	switch {
	case r.Revision > s.revision:
		return nil, rpctypes.ErrGRPCFutureRev
	case r.Revision > 0 && r.Revision < s.revision:
		return nil, rpctypes.ErrGRPCCompacted
	case r.MinModRevision != 0 || r.MaxModRevision != 0 || r.MinCreateRevision != 0 || r.MaxCreateRevision != 0,
		r.SortTarget == pb.RangeRequest_VERSION, r.SortTarget == pb.RangeRequest_CREATE,
		r.SortTarget == pb.RangeRequest_MOD:
		return nil, status.Error(codes.InvalidArgument, "the revisions of single keys are not kept in a backup")
	case len(r.Key) == 0:
		return nil, rpctypes.ErrGRPCEmptyKey
	}
	out := &pb.RangeResponse{Header: s.header()}
	size := 0
	sorted := r.SortOrder != pb.RangeRequest_NONE &&
		(r.SortTarget != pb.RangeRequest_KEY || r.SortOrder == pb.RangeRequest_DESCEND)
	err := s.each(ctx, r.Key, r.RangeEnd, func(kv etcd.KeyValue) error {
		out.Count++
		if r.CountOnly || !sorted && r.Limit > 0 && out.Count > r.Limit {
			return nil // counted all the same
		}
		if r.KeysOnly {
			kv.Value = nil
		}
		if size += len(kv.Key) + len(kv.Value); size > mostRanged {
			return status.Errorf(codes.ResourceExhausted,
				"the answer has more than %d MiB; ask for less, or with a limit",
				mostRanged>>20)
		}
		out.Kvs = append(out.Kvs, &mvccpb.KeyValue{Key: kv.Key, Value: kv.Value, Lease: kv.Lease, Version: 1,
			CreateRevision: s.revision, ModRevision: s.revision})
		return nil
	})
	if err != nil {
		return nil, err
	}
	if sorted {
		slices.SortStableFunc(out.Kvs, func(a, b *mvccpb.KeyValue) int {
			c := bytes.Compare(a.Key, b.Key)
			if r.SortTarget == pb.RangeRequest_VALUE {
				c = bytes.Compare(a.Value, b.Value)
			}
			if r.SortOrder == pb.RangeRequest_DESCEND {
				return -c
			}
			return c
		})
		if r.Limit > 0 && int64(len(out.Kvs)) > r.Limit {
			out.Kvs = out.Kvs[:r.Limit]
		}
	}
	out.More = r.Limit > 0 && out.Count > r.Limit && !r.CountOnly
	return out, nil
}

// inRange reports whether a key is in a range; end as etcd has it: nothing is the key alone, a
// zero byte all from it on.
func inRange(key, from, end []byte) bool {
	switch {
	case len(end) == 0:
		return bytes.Equal(key, from)
	case len(end) == 1 && end[0] == 0:
		return bytes.Compare(key, from) >= 0
	}
	return bytes.Compare(key, from) >= 0 && bytes.Compare(key, end) < 0
}

// each calls fn with the keys of a range, in order, of all namespaces.
func (s *etcdServer) each(ctx context.Context, from, end []byte, fn func(etcd.KeyValue) error) error {
	var h keyHeap
	for _, name := range s.c.Names() {
		prefix, err := etcd.Prefix(name)
		if err != nil {
			return err
		}
		if !mayHold(prefix, from, end) {
			continue
		}
		state, ok, err := s.c.State(ctx, name)
		if err != nil || !ok {
			return fmt.Errorf("%s: %w", name, err)
		}
		start := []byte(nil) // of the namespace's own keys
		if rest, ok := bytes.CutPrefix(from, prefix); ok {
			start = rest
		} else if bytes.Compare(prefix, from) < 0 {
			continue // all of it is before
		}
		k := &keysOf{name: name}
		k.next, k.stop = iter.Pull2(tree.RecordsFrom(ctx, s.c.x, state.Root, start))
		defer k.stop()
		if ok, err := k.advance(); err != nil {
			return err
		} else if ok {
			h = append(h, k)
		}
	}
	heap.Init(&h)
	for len(h) > 0 {
		k := h[0]
		if !inRange(k.kv.Key, from, end) {
			if bytes.Compare(k.kv.Key, from) > 0 {
				return nil
			}
		} else if err := fn(k.kv); err != nil {
			return err
		}
		ok, err := k.advance()
		if err != nil {
			return err
		}
		if ok {
			heap.Fix(&h, 0)
		} else {
			heap.Pop(&h)
		}
	}
	return ctx.Err()
}

// mayHold reports whether keys that begin so may be in a range.
func mayHold(prefix, from, end []byte) bool {
	switch {
	case len(end) == 0:
		return bytes.HasPrefix(from, prefix)
	case len(end) == 1 && end[0] == 0:
		return true
	}
	return bytes.Compare(prefix, end) < 0
}

// keysOf are the keys of one namespace, one by one.
type keysOf struct {
	name string
	next func() (record.Record, error, bool)
	stop func()
	kv   etcd.KeyValue
}

func (k *keysOf) advance() (bool, error) {
	r, err, ok := k.next()
	if err != nil || !ok {
		return false, err
	}
	k.kv, err = etcd.Whole(k.name, r)
	k.kv.Value = bytes.Clone(k.kv.Value)
	return err == nil, err
}

type keyHeap []*keysOf

func (h keyHeap) Len() int           { return len(h) }
func (h keyHeap) Less(i, j int) bool { return bytes.Compare(h[i].kv.Key, h[j].kv.Key) < 0 }
func (h keyHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *keyHeap) Push(x any)        { *h = append(*h, x.(*keysOf)) }
func (h *keyHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
