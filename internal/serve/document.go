package serve

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
	"dexamen/internal/docwire"
	"dexamen/internal/engine/document"
)

// documentServer answers the clients of document clusters.
type documentServer struct {
	c       *Content
	o       Options
	login   scram.StoredCredentials
	started time.Time

	mu      sync.Mutex
	cursors map[int64]*cursor
	asked   int64 // commands
}

func newDocumentServer(c *Content, o Options) *documentServer {
	s := &documentServer{c: c, o: o, started: time.Now(), cursors: map[int64]*cursor{}}
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails, by its contract
	client, err := scram.SHA256.NewClient(o.User, o.Password, "")
	if err == nil {
		s.login, err = client.GetStoredCredentialsWithError(scram.KeyFactors{Salt: string(salt), Iters: 15000})
	}
	if err != nil {
		panic(err) // the login is made by this program
	}
	return s
}

func (s *documentServer) logf(format string, args ...any) {
	if s.o.Log != nil {
		s.o.Log(format, args...)
	}
}

// connection is one client's.
type connection struct {
	*documentServer
	ctx  context.Context
	conn net.Conn
	id   int64
	user string
	sasl *scram.ServerConversation
}

func (s *documentServer) talk(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	docwire.Talk(conn, nil, func(conn net.Conn) docwire.Answerer {
		return &connection{documentServer: s, ctx: ctx, conn: conn}
	})
}

// command answers one command.
type command struct {
	// open: it is answered before a login.
	open bool
	// fields are what it may have besides what all commands may; anything else is refused.
	fields string
	do     func(c *connection, r request) (bson.D, error)
}

// request is a command as it was sent.
type request struct {
	ctx  context.Context
	name string
	db   string
	body bson.Raw
}

// collection returns the namespace that the command is about.
func (r request) collection() (string, error) {
	name, ok := r.body.Index(0).Value().StringValueOK()
	if !ok || name == "" {
		return "", docquery.Refuse(73, "InvalidNamespace", "the name of a collection must be a string")
	}
	return r.db + "." + name, nil
}

// common are fields that every command may have, and that mean nothing for what does not
// change, or are heeded for all.
var common = strings.Fields(`$db lsid $readPreference $clusterTime readConcern comment maxTimeMS apiVersion apiStrict
	apiDeprecationErrors noCursorTimeout allowDiskUse readOnce txnNumber maxAwaitTimeMS`)

// Answer implements [docwire.Answerer].
func (c *connection) Answer(body bson.Raw, id int64) (bson.Raw, error) {
	c.id = id
	out, err := c.answer(body)
	if errors.Is(err, net.ErrClosed) || c.ctx.Err() != nil {
		return nil, net.ErrClosed
	}
	var refused *docquery.Error
	switch {
	case errors.As(err, &refused):
		out = bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: refused.Msg}, {Key: "code", Value: refused.Code},
			{Key: "codeName", Value: refused.Name}}
		c.logf("refused: %s", refused.Msg)
	case errors.Is(err, context.DeadlineExceeded):
		out = bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: "operation exceeded time limit"},
			{Key: "code", Value: int32(50)}, {Key: "codeName", Value: "MaxTimeMSExpired"}}
	case err != nil:
		out = bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: err.Error()}, {Key: "code", Value: int32(8)},
			{Key: "codeName", Value: "UnknownError"}}
		c.logf("failed: %v", err)
	default:
		out = append(out, bson.E{Key: "ok", Value: 1.0})
	}
	return bson.Marshal(out)
}

func (c *connection) answer(body bson.Raw) (bson.D, error) {
	first, err := body.IndexErr(0)
	if err != nil {
		return nil, docquery.Refuse(9, "FailedToParse", "an empty command")
	}
	r := request{ctx: c.ctx, name: first.Key(), body: body}
	r.db, _ = body.Lookup("$db").StringValueOK()
	if r.db == "" {
		r.db = "admin"
	}
	cmd, known := commands[strings.ToLower(r.name)]
	switch {
	case !known && writes[strings.ToLower(r.name)]:
		return nil, docquery.Refuse(13, "Unauthorized", "%s is not allowed: this is %s, which is read only", r.name,
			c.c.Moment)
	case !known:
		return nil, docquery.Refuse(59, "CommandNotFound", "no such command: '%s'", r.name)
	case !cmd.open && c.user == "":
		return nil, docquery.Refuse(13, "Unauthorized", "Command %s requires authentication", r.name)
	}
	if err := onlyKnown(r, cmd.fields); err != nil {
		return nil, err
	}
	if ms, ok := body.Lookup("maxTimeMS").AsInt64OK(); ok && ms > 0 && r.name != "getMore" {
		var cancel context.CancelFunc
		r.ctx, cancel = context.WithTimeout(c.ctx, time.Duration(ms)*time.Millisecond)
		defer cancel()
	}
	c.mu.Lock()
	c.asked++
	c.mu.Unlock()
	return cmd.do(c, r)
}

