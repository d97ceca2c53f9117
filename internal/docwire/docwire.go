// Package docwire is the servers' side of the wire protocol of document clusters: it reads
// commands and writes the answers ("MongoDB Wire Protocol").
package docwire

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
	"go.mongodb.org/mongo-driver/v2/x/mongo/driver/wiremessage"
)

// MaxMessage is how long a message may be, in bytes.
const MaxMessage = 48_000_000

var (
	lastConn atomic.Int64
	// ErrMalformed is returned when a message is none.
	ErrMalformed = errors.New("malformed message")
)

// Answerer answers the commands of one connection.
type Answerer interface {
	// Answer returns the answer to a command; an error ends the connection.
	Answer(body bson.Raw, connID int64) (bson.Raw, error)
}

// Talk answers one connection's messages ("MongoDB Wire Protocol").
func Talk(conn net.Conn, config *tls.Config, begin func(net.Conn) Answerer) {
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
		if n < 16 || n > MaxMessage {
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
			err = ErrMalformed
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
func opMsg(s Answerer, reqID int32, b []byte, connID int64) ([]byte, error) {
	flags, b, ok := wiremessage.ReadMsgFlags(b)
	if !ok {
		return nil, ErrMalformed
	}
	if flags&wiremessage.ChecksumPresent != 0 {
		b = b[:max(0, len(b)-4)]
	}
	var body bson.Raw
	seqs := map[string][]bson.Raw{}
	for len(b) > 0 {
		var kind wiremessage.SectionType
		if kind, b, ok = wiremessage.ReadMsgSectionType(b); !ok {
			return nil, ErrMalformed
		}
		switch kind {
		case wiremessage.SingleDocument:
			var d bsoncore.Document
			if d, b, ok = wiremessage.ReadMsgSectionSingleDocument(b); !ok {
				return nil, ErrMalformed
			}
			body = bson.Raw(d)
		case wiremessage.DocumentSequence:
			var name string
			var ds []bsoncore.Document
			if name, ds, b, ok = wiremessage.ReadMsgSectionDocumentSequence(b); !ok {
				return nil, ErrMalformed
			}
			for _, d := range ds {
				seqs[name] = append(seqs[name], bson.Raw(d))
			}
		default:
			return nil, ErrMalformed
		}
	}
	if body.Validate() != nil {
		return nil, ErrMalformed
	}
	if len(seqs) > 0 {
		var d bson.D
		if err := bson.Unmarshal(body, &d); err != nil {
			return nil, ErrMalformed
		}
		for field, list := range seqs {
			a := bson.A{}
			for _, x := range list {
				a = append(a, x)
			}
			d = append(d, bson.E{Key: field, Value: a})
		}
		var err error
		if body, err = bson.Marshal(d); err != nil {
			return nil, ErrMalformed
		}
	}
	answer, err := s.Answer(body, connID)
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
func opQuery(s Answerer, reqID int32, b []byte, connID int64) ([]byte, error) {
	_, b, ok := wiremessage.ReadQueryFlags(b)
	if !ok {
		return nil, ErrMalformed
	}
	_, b, ok = wiremessage.ReadQueryFullCollectionName(b)
	if !ok {
		return nil, ErrMalformed
	}
	if _, b, ok = wiremessage.ReadQueryNumberToSkip(b); !ok {
		return nil, ErrMalformed
	}
	if _, b, ok = wiremessage.ReadQueryNumberToReturn(b); !ok {
		return nil, ErrMalformed
	}
	q, _, ok := wiremessage.ReadQueryQuery(b)
	if !ok || bson.Raw(q).Validate() != nil {
		return nil, ErrMalformed
	}
	answer, err := s.Answer(bson.Raw(q), connID)
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
