package search

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// definition is what makes an index work, without what belongs to one cluster. As
// bytes it is JSON with its names in order; numbers stay as they are written.
type definition struct {
	Aliases  map[string]any `json:"aliases,omitempty"`
	Mappings map[string]any `json:"mappings,omitempty"`
	// RoutingShards says how documents are spread: an index made anew with another
	// number could have two documents of one _id in one shard, which are one there.
	RoutingShards int            `json:"routing_shards,omitempty"`
	Settings      map[string]any `json:"settings,omitempty"` // by whole names, index.…
	// Of a data stream: the field with the time, and the indices by generation.
	Timestamp   string                 `json:"timestamp_field,omitempty"`
	Generations map[string]*definition `json:"generations,omitempty"`
}

func (d *definition) encode() []byte {
	b, err := encodeJSON(d)
	if err != nil {
		panic(err) // made of what JSON was decoded to
	}
	return b
}

func decodeDefinition(b []byte) (*definition, error) {
	d := &definition{}
	dec := json.NewDecoder(strings.NewReader(string(b)))
	dec.UseNumber()
	if err := dec.Decode(d); err != nil {
		return nil, fmt.Errorf("the definition of an index: %w", err)
	}
	return d, nil
}

// ofOneCluster are the beginnings of settings that say nothing on another cluster, or
// cannot be set: what the server itself has made up.
var ofOneCluster = []string{
	"index.uuid", "index.creation_date", "index.provided_name", "index.version.", "index.history.uuid",
	"index.history_uuid", "index.resize.", "index.shrink.", "index.split.",
	"index.routing.allocation.initial_recovery.", "index.verified_before_close", "index.number_of_routing_shards",
	"index.store.snapshot.", "index.store.remote.", "index.remote_store.",
}

// portableSettings returns settings without those of one cluster and without those
// that are at their default again.
func portableSettings(all map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range all {
		if v != nil && !slices.ContainsFunc(ofOneCluster, func(p string) bool { return strings.HasPrefix(k, p) }) {
			out[k] = v
		}
	}
	// A clone says what is the default and what it was cloned from does not.
	if settingText(out, "index.routing_partition_size") == "1" {
		delete(out, "index.routing_partition_size")
	}
	return out
}

// portable returns a definition without what may differ where it means the same: the
// nodes on which shards may lie, and a number of replicas that the server chooses.
func (d *definition) portable() *definition {
	out := *d
	out.RoutingShards = 0
	out.Settings = maps.Clone(d.Settings)
	maps.DeleteFunc(out.Settings, func(k string, _ any) bool { return placement(k) })
	if v := d.text("index.auto_expand_replicas"); v != "" && v != "false" {
		delete(out.Settings, "index.number_of_replicas")
	}
	if len(d.Generations) > 0 {
		out.Generations = map[string]*definition{}
		for g, def := range d.Generations {
			out.Generations[g] = def.portable()
		}
	}
	return &out
}

// placement reports whether a setting says on which nodes shards may lie.
func placement(name string) bool {
	rest, ok := strings.CutPrefix(name, "index.routing.allocation.")
	return ok && (strings.HasPrefix(rest, "include.") || strings.HasPrefix(rest, "exclude.") ||
		strings.HasPrefix(rest, "require."))
}

// text returns a setting, as the servers give it: all are texts there.
func (d *definition) text(name string) string { return settingText(d.Settings, name) }

func settingText(settings map[string]any, name string) string {
	switch v := settings[name].(type) {
	case nil:
		return ""
	case string:
		return v
	default:
		return fmt.Sprint(v)
	}
}

// incompleteSource returns why documents cannot be had as they were sent; empty where
// they can.
func (d *definition) incompleteSource() string {
	switch d.text("index.mapping.source.mode") {
	case "synthetic", "disabled":
		return "its documents are not kept as they were sent (index.mapping.source.mode)"
	}
	if d.text("index.derived_source.enabled") == "true" {
		return "its documents are not kept as they were sent (index.derived_source.enabled)"
	}
	s, _ := d.Mappings["_source"].(map[string]any)
	if on, ok := s["enabled"]; ok && fmt.Sprint(on) == "false" {
		return "its mapping keeps no documents (_source is switched off)"
	}
	if m, ok := s["mode"]; ok && fmt.Sprint(m) != "stored" {
		return fmt.Sprintf("its documents are not kept as they were sent (_source.mode is %v)", m)
	}
	for _, k := range []string{"includes", "excludes"} {
		if l, ok := s[k].([]any); ok && len(l) > 0 {
			return fmt.Sprintf("its mapping keeps documents only in part (_source.%s)", k)
		}
	}
	return ""
}

// describe returns a definition as short lines: aliases, settings, fields.
func (d *definition) describe() []string {
	var out []string
	if d.Timestamp != "" {
		out = append(out, "data stream by "+d.Timestamp)
		for _, g := range slices.Sorted(maps.Keys(d.Generations)) {
			for _, l := range d.Generations[g].describe() {
				out = append(out, "generation "+g+": "+l)
			}
		}
		return out
	}
	for _, k := range slices.Sorted(maps.Keys(d.Aliases)) {
		line := "alias " + k
		if v, ok := d.Aliases[k].(map[string]any); ok && len(v) > 0 {
			line += " " + short(v)
		}
		out = append(out, line)
	}
	for _, k := range slices.Sorted(maps.Keys(d.Settings)) {
		out = append(out, strings.TrimPrefix(k, "index.")+": "+short(d.Settings[k]))
	}
	for _, k := range slices.Sorted(maps.Keys(d.Mappings)) {
		if k != "properties" {
			out = append(out, "mapping "+k+": "+short(d.Mappings[k]))
		}
	}
	return append(out, describeFields("", d.Mappings)...)
}

func describeFields(prefix string, m map[string]any) (out []string) {
	fields, _ := m["properties"].(map[string]any)
	for _, k := range slices.Sorted(maps.Keys(fields)) {
		f, _ := fields[k].(map[string]any)
		own := maps.Clone(f)
		delete(own, "properties")
		kind, _ := own["type"].(string)
		delete(own, "type")
		if kind == "" {
			kind = "object"
		}
		line := "field " + prefix + k + ": " + kind
		if len(own) > 0 {
			line += " " + short(own)
		}
		out = append(out, line)
		out = append(out, describeFields(prefix+k+".", f)...)
	}
	return out
}

// short returns a value as JSON; a text without quotes.
func short(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := encodeJSON(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
