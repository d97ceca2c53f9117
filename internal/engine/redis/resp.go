package redis

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// errProtocol means that bytes are not what the protocol allows at their place.
var errProtocol = errors.New("this is not the protocol of the servers")

// maxArgs bounds the arguments of one command: a server takes no more.
const maxArgs = 1 << 20

// appendCommand appends a command as clients send it: an array of strings.
func appendCommand(b []byte, args ...[]byte) []byte {
	b = append(b, '*')
	b = strconv.AppendInt(b, int64(len(args)), 10)
	b = append(b, '\r', '\n')
	for _, a := range args {
		b = append(b, '$')
		b = strconv.AppendInt(b, int64(len(a)), 10)
		b = append(b, '\r', '\n')
		b = append(b, a...)
		b = append(b, '\r', '\n')
	}
	return b
}

// command makes arguments of strings, byte slices and whole numbers.
func command(args ...any) [][]byte {
	out := make([][]byte, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			out[i] = []byte(v)
		case []byte:
			out[i] = v
		case int64:
			out[i] = strconv.AppendInt(nil, v, 10)
		case uint64:
			out[i] = strconv.AppendUint(nil, v, 10)
		case int:
			out[i] = strconv.AppendInt(nil, int64(v), 10)
		}
	}
	return out
}

// readCommands calls fn with each command of a record's value; the slices point
// into b.
func readCommands(b []byte, fn func(args [][]byte) error) error {
	for len(b) > 0 {
		args, rest, err := readCommand(b)
		if err != nil {
			return err
		}
		if err := fn(args); err != nil {
			return err
		}
		b = rest
	}
	return nil
}

func readCommand(b []byte) (args [][]byte, rest []byte, err error) {
	n, b, err := readNumber(b, '*')
	if err != nil {
		return nil, nil, err
	}
	if n < 1 || n > maxArgs || n > len(b) {
		return nil, nil, fmt.Errorf("%w: a command of %d arguments", errProtocol, n)
	}
	args = make([][]byte, n)
	for i := range args {
		var l int
		if l, b, err = readNumber(b, '$'); err != nil {
			return nil, nil, err
		}
		if l < 0 || l+2 > len(b) || b[l] != '\r' || b[l+1] != '\n' {
			return nil, nil, fmt.Errorf("%w: an argument of %d bytes does not end there", errProtocol, l)
		}
		args[i], b = b[:l:l], b[l+2:]
	}
	return args, b, nil
}

func readNumber(b []byte, mark byte) (int, []byte, error) {
	i := bytes.IndexByte(b[:min(len(b), 32)], '\n')
	if i < 3 || b[0] != mark || b[i-1] != '\r' {
		return 0, nil, fmt.Errorf("%w: %q where %q and a number belong", errProtocol, b[:min(len(b), 16)], mark)
	}
	n, err := strconv.Atoi(string(b[1 : i-1]))
	if err != nil {
		return 0, nil, fmt.Errorf("%w: %q is no number", errProtocol, b[1:i-1])
	}
	return n, b[i+1:], nil
}

// wire reads what a server sends, and counts its bytes.
type wire struct {
	r *bufio.Reader
	n int64
}

func newWire(r io.Reader) *wire { return &wire{r: bufio.NewReaderSize(r, 64<<10)} }

func (w *wire) line() (string, error) {
	s, err := w.r.ReadString('\n')
	w.n += int64(len(s))
	if err != nil {
		return "", eof(err)
	}
	if len(s) < 2 || s[len(s)-2] != '\r' {
		if s == "\n" { // a sign of life
			return "", nil
		}
		return "", fmt.Errorf("%w: line %q", errProtocol, s[:min(len(s), 40)])
	}
	return s[:len(s)-2], nil
}

// command reads one command of the replication stream. The arguments are its
// own.
func (w *wire) command() ([][]byte, error) {
	head, err := w.line()
	if err != nil || head == "" {
		return nil, err
	}
	n, err := number(head, '*')
	if err != nil {
		return nil, err
	}
	if n < 1 || n > maxArgs {
		return nil, fmt.Errorf("%w: a command of %d arguments", errProtocol, n)
	}
	args := make([][]byte, 0, min(n, 1024))
	for range n {
		if head, err = w.line(); err != nil {
			return nil, err
		}
		l, err := number(head, '$')
		if err != nil || l < 0 || l > maxString {
			return nil, fmt.Errorf("%w: argument %q", errProtocol, head[:min(len(head), 40)])
		}
		a, err := readN(w.r, l+2)
		w.n += int64(len(a))
		if err != nil {
			return nil, err
		}
		if a[l] != '\r' || a[l+1] != '\n' {
			return nil, fmt.Errorf("%w: an argument of %d bytes does not end there", errProtocol, l)
		}
		args = append(args, a[:l:l])
	}
	return args, nil
}

func number(s string, mark byte) (int, error) {
	if s == "" || s[0] != mark {
		return 0, fmt.Errorf("%w: %q where %q and a number belong", errProtocol, s[:min(len(s), 40)], mark)
	}
	n, err := strconv.Atoi(s[1:])
	if err != nil {
		return 0, fmt.Errorf("%w: %q is no number", errProtocol, s[:min(len(s), 40)])
	}
	return n, nil
}

// maxString is the largest string that servers can be told to allow, in bytes.
const maxString = 4 << 30

// readN reads n bytes. Memory grows with what comes, not with what is claimed.
func readN(r io.Reader, n int) ([]byte, error) {
	const step = 1 << 20
	buf := make([]byte, min(n, step))
	for at := 0; ; {
		if _, err := io.ReadFull(r, buf[at:]); err != nil {
			return nil, eof(err)
		}
		if at = len(buf); at == n {
			return buf, nil
		}
		buf = append(buf, make([]byte, min(n-at, max(at, step)))...)
	}
}

// eof makes an end where more belongs an error that says so.
func eof(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
