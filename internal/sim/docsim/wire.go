package docsim

import (
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"sync/atomic"

	"crypto/tls"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
	"dexamen/internal/docwire"
)

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
	lastCursor atomic.Int64
	errGoodbye = errors.New("connection ends")
)

func (m *member) talk(conn net.Conn) {
	docwire.Talk(conn, m.rs.opt.TLS, func(conn net.Conn) docwire.Answerer { return &session{m: m, conn: conn} })
}

// commandError is an error a client is told.
type commandError = docquery.Error

func refuse(code int32, name, format string, args ...any) error {
	return docquery.Refuse(code, name, format, args...)
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
			if c, ok := s.m.rs.credentials(user); ok {
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
