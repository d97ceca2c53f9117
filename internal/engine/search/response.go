package search

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// hit is one document of an answer. The slices are valid until the next hit.
type hit struct {
	id, routing string
	version     int64
	seq         int64
	// source is what lies between the colon and the comma: the bytes that were
	// sent, with the spaces around them. Nil where the answer has none.
	source []byte
}

// page is what an answer says beside its hits.
type page struct {
	shards   *shardCounts
	pit      string // a reader's id, which may change with each answer
	scroll   string
	timedOut bool
	hits     int
}

// errEnough ends the reading of an answer; what follows is asked for again.
var errEnough = errors.New("enough of this answer")

// readPage takes an answer to a search apart as it comes, so that no more than one
// document is held. An answer that breaks off is an error.
func readPage(r io.Reader, fn func(*hit) error) (*page, error) {
	p := &parser{r: bufio.NewReaderSize(r, 256<<10)}
	out := &page{}
	err := p.object(func(key string) error {
		switch key {
		case "_shards":
			b, err := p.value()
			if err != nil {
				return err
			}
			out.shards = &shardCounts{}
			return json.Unmarshal(b, out.shards)
		case "pit_id":
			return p.text(&out.pit)
		case "_scroll_id":
			return p.text(&out.scroll)
		case "timed_out":
			b, err := p.value()
			out.timedOut = string(bytes.TrimSpace(b)) == "true"
			return err
		case "hits":
			return p.object(func(key string) error {
				if key != "hits" {
					_, err := p.value()
					return err
				}
				return p.array(func() error {
					h := hit{seq: -1, version: -1}
					if err := p.hit(&h); err != nil {
						return err
					}
					out.hits++
					return fn(&h)
				})
			})
		}
		_, err := p.value()
		return err
	})
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return out, err
}

func (p *parser) hit(h *hit) error {
	p.source = p.source[:0]
	return p.object(func(key string) (err error) {
		switch key {
		case "_id":
			return p.text(&h.id)
		case "_routing":
			return p.text(&h.routing)
		case "_version":
			return p.number(&h.version)
		case "_seq_no":
			return p.number(&h.seq)
		case "sort": // has the sequence number also where the hit does not
			b, err := p.value()
			if err != nil || h.seq >= 0 {
				return err
			}
			var seq []int64 // some servers add what keeps equal ones apart
			if json.Unmarshal(b, &seq) == nil && len(seq) > 0 {
				h.seq = seq[0]
			}
			return nil
		case "_source":
			p.buf, p.source = p.source, p.buf
			h.source, err = p.value()
			p.buf, p.source = p.source, p.buf
			return err
		}
		_, err = p.value()
		return err
	})
}

// parser reads JSON without understanding its scalars. Unlike JSON proper it takes
// comments, which these servers accept in documents and give back.
type parser struct {
	r      *bufio.Reader
	buf    []byte // of the last value
	source []byte // of the last source
}

func (p *parser) skipSpace() (byte, error) {
	for {
		c, err := p.r.ReadByte()
		if err != nil || c != ' ' && c != '\n' && c != '\t' && c != '\r' {
			return c, err
		}
	}
}

func (p *parser) expect(want byte) error {
	c, err := p.skipSpace()
	if err == nil && c != want {
		err = fmt.Errorf("the answer is not what was asked for: %q where %q belongs", c, want)
	}
	return err
}

// object calls fn with each key; fn reads the value.
func (p *parser) object(fn func(key string) error) error {
	if err := p.expect('{'); err != nil {
		return err
	}
	for first := true; ; first = false {
		c, err := p.skipSpace()
		if err != nil {
			return err
		}
		if c == '}' {
			return nil
		}
		if c == ',' && !first {
			if c, err = p.skipSpace(); err != nil {
				return err
			}
		}
		if c != '"' {
			return fmt.Errorf("the answer is not what was asked for: %q where a name belongs", c)
		}
		slice, err := p.r.ReadSlice('"') // the servers' own names have no quotes in them, and are short
		if err != nil {
			return err
		}
		key := string(slice)
		if err := p.expect(':'); err != nil {
			return err
		}
		if err := fn(key[:len(key)-1]); err != nil {
			return err
		}
	}
}

