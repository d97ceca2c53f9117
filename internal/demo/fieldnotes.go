package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"time"
)

// Fieldnotes are what keepers note in the yards, in clover, a search cluster: an index
// a day, made by an index template, all of them under one alias.
type Fieldnotes struct {
	Seed uint64
	// Days is how many indices there are; the newest is of Until.
	Days  int
	Until time.Time
	// Notes is how many there are of a day.
	Notes int
}

// Index returns the name of a day's index.
func (Fieldnotes) Index(day time.Time) string { return day.Format("fieldnotes-2006.01.02") }

const fieldnotesTemplate = `{"index_patterns":["fieldnotes-*"],"priority":100,"template":{
	"settings":{"index":{"number_of_shards":2,"number_of_replicas":1,"analysis":{"analyzer":{"folded":{
		"type":"custom","tokenizer":"standard","filter":["lowercase","asciifolding"]}}}}},
	"mappings":{"dynamic":"strict","properties":{
		"at":{"type":"date"},"keeper":{"type":"keyword"},"yard":{"type":"keyword"},"hive":{"type":"integer"},
		"note":{"type":"text","analyzer":"folded"},"weight_kg":{"type":"scaled_float","scaling_factor":100},
		"plants":{"type":"keyword"},"where":{"type":"geo_point"}}},
	"aliases":{"fieldnotes":{}}}}`

// Request sends a request to a search cluster. What is no success is an error.
func (Fieldnotes) Request(ctx context.Context, url, method, path, body string) error {
	req, err := http.NewRequestWithContext(ctx, method, url+path, bytes.NewReader([]byte(body)))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err == nil && (res.StatusCode >= 300 || bytes.Contains(b, []byte(`"errors":true`))) {
		err = fmt.Errorf("%s %s: %.300s", method, path, b)
	}
	return err
}

// Fill writes the template and the notes of all days.
func (f Fieldnotes) Fill(ctx context.Context, url string) error {
	if err := f.Request(ctx, url, http.MethodPut, "/_index_template/fieldnotes", fieldnotesTemplate); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(f.Seed, 31))
	for d := f.Days - 1; d >= 0; d-- {
		day := f.Until.AddDate(0, 0, -d)
		name := f.Index(day)
		if err := f.Request(ctx, url, http.MethodPut, "/"+name, "{}"); err != nil {
			return err
		}
		var b bytes.Buffer
		for i := range f.Notes {
			note := map[string]any{"at": day.Format("2006-01-02T") + fmt.Sprintf("%02d:%02d:00Z", 6+i%12, r.IntN(60)),
				"keeper": keepers[r.IntN(len(keepers))], "yard": yards[r.IntN(len(yards))], "hive": 1 + r.IntN(90),
				"note": sentence(r), "weight_kg": float64(1500+r.IntN(4500)) / 100}
			if r.IntN(3) == 0 {
				note["plants"] = []string{plants[r.IntN(len(plants))], plants[r.IntN(len(plants))]}
			}
			if r.IntN(4) == 0 {
				note["where"] = map[string]float64{
					"lat": 52 + float64(r.IntN(1000))/1000, "lon": 9 + float64(r.IntN(1000))/1000}
			}
			src, err := json.Marshal(note)
			if err != nil {
				return err
			}
			fmt.Fprintf(&b, "{\"index\":{\"_id\":\"%s-%04d\"}}\n%s\n", day.Format("0102"), i, src)
			if b.Len() > 4<<20 || i == f.Notes-1 {
				if err := f.Request(ctx, url, http.MethodPost, "/"+name+"/_bulk?refresh=true", b.String()); err != nil {
					return err
				}
				b.Reset()
			}
		}
	}
	return nil
}

// sentence makes up a few words.
func sentence(r *rand.Rand) string {
	var b bytes.Buffer
	for i := range 5 + r.IntN(30) {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(words[r.IntN(len(words))])
	}
	return b.String()
}