// hello describes the server: a lone one, which is read only.
func hello(c *connection, _ request) (bson.D, error) {
	return bson.D{{Key: "helloOk", Value: true}, {Key: "isWritablePrimary", Value: true},
		{Key: "ismaster", Value: true},
		{Key: "maxBsonObjectSize", Value: int32(16 << 20)},
		{Key: "maxMessageSizeBytes", Value: int32(docwire.MaxMessage)},
		{Key: "maxWriteBatchSize", Value: int32(100_000)}, {Key: "localTime", Value: time.Now()},
		{Key: "logicalSessionTimeoutMinutes", Value: int32(30)}, {Key: "connectionId", Value: int32(c.id)},
		{Key: "minWireVersion", Value: int32(0)}, {Key: "maxWireVersion", Value: int32(21)},
		{Key: "readOnly", Value: true},
		{Key: "saslSupportedMechs", Value: bson.A{"SCRAM-SHA-256"}}}, nil
}

// loginStep answers a step of SCRAM-SHA-256 (RFC 7677).
func loginStep(c *connection, r request) (bson.D, error) {
	failed := docquery.Refuse(18, "AuthenticationFailed", "Authentication failed.")
	if strings.EqualFold(r.name, "saslStart") {
		if mech, _ := r.body.Lookup("mechanism").StringValueOK(); mech != "SCRAM-SHA-256" {
			return nil, docquery.Refuse(334, "MechanismUnavailable", "the login is by SCRAM-SHA-256")
		}
		srv, err := scram.SHA256.NewServer(func(user string) (scram.StoredCredentials, error) {
			if user == c.o.User {
				return c.login, nil
			}
			return scram.StoredCredentials{}, failed
		})
		if err != nil {
			return nil, failed
		}
		c.sasl = srv.NewConversation()
	}
	_, payload, ok := r.body.Lookup("payload").BinaryOK()
	if c.sasl == nil || !ok {
		return nil, failed
	}
	var out string
	if !c.sasl.Done() {
		var err error
		if out, err = c.sasl.Step(string(payload)); err != nil {
			c.logf("a login from %s failed", c.conn.RemoteAddr())
			return nil, failed
		}
	}
	done := c.sasl.Done()
	if done {
		if !c.sasl.Valid() {
			return nil, failed
		}
		c.user = c.sasl.Username()
	}
	return bson.D{{Key: "conversationId", Value: int32(1)}, {Key: "done", Value: done},
		{Key: "payload", Value: []byte(out)}}, nil
}

// served is a collection or view as it is served.
type served struct {
	name    string
	kind    string // collection, view, timeseries
	options bson.Raw
	indexes []bson.Raw
	records int64
	bytes   int64
	root    string
	lookup  func(key []byte, fn func(bson.Raw) (bool, error)) error
	all     docquery.Documents
}

// open returns a collection; ok is false where there is none.
func (s *documentServer) open(ctx context.Context, name string) (v served, ok bool, err error) {
	state, ok, err := s.c.State(ctx, name)
	if err != nil || !ok {
		return v, ok, err
	}
	v = served{name: name, kind: string(state.Kind), records: state.Root.Records, bytes: state.Root.Bytes,
		root: state.Root.Hash.Short()}
	if v.options, v.indexes, err = document.Definition(state.Definition); err != nil {
		return v, false, fmt.Errorf("%s: %w", name, err)
	}
	switch v.kind {
	case "timeseries":
		return v, false, docquery.Refuse(166, "CommandNotSupportedOnView",
			"%s is a time-series collection, whose documents are kept in buckets: they are not served", name)
	case "view":
		err = s.openView(ctx, &v)
		return v, err == nil, err
	}
	v.all = s.scan(ctx, state)
	v.lookup = s.find(ctx, state)
	return v, true, nil
}

// describe returns a collection without its content, of a time series too.
func (c *connection) describe(r request, name string) (v served, ok bool, err error) {
	state, ok, err := c.c.Definition(r.ctx, name)
	if err != nil || !ok {
		return v, ok, err
	}
	v = served{name: name, kind: string(state.Kind)}
	v.options, v.indexes, err = document.Definition(state.Definition)
	return v, err == nil, err
}
