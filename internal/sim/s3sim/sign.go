package s3sim

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// authenticate checks a request's signature ("Signature Version 4").
func (o *Server) authenticate(r *http.Request) *s3Error {
	rest, ok := strings.CutPrefix(r.Header.Get("Authorization"), "AWS4-HMAC-SHA256 ")
	if !ok {
		return &s3Error{403, "AccessDenied", "Access Denied"}
	}
	parts := map[string]string{}
	for _, p := range strings.Split(rest, ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(p), "=")
		parts[k] = v
	}
	scope := strings.Split(parts["Credential"], "/")
	if len(scope) != 5 || scope[0] != o.opt.Access {
		return &s3Error{403, "InvalidAccessKeyId", "The AWS Access Key Id you provided does not exist in our records."}
	}
	stamp := r.Header.Get("X-Amz-Date")
	when, err := time.Parse("20060102T150405Z", stamp)
	if err != nil || o.now().Sub(when).Abs() > 15*time.Minute {
		return &s3Error{403, "RequestTimeTooSkewed",
			"The difference between the request time and the current time is too large."}
	}
	var headers strings.Builder
	for _, h := range strings.Split(parts["SignedHeaders"], ";") {
		value := strings.Join(r.Header.Values(h), ",")
		if h == "host" {
			value = r.Host
		}
		if h == "content-length" && value == "" {
			value = r.Header.Get("Content-Length")
		}
		headers.WriteString(h + ":" + strings.TrimSpace(value) + "\n")
	}
	canonical := strings.Join([]string{r.Method, escapePath(r.URL.Path), canonicalQuery(r.URL.Query()),
		headers.String(), parts["SignedHeaders"], r.Header.Get("X-Amz-Content-Sha256")}, "\n")
	sum := sha256.Sum256([]byte(canonical))
	text := strings.Join([]string{"AWS4-HMAC-SHA256", stamp, strings.Join(scope[1:], "/"), hex.EncodeToString(sum[:])},
		"\n")
	key := []byte("AWS4" + o.opt.Secret)
	for _, s := range append(slices.Clone(scope[1:]), text) {
		m := hmac.New(sha256.New, key)
		_, _ = m.Write([]byte(s))
		key = m.Sum(nil)
	}
	if !hmac.Equal([]byte(hex.EncodeToString(key)), []byte(parts["Signature"])) {
		return &s3Error{403, "SignatureDoesNotMatch",
			"The request signature we calculated does not match the signature you provided."}
	}
	return nil
}

func canonicalQuery(q url.Values) string {
	var out []string
	for k, vs := range q {
		for _, v := range vs {
			out = append(out, escape(k)+"="+escape(v))
		}
	}
	slices.Sort(out)
	return strings.Join(out, "&")
}

func escape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

func escapePath(p string) string {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = escape(parts[i])
	}
	return strings.Join(parts, "/")
}
