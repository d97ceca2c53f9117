package search

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// indexState is an index as the state of the cluster has it.
type indexState struct {
	State         string
	System        bool
	RoutingShards int            `json:"routing_num_shards"`
	Settings      map[string]any // by whole names
	Mappings      map[string]map[string]any
	PrimaryTerms  map[string]int64 `json:"primary_terms"`
	aliases       map[string]any
	blocks        map[string]any // by their numbers; what refuses is this, and not the setting
}

// blockNumbers are the numbers of blocks, by the settings that put them there.
var blockNumbers = map[string]string{"read_only": "5", "read": "7", "write": "8", "metadata": "9",
	"read_only_allow_delete": "12"}

func (i *indexState) uuid() string { return settingText(i.Settings, "index.uuid") }

// blocked reports whether something may not be done with the index: read, write. A block that
// is being put there may be in force without its setting, and stay so where the setting was taken
// away meanwhile.
func (i *indexState) blocked(what string) bool {
	_, inForce := i.blocks[blockNumbers[what]]
	return inForce || settingText(i.Settings, "index.blocks."+what) == "true"
}

// shards returns the number of shards.
func (i *indexState) shards() int {
	n, _ := strconv.Atoi(settingText(i.Settings, "index.number_of_shards"))
	return max(n, len(i.PrimaryTerms))
}

// note says how many parts and copies there are.
func (i *indexState) note() string {
	count := func(n, what string) string {
		if n != "1" {
			what += "s"
		}
		return n + " " + what
	}
	return count(fmt.Sprint(i.shards()), "shard") + ", " +
		count(settingText(i.Settings, "index.number_of_replicas"), "replica")
}

// definition returns what makes the index work. Blocks that this connection has put
// there are not the index's own.
func (i *indexState) definition(held bool) *definition {
	d := &definition{Aliases: i.aliases, Settings: portableSettings(i.Settings), RoutingShards: i.RoutingShards}
	for _, m := range i.Mappings { // one, "_doc", since types are gone
		d.Mappings = m
	}
	if held {
		delete(d.Settings, "index.blocks.write")
	}
	return d
}

// streamState is a data stream as the state of the cluster has it.
type streamState struct {
	Name      string
	Timestamp struct{ Name string } `json:"timestamp_field"`
	Indices   []struct {
		Name string `json:"index_name"`
		UUID string `json:"index_uuid"`
	}
	Generation int64
}

// state is what a cluster holds, at one moment.
type state struct {
	indices map[string]*indexState
	streams map[string]*streamState
	backing map[string]string // the stream that an index is of
}

// readState asks for the state of the cluster, and for the aliases, of which the state
// has the names only. Without names it is of everything.
func (c *cluster) readState(ctx context.Context, names ...string) (*state, error) {
	var v struct {
		Metadata struct {
			Indices map[string]*indexState
			Streams struct {
				Streams map[string]*streamState `json:"data_stream"`
			} `json:"data_stream"`
		}
	}
	var blocks struct {
		Blocks struct{ Indices map[string]map[string]any }
	}
	s := &state{indices: map[string]*indexState{}, streams: map[string]*streamState{}, backing: map[string]string{}}
	lists := paths(names)
	if len(names) == 0 {
		lists = []string{"_all"}
	}
	for _, l := range lists {
		err := c.get(ctx, "/_cluster/state/metadata/"+l+
			"?flat_settings=true&expand_wildcards=all&ignore_unavailable=true", &v)
		if err != nil {
			return nil, fmt.Errorf("reading the cluster's state: %w", err)
		}
		err = c.get(ctx, "/_cluster/state/blocks/"+l+"?expand_wildcards=all&ignore_unavailable=true", &blocks)
		if err != nil {
			return nil, fmt.Errorf("reading the cluster's state: %w", err)
		}
		for name, b := range blocks.Blocks.Indices {
			if i := v.Metadata.Indices[name]; i != nil {
				i.blocks = b
			}
		}
		maps.Copy(s.indices, v.Metadata.Indices)
		maps.Copy(s.streams, v.Metadata.Streams.Streams)
		err = c.readAliases(ctx, s, l)
		if is(err, 0, "cluster_block_exception") { // one that may not be looked at hides all others
			err = nil
			for _, part := range paths(lookable(v.Metadata.Indices)) {
				err = errors.Join(err, c.readAliases(ctx, s, part))
			}
		}
		if err != nil {
			return nil, fmt.Errorf("reading aliases: %w", err)
		}
	}
	for name, st := range s.streams {
		for _, i := range st.Indices {
			s.backing[i.Name] = name
		}
	}
	return s, nil
}

// lookable returns the indices that may be looked at.
func lookable(indices map[string]*indexState) (out []string) {
	for name, i := range indices {
		if !i.blocked("metadata") && i.State != "close" {
			out = append(out, name)
		}
	}
	return out
}

func (c *cluster) readAliases(ctx context.Context, s *state, list string) error {
	var aliases map[string]struct{ Aliases map[string]any }
	err := c.get(ctx, "/"+list+"/_alias?expand_wildcards=all&ignore_unavailable=true", &aliases)
	for name, a := range aliases {
		if i := s.indices[name]; i != nil && len(a.Aliases) > 0 {
			i.aliases = a.Aliases
		}
	}
	if is(err, 404) {
		return nil
	}
	return err
}

