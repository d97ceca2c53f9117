package blob

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// maxAnswer bounds what a server says besides an object's content, in bytes.
const maxAnswer = 8 << 20

// errEndless is returned where an answer is longer than what it answers can be.
var errEndless = errors.New("the server sent more than it was asked for")

// answers bounds what a server may send: what reads answers would else read on, and throw away, for as
// long as they come.
type answers struct{ http.RoundTripper }

// RoundTrip implements [http.RoundTripper].
func (a answers) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := a.RoundTripper.RoundTrip(r)
	if err != nil || r.Method == http.MethodHead { // which has no content, and says how much there is
		return resp, err
	}
	most := int64(maxAnswer)
	if r.Method == http.MethodGet && r.URL.RawQuery == "" && resp.StatusCode < 300 {
		most = asked(r.Header.Get("Range"))
	}
	if resp.ContentLength > most {
		_ = resp.Body.Close()
		return nil, fmt.Errorf("%w: %d bytes, and not %d at most", errEndless, resp.ContentLength, most)
	}
	resp.Body = &bounded{resp.Body, most}
	return resp, nil
}

// asked returns how many bytes a range is (RFC 9110, 14.1.2), or a whole object at most.
func asked(text string) int64 {
	from, to, ok := strings.Cut(strings.TrimPrefix(text, "bytes="), "-")
	last, err := strconv.ParseInt(to, 10, 64)
	if !ok || err != nil {
		return MaxObject
	}
	if from == "" {
		return last
	}
	first, err := strconv.ParseInt(from, 10, 64)
	if err != nil || first > last {
		return MaxObject
	}
	return last - first + 1
}

type bounded struct {
	io.ReadCloser
	left int64
}

// Read implements [io.Reader].
func (b *bounded) Read(p []byte) (int, error) {
	if b.left < 0 {
		return 0, errEndless
	}
	n, err := b.ReadCloser.Read(p[:min(int64(len(p)), b.left+1)])
	if b.left -= int64(n); b.left < 0 {
		return max(n-1, 0), errEndless
	}
	return n, err
}
