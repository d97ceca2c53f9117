//lint:file-ignore SA1019 drivers still begin with the legacy handshake, so it must be answered

package docsim

import (
	"crypto/md5"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"sync/atomic"

	"crypto/tls"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
	"go.mongodb.org/mongo-driver/v2/x/mongo/driver/wiremessage"
)

const maxMessage = 48_000_000

// serve begins to take connections; the lock is held or the set not running.
func (m *member) serve(l net.Listener) {
	m.listener, m.conns, m.cursors, m.up = l, map[net.Conn]bool{}, map[int64]*cursor{}, true
	m.rs.wg.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			m.rs.mu.Lock()
			if !m.up || m.listener != l {
				m.rs.mu.Unlock()
				_ = c.Close()
				continue
			}
			m.conns[c] = true
			m.rs.mu.Unlock()
			m.rs.wg.Go(func() {
				m.talk(c)
				_ = c.Close()
				m.rs.mu.Lock()
				delete(m.conns, c)
				m.rs.mu.Unlock()
			})
		}
	})
}

// down breaks all connections; the lock is held.
func (m *member) down() {
	if !m.up {
		return
	}
	m.up = false
	_ = m.listener.Close()
	for c := range m.conns {
		_ = c.Close()
	}
}

// session is one connection.
type session struct {
	m    *member
	conn net.Conn
	user string
	sasl *scram.ServerConversation
	// request is the command being answered, documents of sequences included.
	request bson.Raw
	// txn is the transaction that the command belongs to.
	txn *transaction
	// owns, where set, says which documents the command may see.
	owns func(c *collection, doc bson.Raw) bool
	// table, where set, is the sharded collection the command is about, and
	// unbounded has its cursors give all at once.
	table     *table
	unbounded bool
	// migrating marks what is logged as done by a migration.
	migrating bool
}

var (
	lastCursor   atomic.Int64
	lastConn     atomic.Int64
	errGoodbye   = errors.New("connection ends")
	errMalformed = errors.New("malformed message")
)

// answerer answers the commands of one connection.
type answerer interface {
	answer(body bson.Raw, connID int64) (bson.Raw, error)
}

func (m *member) talk(conn net.Conn) {
	talk(conn, m.rs.opt.TLS, func(conn net.Conn) answerer { return &session{m: m, conn: conn} })
}

// talk answers one connection's messages ("MongoDB Wire Protocol").
func talk(conn net.Conn, config *tls.Config, begin func(net.Conn) answerer) {
	if config != nil {
		conn = tls.Server(conn, config)
	}
	s := begin(conn)
	id := lastConn.Add(1)
	var head [16]byte
	for {
		if _, err := io.ReadFull(conn, head[:]); err != nil {
			return
		}
		n := int(int32(binary.LittleEndian.Uint32(head[:])))
		if n < 16 || n > maxMessage {
			return
		}
		msg := make([]byte, n)
		copy(msg, head[:])
		if _, err := io.ReadFull(conn, msg[16:]); err != nil {
			return
		}
		_, reqID, _, op, body, ok := wiremessage.ReadHeader(msg)
		if !ok {
			return
		}
		var out []byte
		var err error
		switch op {
		case wiremessage.OpMsg:
			out, err = opMsg(s, reqID, body, id)
		case wiremessage.OpQuery:
			out, err = opQuery(s, reqID, body, id)
		default:
			err = errMalformed
		}
		if err != nil {
			return
		}
		if out != nil {
			if _, err := conn.Write(out); err != nil {
				return
			}
		}
	}
}

// opMsg answers an OP_MSG: a body, and sequences of documents that belong to
// fields of it.
func opMsg(s answerer, reqID int32, b []byte, connID int64) ([]byte, error) {
	flags, b, ok := wiremessage.ReadMsgFlags(b)
	if !ok {
		return nil, errMalformed
	}
	if flags&wiremessage.ChecksumPresent != 0 {
		b = b[:max(0, len(b)-4)]
	}
	var body bson.Raw
	seqs := map[string][]bson.Raw{}
	for len(b) > 0 {
		var kind wiremessage.SectionType
		if kind, b, ok = wiremessage.ReadMsgSectionType(b); !ok {
			return nil, errMalformed
		}
		switch kind {
		case wiremessage.SingleDocument:
			var d bsoncore.Document
			if d, b, ok = wiremessage.ReadMsgSectionSingleDocument(b); !ok {
				return nil, errMalformed
			}
			body = bson.Raw(d)
		case wiremessage.DocumentSequence:
			var name string
			var ds []bsoncore.Document
			if name, ds, b, ok = wiremessage.ReadMsgSectionDocumentSequence(b); !ok {
				return nil, errMalformed
			}
			for _, d := range ds {
				seqs[name] = append(seqs[name], bson.Raw(d))
			}
		default:
			return nil, errMalformed
		}
	}
	if body.Validate() != nil {
		return nil, errMalformed
	}
	if len(seqs) > 0 {
		d := toD(body)
		for field, list := range seqs {
			a := bson.A{}
			for _, x := range list {
				a = append(a, x)
			}
			d = append(d, bson.E{Key: field, Value: a})
		}
		body = toRaw(d)
	}
	answer, err := s.answer(body, connID)
	if err != nil || flags&wiremessage.MoreToCome != 0 {
		return nil, err
	}
	at, out := wiremessage.AppendHeaderStart(nil, wiremessage.NextRequestID(), reqID, wiremessage.OpMsg)
	out = wiremessage.AppendMsgFlags(out, 0)
	out = wiremessage.AppendMsgSectionType(out, wiremessage.SingleDocument)
	out = append(out, answer...)
	return bsoncore.UpdateLength(out, at, int32(len(out[at:]))), nil
}