// own reports whether an index is Dexamen's, or the servers' own.
func (s *state) own(name string) bool {
	return s.indices[name].System || name == workIndex || strings.HasPrefix(name, stagePrefix)
}

// generation returns the generation of an index of a data stream, which ends its name.
func generation(index string) int64 {
	n, err := strconv.ParseInt(index[strings.LastIndexByte(index, '-')+1:], 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// Namespaces implements [engine.Cluster].
func (c *cluster) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	out, _, err := c.listing(ctx)
	return out, c.fail(err)
}

// listing returns what there is, and the state that it was read from.
func (c *cluster) listing(ctx context.Context) (out []engine.Namespace, s *state, err error) {
	if s, err = c.readState(ctx); err != nil {
		return nil, nil, err
	}
	_, health, err := c.health(ctx)
	if err != nil {
		return nil, nil, err
	}
	sizes, err := c.sizes(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(s.indices)) {
		if s.own(name) || s.backing[name] != "" {
			continue
		}
		ns := c.namespace(s, name)
		ns.Records, ns.Bytes = sizes[name].docs, sizes[name].bytes
		ns.Skip = skip(s.indices[name], health[name])
		ns.Note = s.indices[name].note()
		if h := health[name]; h != "green" {
			ns.Note += ", " + h
		}
		out = append(out, ns)
	}
	for _, name := range slices.Sorted(maps.Keys(s.streams)) {
		ns := c.namespace(s, name)
		ns.Note = fmt.Sprintf("data stream of %d indices", len(s.streams[name].Indices))
		for _, i := range s.streams[name].Indices {
			ns.Records += sizes[i.Name].docs
			ns.Bytes += sizes[i.Name].bytes
			if st := s.indices[i.Name]; st == nil {
				ns.Skip = i.Name + " is not there"
			} else if why := skip(st, health[i.Name]); why != "" {
				ns.Skip = i.Name + ": " + why
			}
		}
		out = append(out, ns)
	}
	slices.SortFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	if c.t.Settings {
		wide, err := c.clusterWide(ctx)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, wide...)
	}
	return out, s, nil
}

// namespace returns an index or data stream as a namespace.
func (c *cluster) namespace(s *state, name string) engine.Namespace {
	c.mu.Lock()
	defer c.mu.Unlock()
	if st := s.streams[name]; st != nil {
		d := &definition{Timestamp: st.Timestamp.Name, Generations: map[string]*definition{}}
		for _, i := range st.Indices {
			if state := s.indices[i.Name]; state != nil {
				g := state.definition(c.held[i.Name])
				g.RoutingShards = 0
				delete(g.Mappings, "_data_stream_timestamp") // said by the stream
				d.Generations[fmt.Sprintf("%06d", generation(i.Name))] = g
			}
		}
		return engine.Namespace{Namespace: record.Namespace{Name: name, Kind: streamKind, Definition: d.encode()}}
	}
	i := s.indices[name]
	return engine.Namespace{Namespace: record.Namespace{Name: name, Kind: indexKind, Ident: []byte(i.uuid()),
		Definition: i.definition(c.held[name]).encode()}}
}

// skip returns why an index cannot be protected.
func skip(i *indexState, health string) string {
	switch {
	case i.State == "close":
		return "it is closed; open it to have it protected"
	case i.blocked("read"):
		return "it may not be read (index.blocks.read)"
	case i.blocked("metadata"):
		return "it may not be looked at (index.blocks.metadata)"
	case health == "red":
		return "a shard of it is on no node that is up"
	}
	return i.definition(false).incompleteSource()
}

type size struct{ docs, bytes int64 }

// sizes asks how large indices are. Nested documents count among the servers' own
// numbers; these are estimates.
func (c *cluster) sizes(ctx context.Context, s *state) (map[string]size, error) {
	out := map[string]size{}
	err := c.readSizes(ctx, "_all", out)
	if is(err, 0, "cluster_block_exception") {
		err = nil
		for _, list := range paths(lookable(s.indices)) {
			err = errors.Join(err, c.readSizes(ctx, list, out))
		}
	}
	return out, err
}

func (c *cluster) readSizes(ctx context.Context, list string, out map[string]size) error {
	var v struct {
		Indices map[string]struct {
			Primaries struct {
				Docs  struct{ Count int64 }
				Store struct {
					Bytes int64 `json:"size_in_bytes"`
				}
			}
		}
	}
	err := c.get(ctx, "/"+list+"/_stats/docs,store?expand_wildcards=all&level=indices&forbid_closed_indices=false"+
		"&filter_path=indices.*.primaries", &v)
	for n, i := range v.Indices {
		out[n] = size{i.Primaries.Docs.Count, i.Primaries.Store.Bytes}
	}
	return err
}

// fail returns an error with the name of the cluster.
func (c *cluster) fail(err error) error {
	name := "cluster " + c.t.Name + ": "
	if err == nil || strings.HasPrefix(err.Error(), name) {
		return err
	}
	return fmt.Errorf("%s%w", name, err)
}
