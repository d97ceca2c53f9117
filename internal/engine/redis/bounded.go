package redis

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strconv"
	"time"
)

// maxReply is the longest string, in bytes, that an answer may announce: what servers allow
// where nobody has raised it (proto-max-bulk-len), and as much again for how a value is dumped.
const maxReply = 1 << 30

// maxReplyLine is the longest line of an answer, in bytes.
const maxReplyLine = 1 << 20

// bounded is a connection whose answers announce no more than a server can mean: the client
// makes room for what is announced before any of it has come.
type bounded struct {
	net.Conn
	line []byte // of the answer, what has come of it so far
	skip int64  // bytes of a string that are still to come
}

// Read implements net.Conn. It follows the protocol (RESP 2 and 3): lines, and strings after
// lines that announce their length.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	for rest := p[:n]; len(rest) > 0; {
		if b.skip > 0 {
			k := min(b.skip, int64(len(rest)))
			b.skip, rest = b.skip-k, rest[k:]
			continue
		}
		end := bytes.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest) - 1
		}
		b.line, rest = append(b.line, rest[:end+1]...), rest[end+1:]
		if len(b.line) > maxReplyLine {
			return 0, fmt.Errorf("the server sends a line of more than %d bytes", maxReplyLine)
		}
		if b.line[len(b.line)-1] != '\n' {
			break
		}
		if c := b.line[0]; c == '$' || c == '=' || c == '!' {
			length, perr := strconv.ParseInt(string(bytes.TrimRight(b.line[1:], "\r\n")), 10, 64)
			if perr == nil && length > maxReply {
				return 0, fmt.Errorf("the server announces a string of %d bytes, and one has at most %d MiB", length,
					maxReply>>20)
			}
			if perr == nil && length >= 0 {
				b.skip = length + 2
			}
		}
		b.line = b.line[:0]
	}
	return n, err
}

// dialBounded returns what the client connects with.
func dialBounded(cfg *tls.Config) func(ctx context.Context, network, addr string) (net.Conn, error) {
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		d := &net.Dialer{Timeout: askTime, KeepAlive: 10 * time.Second}
		conn, err := d.DialContext(ctx, network, addr)
		if cfg != nil && err == nil {
			secured := tls.Client(conn, cfg)
			if err = secured.HandshakeContext(ctx); err != nil {
				_ = conn.Close()
			}
			conn = secured
		}
		if err != nil {
			return nil, err
		}
		return &bounded{Conn: conn}, nil
	}
}
