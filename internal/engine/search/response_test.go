package search

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

// answer is one to a search, as servers send it, with these sources.
func answer(sources ...string) string {
	var hits []string
	for i, s := range sources {
		hits = append(hits, fmt.Sprintf(`{"_index":"i","_id":"a\"%d","_version":%d,"_score":null,`+
			`"_routing":"r\u00e9",`+
			`"_ignored":["x"],"_source":%s,"sort":[%d]}`, i, i+1, s, i+10))
	}
	return `{"pit_id":"p","took":3,"timed_out":false,"_shards":{"total":1,"successful":1,"skipped":0,"failed":0},` +
		`"hits":{"max_score":null,"hits":[` + strings.Join(hits, ",") + `]}}`
}

var oddSources = []string{`{}`, ` {"a": 1.00 } `, `{"a":"}]\",{\\"}`, "{\n\"a\":[1,[2,{\"b\":[]}]]\n}",
	`{"n":1e400,"a":"\u00e9é🐝"}`,
	"/* } \" */ {\"a\":1 /* ] */} // \" }\n", `{"a":"` + strings.Repeat("x", 700_000) + `"}`, `{"a":/**/1}`}

// TestAnAnswerIsTakenApartAsItIs has documents come out byte for byte, however the
// answer is cut on its way, and one that breaks off be an error.
func TestAnAnswerIsTakenApartAsItIs(t *testing.T) {
	text := answer(oddSources...)
	for _, r := range []struct{ name string }{{"whole"}, {"byte by byte"}} {
		in := strings.NewReader(text)
		n := 0
		read := func(h *hit) error {
			require.Equal(t, oddSources[n], string(h.source))
			require.Equal(t, hit{fmt.Sprintf("a\"%d", n), "ré", int64(n + 1), int64(n + 10), h.source}, *h)
			n++
			return nil
		}
		var p *page
		var err error
		if r.name == "whole" {
			p, err = readPage(in, read)
		} else {
			p, err = readPage(iotest.OneByteReader(in), read)
		}
		require.NoError(t, err, r.name)
		require.Equal(t, len(oddSources), n)
		require.Equal(t, "p", p.pit)
		require.NoError(t, p.shards.whole(""))
	}
	short := answer(oddSources[:6]...)
	for i := range short[:len(short)-1] {
		_, err := readPage(strings.NewReader(short[:i]), func(*hit) error { return nil })
		require.Error(t, err, "cut after %d bytes", i)
	}
	enough := errors.New("enough")
	_, err := readPage(strings.NewReader(text), func(*hit) error { return enough })
	require.ErrorIs(t, err, enough)
	for _, lost := range []string{`{"hits":{"hits":[]}}`,
		`{"_shards":{"total":3,"successful":2,"failed":1,"failures":[{"index":"i","shard":1,` +
			`"reason":{"type":"x","reason":"y"}}]},` +
			`"hits":{"hits":[]}}`} {
		p, err := readPage(strings.NewReader(lost), func(*hit) error { return nil })
		require.NoError(t, err)
		require.Error(t, p.shards.whole("reading"))
	}
}

// FuzzAnswer has any JSON as a document come out as it went in.
func FuzzAnswer(f *testing.F) {
	for _, s := range oddSources[:6] {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		if !json.Valid([]byte(source)) {
			_, _ = readPage(strings.NewReader(answer(source)), func(*hit) error { return nil }) // must end
			return
		}
		got := ""
		_, err := readPage(strings.NewReader(answer(source)), func(h *hit) error { got = string(h.source); return nil })
		require.NoError(t, err)
		require.Equal(t, source, got)
	})
}

// FuzzDocument has what a record says of a document be what it was made of, and keys
// differ where identities do.
func FuzzDocument(f *testing.F) {
	f.Add("a", "", int64(1), `{"a":1}`, "b")
	f.Add("a\x00b", "r\"", int64(0), "{\n}", "a")
	f.Fuzz(func(t *testing.T, id, routing string, version int64, source, other string) {
		id, routing, other = strings.ToValidUTF8(id, "?"), strings.ToValidUTF8(routing,
			"?"), strings.ToValidUTF8(other, "?")
		d := document{ID: id, Routing: routing, Version: version, source: []byte(source)}
		back, err := readValue(d.appendValue(nil))
		require.NoError(t, err)
		require.Equal(t, d.ID+"|"+d.Routing+"|"+source, back.ID+"|"+back.Routing+"|"+string(back.source))
		require.Equal(t, version, back.Version)
		if other != id {
			require.NotEqual(t, d.key(nil), (&document{ID: other, Routing: routing}).key(nil))
			require.Equal(t, id < other, string((&document{ID: id}).key(nil)) < string((&document{ID: other}).key(nil)))
		}
	})
}
