package evidence

import (
	"bufio"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// Chain is what a file holds of one installation's statements in one store.
type Chain struct {
	Key        string    `json:"key"` // its thumbprint
	Store      string    `json:"store"`
	Statements int64     `json:"statements"`
	First      time.Time `json:"first,omitzero"`
	Last       time.Time `json:"last,omitzero"`
	// Known: the key is one of those that are trusted.
	Known bool `json:"known"`

	number int64
	digest string
}

// Fault is something wrong with a file of evidence.
type Fault struct {
	Line int    `json:"line"` // from 1; the line after the last where something is missing at the end
	What string `json:"what"`
}

// Checked is what checking a file found.
type Checked struct {
	Statements []*Statement `json:"statements"`
	Chains     []*Chain     `json:"chains"`
	Faults     []Fault      `json:"faults"`
	// By is the key that signed the end of the file, and Written when.
	By      string    `json:"by,omitempty"`
	Written time.Time `json:"written,omitzero"`
}

// Sound reports whether nothing is wrong with the file. Whether the keys are whose they are said to
// be is another question: [Checked.Unknown].
func (c *Checked) Sound() bool { return len(c.Faults) == 0 }

// Unknown returns the keys that are none of those that are trusted.
func (c *Checked) Unknown() (out []string) {
	for _, ch := range c.Chains {
		if !ch.Known && !slices.Contains(out, ch.Key) {
			out = append(out, ch.Key)
		}
	}
	return out
}

// Check reads a file of evidence, as [Write] writes it, and finds what was changed, taken away, added or
// put elsewhere. Trusted are the keys that are known to be an installation's.
func Check(r io.Reader, trusted []ed25519.PublicKey) (*Checked, error) {
	c := newChecker(trusted)
	in := bufio.NewReader(r)
	for {
		line, err := readLine(in)
		if errors.Is(err, io.EOF) && line == "" {
			break
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("line %d: %w", c.line+1, err)
		}
		c.line++
		if errors.Is(err, io.EOF) {
			c.fault("it is cut off: a line ends with a line feed")
		}
		c.look(line)
	}
	c.end()
	return c.out, nil
}

// CheckLines is Check of the lines of chains that have no end, as they lie in a store: lines are counted
// from 1.
func CheckLines(lines []string, trusted []ed25519.PublicKey) *Checked {
	c := newChecker(trusted)
	for _, line := range lines {
		c.line++
		c.look(line)
	}
	if c.ended {
		c.fault("it is the end of a file, which is in no store")
	}
	c.sort()
	return c.out
}

func newChecker(trusted []ed25519.PublicKey) *checker {
	c := &checker{out: &Checked{}, chains: map[string]*Chain{}, trusted: map[string]bool{}}
	for _, k := range trusted {
		c.trusted[Thumbprint(k)] = true
	}
	return c
}

// readLine returns a line without its end; io.EOF where the file ends before.
func readLine(in *bufio.Reader) (string, error) {
	var b strings.Builder
	for {
		part, err := in.ReadSlice('\n')
		b.Write(part)
		switch {
		case b.Len() > MaxLine:
			return "", fmt.Errorf("it is longer than %d bytes: this is no file of evidence", MaxLine)
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil:
			return b.String(), err
		}
		return strings.TrimSuffix(b.String(), "\n"), nil
	}
}

type checker struct {
	out     *Checked
	chains  map[string]*Chain
	trusted map[string]bool
	line    int
	ended   bool
}

func (c *checker) fault(format string, args ...any) {
	c.out.Faults = append(c.out.Faults, Fault{c.line, fmt.Sprintf(format, args...)})
}

func (c *checker) look(line string) {
	if c.ended {
		c.fault("it comes after the end of the file")
		c.ended = false
	}
	s, public, err := Parse(line)
	if err != nil {
		c.fault("%v", err)
		return
	}
	key := Thumbprint(public)
	if s.Kind == KindEnd {
		c.ended = true
		c.compare(s, key)
		return
	}
	c.out.Statements = append(c.out.Statements, s)
	ch := c.chains[key+s.Store]
	if ch == nil {
		ch = &Chain{Key: key, Store: s.Store, First: s.Finished, Known: c.trusted[key]}
		c.chains[key+s.Store] = ch
		c.out.Chains = append(c.out.Chains, ch)
	}
	switch {
	case s.Number > ch.number+1:
		c.fault("statement %d follows on %d: %d missing in between", s.Number, ch.number, s.Number-ch.number-1)
	case s.Number <= ch.number:
		c.fault("statement %d follows on %d: it was put elsewhere, or in twice", s.Number, ch.number)
	case s.Previous != ch.digest:
		c.fault("statement %d was written after another statement than the one before it here", s.Number)
	}
	ch.number, ch.digest, ch.Last = s.Number, Digest(line), s.Finished
	ch.Statements++
}

// compare looks whether the chains end as the end of the file says.
func (c *checker) compare(s *Statement, key string) {
	c.out.By, c.out.Written = key, s.Written
	known := 0
	for _, e := range s.Chains {
		ch := c.chains[e.Key+e.Store]
		switch {
		case ch == nil:
			c.fault("all statements of key %s are missing, of which there were %d", e.Key, e.Number)
			continue
		case ch.number != e.Number || ch.digest != e.Last:
			c.fault("the chain of key %s ends with statement %d here, and ended with another one, %d", e.Key, ch.number,
				e.Number)
		}
		known++
	}
	if known != len(c.chains) {
		c.fault("there are statements of %d chains in it, and there were %d", len(c.chains), len(s.Chains))
	}
	if !c.trusted[key] && !slices.ContainsFunc(c.out.Chains, func(ch *Chain) bool { return ch.Key == key }) {
		c.out.Chains = append(c.out.Chains, &Chain{Key: key, Store: s.Store, Known: false})
	}
}

func (c *checker) end() {
	if !c.ended {
		c.line++
		c.fault("the file has no end: it was cut off, and more may have been there")
	}
	c.sort()
}

func (c *checker) sort() {
	slices.SortStableFunc(c.out.Chains, func(a, b *Chain) int { return strings.Compare(a.Key+a.Store, b.Key+b.Store) })
}

// Write writes a file of evidence: the lines of chains, in order, and an end that key signs.
func Write(w io.Writer, key ed25519.PrivateKey, lines []string, storeID string, now time.Time) error {
	end := Statement{Format: Format, Store: storeID, Kind: KindEnd, Written: now.UTC().Truncate(time.Millisecond)}
	at := map[string]int{}
	for _, line := range lines {
		s, public, err := Parse(line)
		if err != nil {
			return err
		}
		k := Thumbprint(public)
		i, ok := at[k+s.Store]
		if !ok {
			i = len(end.Chains)
			at[k+s.Store], end.Chains = i, append(end.Chains, ChainEnd{Key: k, Store: s.Store})
		}
		end.Chains[i].Number, end.Chains[i].Last = s.Number, Digest(line)
		if _, err := io.WriteString(w, line+"\n"); err != nil {
			return err
		}
	}
	line, err := Sign(key, &end)
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, line+"\n")
	return err
}
