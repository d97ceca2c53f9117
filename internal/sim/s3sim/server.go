// Package s3sim stands in for an object store: the S3 protocol, in memory, with
// versions and locks.
package s3sim

import (
	"bufio"
	"crypto/md5"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Options describe an object store to stand in.
type Options struct {
	Port           int // any that is free when zero
	Access, Secret string
	// Heedless ignores If-None-Match, as some stores do.
	Heedless bool
	// ClockAhead is how far the store's clock is ahead; requests that are more
	// than 15 minutes off are refused ("RequestTimeTooSkewed").
	ClockAhead time.Duration
	// SlowDown answers every so manieth request with 503 ("SlowDown").
	SlowDown int
	// Conflict answers every so manieth conditional put with 409, as if another one of that name
	// was going on.
	Conflict int
	// Lost breaks the connection after every so manieth put was done.
	Lost int
	// Room is how many bytes it takes; no bound when zero.
	Room int64
	// Latency is added to every answer.
	Latency time.Duration
	// Locks makes its buckets with object lock.
	Locks bool
}

// Server is a running stand-in for an object store, in memory. It speaks the
// S3 protocol ("Amazon S3 API Reference") as far as buckets, whole objects,
// ranges, listings, conditional puts and object lock go: path style, signature
// version 4. Locked buckets keep versions: a deletion hides, an overwritten
// version stays.
type Server struct {
	opt      Options
	server   *http.Server
	listener net.Listener

	mu       sync.Mutex
	buckets  map[string]map[string]*versions
	held     int64
	requests map[string]int
	count    int
	puts     int
	tries    int
}

// versions are an object's, the newest last.
type versions struct{ list []*version }

type version struct {
	id      string
	data    []byte
	etag    string
	made    time.Time
	deleted bool // a delete marker
	mode    string
	until   time.Time
}

func (v *versions) now() *version {
	if v == nil || len(v.list) == 0 || v.list[len(v.list)-1].deleted {
		return nil
	}
	return v.list[len(v.list)-1]
}

// Start runs an object store on a loopback port.
func Start(opt Options) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", opt.Port))
	if err != nil {
		return nil, fmt.Errorf("stand-in object store: %w", err)
	}
	o := &Server{opt: opt, listener: l, buckets: map[string]map[string]*versions{}, requests: map[string]int{}}
	o.server = &http.Server{Handler: http.HandlerFunc(o.serve), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = o.server.Serve(l) }()
	return o, nil
}

// Endpoint returns the address for clients.
func (o *Server) Endpoint() string { return "http://" + o.listener.Addr().String() }

// MakeBucket makes a bucket.
func (o *Server) MakeBucket(name string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.buckets[name] == nil {
		o.buckets[name] = map[string]*versions{}
	}
}

// Requests counts what was asked, by method.
func (o *Server) Requests() map[string]int {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := map[string]int{}
	for k, v := range o.requests {
		out[k] = v
	}
	return out
}

// Close ends it.
func (o *Server) Close() { _ = o.server.Close() }

func (o *Server) now() time.Time { return time.Now().Add(o.opt.ClockAhead).UTC() }

type s3Error struct {
	status        int
	code, message string
}

func (o *Server) fail(w http.ResponseWriter, r *http.Request, e s3Error) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(e.status)
	if r.Method == http.MethodHead {
		return
	}
	_ = xml.NewEncoder(w).Encode(struct {
		XMLName  xml.Name `xml:"Error"`
		Code     string
		Message  string
		Resource string
	}{Code: e.code, Message: e.message, Resource: r.URL.Path})
}

