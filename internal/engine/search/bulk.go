package search

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// Write implements [engine.StagingWriter].
func (w *writer) Write(ctx context.Context, stage string, recs []record.Record) error {
	w.mu.Lock()
	st := w.streams[stage]
	w.mu.Unlock()
	if st != nil {
		return w.c.fail(st.write(ctx, recs))
	}
	return w.c.fail(w.bulk(ctx, stage, "index", recs))
}

// bulkMost is how many bytes a bulk request may have: servers refuse those of more
// than a tenth of their memory.
const bulkMost = 5 << 20

// bulk writes documents; op is "index", with their versions, or "create".
func (w *writer) bulk(ctx context.Context, index, op string, recs []record.Record) error {
	var body bytes.Buffer
	var sent []document
	flush := func() error {
		if len(sent) == 0 {
			return nil
		}
		err := w.sendBulk(ctx, index, op, sent, body.Bytes())
		body.Reset()
		sent = sent[:0]
		return err
	}
	for _, r := range recs {
		d, err := readValue(r.Value)
		if err != nil {
			return err
		}
		if !bulkable(d.source) {
			if err := w.writeOne(ctx, index, op, &d); err != nil {
				return err
			}
			continue
		}
		if body.Len() > 0 && body.Len()+len(d.source) > bulkMost {
			if err := flush(); err != nil {
				return err
			}
		}
		appendAction(&body, op, &d)
		sent = append(sent, d)
	}
	return flush()
}

func appendAction(b *bytes.Buffer, op string, d *document) {
	fmt.Fprintf(b, `{"%s":{"_id":`, op)
	b.Write(appendText(nil, d.ID))
	if d.Routing != "" {
		b.WriteString(`,"routing":`)
		b.Write(appendText(nil, d.Routing))
	}
	if op == "index" {
		fmt.Fprintf(b, `,"version":%d,"version_type":"external_gte"`, d.Version)
	}
	b.WriteString("}}\n")
	b.Write(d.source)
	b.WriteByte('\n')
}

// sendBulk sends a bulk and looks at what became of each document. Those for which the
// server had no room are sent again.
func (w *writer) sendBulk(ctx context.Context, index, op string, docs []document, body []byte) error {
	until := time.Now().Add(busyFor)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		var ans struct {
			Errors bool
			Items  []map[string]struct {
				ID     string `json:"_id"`
				Status int
				Error  *struct {
					Type, Reason string
					CausedBy     struct{ Reason string } `json:"caused_by"`
				}
			}
		}
		path := "/" + url.PathEscape(index) + "/_bulk?pipeline=_none&filter_path=errors,items.*._id,items.*.status," +
			"items.*.error"
		err := w.c.do(ctx, http.MethodPost, path, body, &ans)
		if err == nil && len(ans.Items) != len(docs) {
			return fmt.Errorf("%s: the server says of %d documents what became of them, of %d that it was sent", index,
				len(ans.Items), len(docs))
		}
		var again []document
		if err == nil && ans.Errors {
			for i, item := range ans.Items {
				for _, r := range item {
					switch {
					case r.Status == http.StatusTooManyRequests, r.Status == http.StatusServiceUnavailable:
						again = append(again, docs[i])
					case r.Error != nil:
						return refusedDocument(index, &docs[i], r.Status, r.Error.Type, r.Error.Reason,
							r.Error.CausedBy.Reason)
					}
				}
			}
		}
		busy := is(err, http.StatusTooManyRequests) || is(err, http.StatusServiceUnavailable) ||
			errors.Is(err, engine.ErrUnreachable) && op == "index" // written twice is written once
		if err != nil && !busy || err == nil && len(again) == 0 {
			return err
		}
		if time.Now().After(until) {
			if err == nil {
				err = fmt.Errorf("%s: the servers have had no room for %d documents for %s", index, len(again), busyFor)
			}
			return err
		}
		if err == nil {
			var b bytes.Buffer
			for i := range again {
				appendAction(&b, op, &again[i])
			}
			docs, body = again, b.Bytes()
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
	}
}

func refusedDocument(index string, d *document, status int, kind, reason, cause string) error {
	if cause != "" && !strings.Contains(reason, cause) {
		reason += ": " + cause
	}
	name := fmt.Sprintf("%q", d.ID)
	if d.Routing != "" {
		name += fmt.Sprintf(" (routing %q)", d.Routing)
	}
	return fmt.Errorf("the server refuses document %s of %s: %w", name, index, &apiError{status, kind, reason})
}

// writeOne writes a document whose source cannot be a line.
func (w *writer) writeOne(ctx context.Context, index, op string, d *document) error {
	q := url.Values{"pipeline": {"_none"}}
	if op == "index" {
		q.Set("version", fmt.Sprint(d.Version))
		q.Set("version_type", "external_gte")
	} else {
		q.Set("op_type", "create")
	}
	if d.Routing != "" {
		q.Set("routing", d.Routing)
	}
	err := w.c.whileBusy(ctx, func() error {
		return w.c.do(ctx, http.MethodPut, "/"+url.PathEscape(index)+"/_doc/"+url.PathEscape(d.ID)+"?"+q.Encode(),
			d.source, nil)
	})
	var a *apiError
	if errors.As(err, &a) {
		return refusedDocument(index, d, a.Status, a.Type, a.Reason, "")
	}
	return err
}
