package searchsim

import (
	"fmt"
	"net/http"
	"path"
	"slices"
)

// stream is a data stream: indices of which the newest takes what is written
// ("Data streams").
type stream struct {
	name       string
	timestamp  string
	indices    []string
	generation int64
}

// let takes an index out of the stream; the newest stays.
func (s *stream) let(name string) bool {
	i := slices.Index(s.indices, name)
	if i == len(s.indices)-1 {
		return false
	}
	if i >= 0 {
		s.indices = slices.Delete(s.indices, i, i+1)
	}
	return true
}

func (c *Cluster) handleStream(q *request, name string) (any, error) {
	switch q.method {
	case http.MethodPut:
		t := c.templateOf(name)
		def, ok := t["data_stream"].(map[string]any)
		if !ok {
			return nil, fail(400, "illegal_argument_exception",
				"no matching index template found for data stream [%s]", name)
		}
		field := "@timestamp"
		if f, ok := def["timestamp_field"].(map[string]any); ok {
			field = fmt.Sprint(f["name"])
		}
		c.streams[name] = &stream{name: name, timestamp: field}
		if err := c.addGeneration(c.streams[name]); err != nil {
			delete(c.streams, name)
			return nil, err
		}
		return object{"acknowledged": true}, nil
	case http.MethodDelete:
		found := false
		for n, st := range c.streams {
			if ok, _ := path.Match(name, n); ok {
				found = true
				for _, i := range st.indices {
					delete(c.indices, i)
				}
				delete(c.streams, n)
			}
		}
		if !found {
			return nil, fail(404, "index_not_found_exception", "no such index [%s]", name)
		}
		return object{"acknowledged": true}, nil
	}
	out := []object{}
	for n, st := range c.streams {
		if name == "" || n == name {
			out = append(out, object{"name": n, "generation": st.generation,
				"timestamp_field": object{"name": st.timestamp}})
		}
	}
	return object{"data_streams": out}, nil
}

func (c *Cluster) addGeneration(st *stream) error {
	st.generation++
	name := fmt.Sprintf(".ds-%s-%06d", st.name, st.generation)
	x, err := c.create(name, nil)
	if err != nil {
		return err
	}
	x.stream = st.name
	x.settings["index.hidden"] = "true"
	merge(&x.mappings, map[string]any{"_data_stream_timestamp": map[string]any{"enabled": true},
		"properties": map[string]any{st.timestamp: map[string]any{"type": "date"}}})
	st.indices = append(st.indices, name)
	return nil
}

func (c *Cluster) rollOver(name string) (any, error) {
	st := c.streams[name]
	if st == nil {
		return nil, fail(400, "illegal_argument_exception", "rollover target [%s] is no data stream", name)
	}
	old := st.indices[len(st.indices)-1]
	if err := c.addGeneration(st); err != nil {
		return nil, err
	}
	return object{"acknowledged": true, "rolled_over": true, "old_index": old,
			"new_index": st.indices[len(st.indices)-1]},
		nil
}
