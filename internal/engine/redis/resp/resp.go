// Package resp reads and writes the Redis protocol as replication needs it.
package resp

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"

	"dexamen/internal/engine/keyprefix"
)

// ErrProtocol means that bytes are not what the protocol allows at their place.
var ErrProtocol = errors.New("this is not the protocol of the servers")

// maxArgs bounds the arguments of one command. Servers take a million of a client, and tell
// replicas more: a script may make them, or a command that has two where it was sent with
// one.
const maxArgs = 1 << 28

// AppendCommand appends a command as clients send it: an array of strings.
func AppendCommand(b []byte, args ...[]byte) []byte {
	b = AppendHead(b, len(args))
	for _, a := range args {
		b = AppendArgument(b, a)
	}
	return b
}

// AppendHead appends how a command of n arguments begins.
func AppendHead(b []byte, n int) []byte {
	b = append(b, '*')
	b = strconv.AppendInt(b, int64(n), 10)
	return append(b, '\r', '\n')
}

// AppendArgument appends one of them.
func AppendArgument(b, a []byte) []byte {
	b = append(b, '$')
	b = strconv.AppendInt(b, int64(len(a)), 10)
	b = append(b, '\r', '\n')
	b = append(b, a...)
	return append(b, '\r', '\n')
}

// Command makes arguments of strings, byte slices and whole numbers.
func Command(args ...any) [][]byte {
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

// ReadCommands calls fn with each command of a record's value; the slices point
// into b.
func ReadCommands(b []byte, fn func(args [][]byte) error) error {
	for len(b) > 0 {
		args, rest, err := ReadCommand(b)
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

// CountCommands returns the first word of a record's value, and how many commands it is.
func CountCommands(b []byte) (verb []byte, n int, err error) {
	for ; len(b) > 0; n++ {
		var args int
		if args, b, err = readNumber(b, '*'); err != nil {
			return nil, 0, err
		}
		if args < 1 || args > maxArgs || args > len(b) {
			return nil, 0, fmt.Errorf("%w: a command of %d arguments", ErrProtocol, args)
		}
		for i := range args {
			var a []byte
			if a, b, err = readArgument(b); err != nil {
				return nil, 0, err
			}
			if n == 0 && i == 0 {
				verb = a
			}
		}
	}
	return verb, n, nil
}

// readArgument reads one argument, and returns what follows it.
func readArgument(b []byte) (a, rest []byte, err error) {
	l, b, err := readNumber(b, '$')
	if err != nil {
		return nil, nil, err
	}
	if l < 0 || l+2 > len(b) || b[l] != '\r' || b[l+1] != '\n' {
		return nil, nil, fmt.Errorf("%w: an argument of %d bytes does not end there", ErrProtocol, l)
	}
	return b[:l:l], b[l+2:], nil
}

func ReadCommand(b []byte) (args [][]byte, rest []byte, err error) {
	n, b, err := readNumber(b, '*')
	if err != nil {
		return nil, nil, err
	}
	if n < 1 || n > maxArgs || n > len(b) {
		return nil, nil, fmt.Errorf("%w: a command of %d arguments", ErrProtocol, n)
	}
	args = make([][]byte, n)
	for i := range args {
		if args[i], b, err = readArgument(b); err != nil {
			return nil, nil, err
		}
	}
	return args, b, nil
}

func readNumber(b []byte, mark byte) (int, []byte, error) {
	if len(b) > 3 && b[0] == mark && b[1] != '-' && b[1] != '+' {
		n := 0
		for i := 1; i < min(len(b)-1, 12); i++ {
			c := b[i]
			if c == '\r' && b[i+1] == '\n' && i > 1 {
				return n, b[i+2:], nil
			}
			if c < '0' || c > '9' {
				break
			}
			n = n*10 + int(c-'0')
		}
	}
	i := bytes.IndexByte(b[:min(len(b), 32)], '\n')
	if i < 3 || b[0] != mark || b[i-1] != '\r' {
		return 0, nil, fmt.Errorf("%w: %q where %q and a number belong", ErrProtocol, b[:min(len(b), 16)], mark)
	}
	n, err := strconv.Atoi(string(b[1 : i-1]))
	if err != nil {
		return 0, nil, fmt.Errorf("%w: %q is no number", ErrProtocol, b[1:i-1])
	}
	return n, b[i+1:], nil
}

// Wire reads what a server sends, and counts its bytes.
type Wire struct {
	R *bufio.Reader
	N int64
}

func NewWire(r io.Reader) *Wire { return &Wire{R: bufio.NewReaderSize(r, 64<<10)} }

// Line returns a line without its end, of at most what the reader's buffer holds; a sign of life is an
// empty one.
func (w *Wire) Line() (string, error) {
	b, err := w.R.ReadSlice('\n')
	w.N += int64(len(b))
	if errors.Is(err, bufio.ErrBufferFull) {
		return "", fmt.Errorf("%w: a line of more than %d bytes, which begins %q", ErrProtocol, len(b), b[:40])
	}
	if err != nil {
		return "", Eof(err)
	}
	s := string(b)
	if len(s) < 2 || s[len(s)-2] != '\r' {
		if s == "\n" { // a sign of life
			return "", nil
		}
		return "", fmt.Errorf("%w: line %q", ErrProtocol, s[:min(len(s), 40)])
	}
	return s[:len(s)-2], nil
}

// Command reads one command of the replication stream. The arguments are its
// own.
func (w *Wire) Command() ([][]byte, error) {
	head, err := w.Line()
	if err != nil || head == "" {
		return nil, err
	}
	n, err := Number(head, '*')
	if err != nil {
		return nil, err
	}
	if n < 1 || n > maxArgs {
		return nil, fmt.Errorf("%w: a command of %d arguments", ErrProtocol, n)
	}
	args := make([][]byte, 0, min(n, 1024))
	for range n {
		if head, err = w.Line(); err != nil {
			return nil, err
		}
		l, err := Number(head, '$')
		if err != nil || l < 0 || l > MaxString {
			return nil, fmt.Errorf("%w: argument %q", ErrProtocol, head[:min(len(head), 40)])
		}
		a, err := ReadN(w.R, l+2)
		w.N += int64(len(a))
		if err != nil {
			return nil, err
		}
		if a[l] != '\r' || a[l+1] != '\n' {
			return nil, fmt.Errorf("%w: an argument of %d bytes does not end there", ErrProtocol, l)
		}
		args = append(args, a[:l:l])
	}
	return args, nil
}

func Number(s string, mark byte) (int, error) {
	if s == "" || s[0] != mark {
		return 0, fmt.Errorf("%w: %q where %q and a number belong", ErrProtocol, s[:min(len(s), 40)], mark)
	}
	n, err := strconv.Atoi(s[1:])
	if err != nil {
		return 0, fmt.Errorf("%w: %q is no number", ErrProtocol, s[:min(len(s), 40)])
	}
	return n, nil
}

// MaxString is the largest string that servers can be told to allow, in bytes.
const MaxString = 4 << 30

// ReadN reads n bytes. Memory grows with what comes, not with what is claimed.
func ReadN(r io.Reader, n int) ([]byte, error) {
	const step = 1 << 20
	buf := make([]byte, min(n, step))
	for at := 0; ; {
		if _, err := io.ReadFull(r, buf[at:]); err != nil {
			return nil, Eof(err)
		}
		if at = len(buf); at == n {
			return buf, nil
		}
		buf = append(buf, make([]byte, min(n-at, max(at, step)))...)
	}
}

// Eof makes an end where more belongs an error that says so.
func Eof(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// Text shows bytes as they are where they print, else quoted.
func Text(b []byte, most int) string { return keyprefix.Shown(b, most, false) }