func (o *Server) serve(w http.ResponseWriter, r *http.Request) {
	time.Sleep(o.opt.Latency)
	body, err := readBody(r)
	if err != nil {
		o.fail(w, r, s3Error{400, "IncompleteBody", err.Error()})
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.count++
	o.requests[r.Method]++
	w.Header().Set("Date", o.now().Format(http.TimeFormat))
	w.Header().Set("Server", "dexamen stand-in")
	if o.opt.SlowDown > 0 && o.count%o.opt.SlowDown == 0 {
		o.fail(w, r, s3Error{503, "SlowDown", "Please reduce your request rate."})
		return
	}
	if e := o.authenticate(r); e != nil {
		o.fail(w, r, *e)
		return
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if key == "" {
		o.onBucket(w, r, bucket)
		return
	}
	objects := o.buckets[bucket]
	if objects == nil {
		o.fail(w, r, s3Error{404, "NoSuchBucket", "The specified bucket does not exist"})
		return
	}
	if e := o.onObject(w, r, objects, key, body); e != nil {
		o.fail(w, r, *e)
	}
}

// readBody reads a request's body, also where it comes in signed chunks
// ("Transferring Payload in Multiple Chunks").
func readBody(r *http.Request) ([]byte, error) {
	if !strings.HasPrefix(r.Header.Get("X-Amz-Content-Sha256"), "STREAMING-") {
		return io.ReadAll(r.Body)
	}
	var out []byte
	in := bufio.NewReader(r.Body)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return nil, err
		}
		digits, _, _ := strings.Cut(strings.TrimSpace(line), ";")
		n, err := strconv.ParseInt(digits, 16, 64)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			_, _ = io.Copy(io.Discard, in)
			return out, nil
		}
		chunk := make([]byte, n+2)
		if _, err := io.ReadFull(in, chunk); err != nil {
			return nil, err
		}
		out = append(out, chunk[:n]...)
	}
}

func (o *Server) onBucket(w http.ResponseWriter, r *http.Request, bucket string) {
	q := r.URL.Query()
	_, there := o.buckets[bucket]
	switch {
	case r.Method == http.MethodPut:
		if there {
			o.fail(w, r, s3Error{409, "BucketAlreadyOwnedByYou", "The bucket is there already"})
			return
		}
		o.buckets[bucket] = map[string]*versions{}
	case !there:
		o.fail(w, r, s3Error{404, "NoSuchBucket", "The specified bucket does not exist"})
	case q.Has("location"):
		o.xml(w, struct {
			XMLName xml.Name `xml:"LocationConstraint"`
			Region  string   `xml:",chardata"`
		}{Region: "us-east-1"})
	case r.Method == http.MethodGet && q.Has("versions"):
		o.listVersions(w, q.Get("prefix"), o.buckets[bucket])
	case r.Method == http.MethodGet:
		o.list(w, q, o.buckets[bucket])
	}
}

func (o *Server) xml(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/xml")
	_, _ = io.WriteString(w, xml.Header)
	_ = xml.NewEncoder(w).Encode(v)
}

type listed struct {
	Key          string
	LastModified string
	ETag         string
	Size         int
	StorageClass string
}