// opQuery answers the one legacy message drivers still begin with: a handshake
// on admin.$cmd.
func opQuery(s answerer, reqID int32, b []byte, connID int64) ([]byte, error) {
	_, b, ok := wiremessage.ReadQueryFlags(b)
	if !ok {
		return nil, errMalformed
	}
	_, b, ok = wiremessage.ReadQueryFullCollectionName(b)
	if !ok {
		return nil, errMalformed
	}
	if _, b, ok = wiremessage.ReadQueryNumberToSkip(b); !ok {
		return nil, errMalformed
	}
	if _, b, ok = wiremessage.ReadQueryNumberToReturn(b); !ok {
		return nil, errMalformed
	}
	q, _, ok := wiremessage.ReadQueryQuery(b)
	if !ok || bson.Raw(q).Validate() != nil {
		return nil, errMalformed
	}
	answer, err := s.answer(bson.Raw(q), connID)
	if err != nil {
		return nil, err
	}
	at, out := wiremessage.AppendHeaderStart(nil, wiremessage.NextRequestID(), reqID, wiremessage.OpReply)
	out = wiremessage.AppendReplyFlags(out, wiremessage.AwaitCapable)
	out = wiremessage.AppendReplyCursorID(out, 0)
	out = wiremessage.AppendReplyStartingFrom(out, 0)
	out = wiremessage.AppendReplyNumberReturned(out, 1)
	out = append(out, answer...)
	return bsoncore.UpdateLength(out, at, int32(len(out[at:]))), nil
}

// commandError is an error a client is told.
type commandError struct {
	code int32
	name string
	msg  string
}

func (e *commandError) Error() string { return e.msg }

func refuse(code int32, name, format string, args ...any) error {
	return &commandError{code, name, fmt.Sprintf(format, args...)}
}

// storeLogin makes the stored form of the one login.
func (rs *ReplicaSet) storeLogin() error {
	if rs.opt.User == "" {
		return nil
	}
	rs.scramDB = map[string]scram.StoredCredentials{}
	hash, password := rs.scram()
	c, err := hash.NewClient(rs.opt.User, password, "")
	if err != nil {
		return fmt.Errorf("stand-in login: %w", err)
	}
	rs.scramDB[rs.opt.User], err = c.GetStoredCredentialsWithError(scram.KeyFactors{
		Salt: "lindenholt-salt!", Iters: 4096})
	return err
}

// scram returns the mechanism's hash, and the password as it goes into it: the
// older one takes a digest with the user's name ("SCRAM-SHA-1").
func (rs *ReplicaSet) scram() (scram.HashGeneratorFcn, string) {
	if rs.opt.Mechanism == "SCRAM-SHA-1" {
		sum := md5.Sum([]byte(rs.opt.User + ":mongo:" + rs.opt.Password))
		return scram.SHA1, hex.EncodeToString(sum[:])
	}
	return scram.SHA256, rs.opt.Password
}

// certified answers a login by the client's certificate ("x.509").
func (s *session) certified(req bson.Raw) (bson.D, error) {
	conn, ok := s.conn.(*tls.Conn)
	if mech, _ := req.Lookup("mechanism").StringValueOK(); mech != "MONGODB-X509" || s.m.rs.opt.Mechanism != mech ||
		!ok || len(conn.ConnectionState().PeerCertificates) == 0 {
		return nil, refuse(18, "AuthenticationFailed", "Authentication failed.")
	}
	subject := conn.ConnectionState().PeerCertificates[0].Subject.String()
	if subject != s.m.rs.opt.User {
		return nil, refuse(18, "AuthenticationFailed", "Authentication failed.")
	}
	s.user = subject
	return bson.D{{Key: "user", Value: subject}, {Key: "dbname", Value: "$external"}}, nil
}

// login answers a step of SCRAM-SHA-256 ("SCRAM", RFC 7677).
func (s *session) login(cmd string, req bson.Raw) (bson.D, error) {
	failed := refuse(18, "AuthenticationFailed", "Authentication failed.")
	if cmd == "saslStart" {
		if mech, _ := req.Lookup("mechanism").StringValueOK(); mech != s.m.rs.opt.Mechanism {
			return nil, refuse(334, "MechanismUnavailable", "this stand-in takes %s only", s.m.rs.opt.Mechanism)
		}
		hash, _ := s.m.rs.scram()
		srv, err := hash.NewServer(func(user string) (scram.StoredCredentials, error) {
			if c, ok := s.m.rs.scramDB[user]; ok {
				return c, nil
			}
			return scram.StoredCredentials{}, failed
		})
		if err != nil {
			return nil, failed
		}
		s.sasl = srv.NewConversation()
	}
	if s.sasl == nil {
		return nil, failed
	}
	_, payload, ok := req.Lookup("payload").BinaryOK()
	if !ok {
		return nil, failed
	}
	var out string
	if !s.sasl.Done() {
		var err error
		if out, err = s.sasl.Step(string(payload)); err != nil {
			return nil, failed
		}
	}
	done := s.sasl.Done()
	if done {
		if !s.sasl.Valid() {
			return nil, failed
		}
		s.user = s.sasl.Username()
	}
	return bson.D{{Key: "conversationId", Value: int32(1)}, {Key: "done", Value: done},
		{Key: "payload", Value: []byte(out)}}, nil
}