// array calls fn before each element; fn reads it.
func (p *parser) array(fn func() error) error {
	if err := p.expect('['); err != nil {
		return err
	}
	for {
		c, err := p.skipSpace()
		if err != nil {
			return err
		}
		switch c {
		case ']':
			return nil
		case ',':
			continue
		}
		if err := p.r.UnreadByte(); err != nil {
			return err
		}
		if err := fn(); err != nil {
			return err
		}
	}
}

func (p *parser) text(out *string) error {
	b, err := p.value()
	if err != nil {
		return err
	}
	b = bytes.TrimSpace(b)
	if n := len(b); n >= 2 && b[0] == '"' && bytes.IndexByte(b, '\\') < 0 {
		*out = string(b[1 : n-1])
		return nil
	}
	return json.Unmarshal(b, out)
}

func (p *parser) number(out *int64) (err error) {
	b, err := p.value()
	if err == nil {
		*out, err = strconv.ParseInt(string(bytes.TrimSpace(b)), 10, 64)
	}
	return err
}

// value returns the bytes of a value, with the spaces around it, up to what ends it.
func (p *parser) value() ([]byte, error) {
	p.buf = p.buf[:0]
	depth := 0
	for {
		// What is in the buffer is looked at in one go.
		if p.r.Buffered() == 0 {
			if _, err := p.r.Peek(1); err != nil {
				return nil, err
			}
		}
		w, _ := p.r.Peek(p.r.Buffered())
		for i := 0; i < len(w); i++ {
			switch w[i] {
			case '{', '[':
				depth++
			case '}', ']', ',':
				if depth == 0 {
					p.buf = append(p.buf, w[:i]...)
					_, err := p.r.Discard(i)
					return p.buf, err
				}
				if w[i] != ',' {
					depth--
				}
			case '"', '/':
				if err := p.keep(w[:i+1]); err != nil {
					return nil, err
				}
				if _, err := p.r.Discard(i + 1); err != nil {
					return nil, err
				}
				var err error
				if w[i] == '"' {
					err = p.quoted()
				} else {
					err = p.comment()
				}
				if err != nil {
					return nil, err
				}
				w, i = nil, 0
			}
		}
		if w != nil {
			if err := p.keep(w); err != nil {
				return nil, err
			}
			if _, err := p.r.Discard(len(w)); err != nil {
				return nil, err
			}
		}
	}
}

// maxValue is the largest value that is taken, in bytes: five times what servers take as a request
// when they are not told otherwise ("http.max_content_length").
const maxValue = 512 << 20

// keep adds to the last value.
func (p *parser) keep(part []byte) error {
	if len(p.buf)+len(part) > maxValue {
		return fmt.Errorf("the answer holds a value of more than %d MiB", maxValue>>20)
	}
	p.buf = append(p.buf, part...)
	return nil
}

// quoted takes the rest of a string.
func (p *parser) quoted() error {
	for {
		part, err := p.r.ReadSlice('"')
		if err := p.keep(part); err != nil {
			return err
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err != nil {
			return err
		}
		back := 0
		for i := len(p.buf) - 2; i >= 0 && p.buf[i] == '\\'; i-- {
			back++
		}
		if back%2 == 0 {
			return nil
		}
	}
}

// comment takes the rest of a comment.
func (p *parser) comment() error {
	c, err := p.r.ReadByte()
	if err != nil {
		return err
	}
	p.buf = append(p.buf, c)
	end := byte('\n')
	if c == '*' {
		end = '/'
	}
	begin := len(p.buf)
	for {
		part, err := p.r.ReadSlice(end)
		if err := p.keep(part); err != nil {
			return err
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if n := len(p.buf); err != nil || end == '\n' || n-begin >= 2 && p.buf[n-2] == '*' {
			return err
		}
	}
}