// list answers ListObjectsV2; pages hold up to a thousand.
func (o *Server) list(w http.ResponseWriter, q url.Values, objects map[string]*versions) {
	var out struct {
		XMLName               xml.Name `xml:"ListBucketResult"`
		Prefix                string
		KeyCount, MaxKeys     int
		IsTruncated           bool
		NextContinuationToken string `xml:",omitempty"`
		EncodingType          string `xml:",omitempty"`
		Contents              []listed
	}
	out.Prefix, out.MaxKeys, out.EncodingType = q.Get("prefix"), 1000, q.Get("encoding-type")
	if n, err := strconv.Atoi(q.Get("max-keys")); err == nil && n > 0 && n < 1000 {
		out.MaxKeys = n
	}
	after := max(q.Get("continuation-token"), q.Get("start-after"))
	var keys []string
	for k, v := range objects {
		if strings.HasPrefix(k, out.Prefix) && k > after && v.now() != nil {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	for _, k := range keys {
		if len(out.Contents) == out.MaxKeys {
			out.IsTruncated, out.NextContinuationToken = true, out.Contents[len(out.Contents)-1].Key
			break
		}
		v := objects[k].now()
		out.Contents = append(out.Contents,
			listed{k, v.made.Format("2006-01-02T15:04:05.000Z"), v.etag, len(v.data), "STANDARD"})
	}
	if out.EncodingType == "url" {
		for i := range out.Contents {
			out.Contents[i].Key = url.QueryEscape(out.Contents[i].Key)
		}
	}
	out.KeyCount = len(out.Contents)
	o.xml(w, out)
}

type listedVersion struct {
	listed
	VersionId string
	IsLatest  bool
}

// listVersions answers ListObjectVersions, in one page.
func (o *Server) listVersions(w http.ResponseWriter, prefix string, objects map[string]*versions) {
	var out struct {
		XMLName      xml.Name `xml:"ListVersionsResult"`
		Prefix       string
		MaxKeys      int
		IsTruncated  bool
		Version      []listedVersion
		DeleteMarker []listedVersion
	}
	out.Prefix, out.MaxKeys = prefix, 1000
	var keys []string
	for k := range objects {
		if strings.HasPrefix(k, prefix) {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	for _, k := range keys {
		list := objects[k].list
		for i := len(list) - 1; i >= 0; i-- {
			v := list[i]
			row := listedVersion{listed{k, v.made.Format("2006-01-02T15:04:05.000Z"), v.etag, len(v.data), "STANDARD"},
				v.id, i == len(list)-1}
			if v.deleted {
				out.DeleteMarker = append(out.DeleteMarker, row)
			} else {
				out.Version = append(out.Version, row)
			}
		}
	}
	o.xml(w, out)
}

func (o *Server) onObject(w http.ResponseWriter, r *http.Request, objects map[string]*versions, key string,
	body []byte) *s3Error {
	all := objects[key]
	v := all.now()
	if id := r.URL.Query().Get("versionId"); id != "" && all != nil && r.Method != http.MethodDelete {
		v = nil
		for _, x := range all.list {
			if x.id == id && !x.deleted {
				v = x
			}
		}
	}
	if r.URL.Query().Has("retention") {
		return o.retention(w, r, v, body)
	}
	switch r.Method {
	case http.MethodPut:
		if o.tries++; r.Header.Get("If-None-Match") == "*" && o.opt.Conflict > 0 && o.tries%o.opt.Conflict == 0 {
			return &s3Error{409, "ConditionalRequestConflict", "The conditional request cannot succeed due to a " +
				"conflicting operation against this resource."}
		}
		if v != nil && r.Header.Get("If-None-Match") == "*" && !o.opt.Heedless {
			return &s3Error{412, "PreconditionFailed", "At least one of the pre-conditions you specified did not hold"}
		}
		if o.opt.Room > 0 && o.held+int64(len(body)) > o.opt.Room {
			return &s3Error{507, "InsufficientStorage", "there is no room left"}
		}
		sum := md5.Sum(body)
		put := &version{id: fmt.Sprint(o.count), data: body, etag: `"` + hex.EncodeToString(sum[:]) + `"`,
			made: o.now(), mode: r.Header.Get("X-Amz-Object-Lock-Mode")}
		if until, err := time.Parse(time.RFC3339, r.Header.Get("X-Amz-Object-Lock-Retain-Until-Date")); err == nil {
			put.until = until
		}
		if all == nil || !o.opt.Locks {
			if v != nil {
				o.held -= int64(len(v.data))
			}
			all = &versions{}
			objects[key] = all
		}
		all.list = append(all.list, put)
		o.held += int64(len(body))
		w.Header().Set("ETag", put.etag)
		if o.puts++; o.opt.Lost > 0 && o.puts%o.opt.Lost == 0 {
			if c, _, err := w.(http.Hijacker).Hijack(); err == nil {
				_ = c.Close()
			}
		}
	case http.MethodGet, http.MethodHead:
		if v == nil {
			return &s3Error{404, "NoSuchKey", "The specified key does not exist."}
		}
		return o.give(w, r, v)
	case http.MethodDelete:
		return o.remove(w, r.URL.Query().Get("versionId"), objects, key)
	default:
		return &s3Error{405, "MethodNotAllowed", "The specified method is not allowed against this resource."}
	}
	return nil
}

func (o *Server) give(w http.ResponseWriter, r *http.Request, v *version) *s3Error {
	h := w.Header()
	if !v.until.IsZero() {
		h.Set("X-Amz-Object-Lock-Mode", v.mode)
		h.Set("X-Amz-Object-Lock-Retain-Until-Date", v.until.Format(time.RFC3339))
	}
	h.Set("ETag", v.etag)
	h.Set("Last-Modified", v.made.Format(http.TimeFormat))
	h.Set("Accept-Ranges", "bytes")
	h.Set("Content-Type", "application/octet-stream")
	data, status := v.data, http.StatusOK
	if text, ok := strings.CutPrefix(r.Header.Get("Range"), "bytes="); ok {
		first, last, _ := strings.Cut(text, "-")
		from, err1 := strconv.Atoi(first)
		to, err2 := strconv.Atoi(last)
		switch {
		case first == "": // the last so many
			from, to = max(0, len(data)-to), len(data)-1
		case err1 != nil || from >= len(data):
			return &s3Error{416, "InvalidRange", "The requested range is not satisfiable"}
		case err2 != nil || to >= len(data):
			to = len(data) - 1
		}
		h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, to, len(data)))
		data, status = data[from:to+1], http.StatusPartialContent
	}
	h.Set("Content-Length", strconv.Itoa(len(data)))
	w.WriteHeader(status)
	if r.Method == http.MethodGet {
		_, _ = w.Write(data)
	}
	return nil
}

// remove deletes: with versions, what is there stays under its version, and is
// hidden ("Working with delete markers").
func (o *Server) remove(w http.ResponseWriter, id string, objects map[string]*versions, key string) *s3Error {
	all := objects[key]
	if all != nil && id != "" {
		for _, v := range all.list {
			if v.id == id && o.now().Before(v.until) {
				return &s3Error{403, "AccessDenied", "Access Denied because object protected by object lock."}
			}
		}
		all.list = slices.DeleteFunc(all.list, func(v *version) bool { return v.id == id })
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	w.WriteHeader(http.StatusNoContent)
	if all == nil {
		return nil
	}
	if o.opt.Locks && id == "" {
		all.list = append(all.list, &version{id: fmt.Sprint(o.count), deleted: true, made: o.now()})
		return nil
	}
	if v := all.now(); v != nil {
		o.held -= int64(len(v.data))
	}
	delete(objects, key)
	return nil
}

type retention struct {
	XMLName         xml.Name `xml:"Retention"`
	Mode            string
	RetainUntilDate string
}

// retention reads or sets until when a version is locked ("S3 Object Lock"). In
// compliance mode nobody shortens it.
func (o *Server) retention(w http.ResponseWriter, r *http.Request, v *version, body []byte) *s3Error {
	switch {
	case v == nil:
		return &s3Error{404, "NoSuchKey", "The specified key does not exist."}
	case !o.opt.Locks:
		return &s3Error{400, "InvalidRequest", "Bucket is missing Object Lock Configuration"}
	case r.Method == http.MethodPut:
		var q retention
		if err := xml.Unmarshal(body, &q); err != nil {
			return &s3Error{400, "MalformedXML", err.Error()}
		}
		until, err := time.Parse(time.RFC3339, q.RetainUntilDate)
		if err != nil {
			return &s3Error{400, "MalformedXML", err.Error()}
		}
		if v.mode == "COMPLIANCE" && until.Before(v.until) && o.now().Before(v.until) {
			return &s3Error{403, "AccessDenied", "Access Denied because object protected by object lock."}
		}
		v.mode, v.until = q.Mode, until
	case v.until.IsZero():
		return &s3Error{404, "NoSuchObjectLockConfiguration",
			"The specified object does not have a ObjectLock configuration"}
	default:
		o.xml(w, retention{Mode: v.mode, RetainUntilDate: v.until.Format(time.RFC3339)})
	}
	return nil
}
