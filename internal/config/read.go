package config

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"dexamen/internal/core/remedy"
)

// Bounds of what is read: beyond them a file is no configuration, and would cost without end.
const (
	maxSize  = 8 << 20 // bytes of a file
	maxDepth = 32      // brackets within brackets
	maxNodes = 500_000 // values, each alias counted as what it stands for
)

// source is a file that was read, for saying where in it something is.
type source struct {
	path string
	file *ast.File
}

// Load reads and checks a file, and those that it includes.
func Load(path string) (*Config, error) {
	data, err := readFile(path, maxSize)
	if err != nil {
		return nil, remedy.With(fmt.Errorf("configuration: %w", err), remedy.WriteConfig, "")
	}
	return Parse(data, path)
}

// Parse checks a file's content. The error lists all that is wrong, each with
// file, line and column.
func Parse(data []byte, path string) (*Config, error) {
	c := &Config{Path: path}
	file, err := parse(data, path, c)
	if err != nil {
		return nil, err
	}
	k := checker{sources: []source{{path, file}}}
	c.include(&k)
	c.check(&k)
	c.Lacking, c.Warnings, c.sources = k.lacking, k.warnings, k.sources
	return c, errors.Join(k.errs...)
}

// parse reads one document into a value.
func parse(data []byte, path string, into any) (*ast.File, error) {
	text := strings.TrimPrefix(string(data), "\ufeff")
	tokens := lexer.Tokenize(text)
	if err := shallow(tokens, path); err != nil {
		return nil, err
	}
	file, err := parser.Parse(tokens, 0)
	if err != nil {
		return nil, remedy.With(located(path, nil, err), remedy.SampleConfig, "")
	}
	var body ast.Node
	for _, doc := range file.Docs {
		switch {
		case doc.Body == nil:
		case body == nil:
			body = doc.Body
		default:
			pos := doc.Body.GetToken().Position
			return nil, fmt.Errorf("%s:%d:%d: a second document begins before here; a configuration is one, and other "+
				"files are added with include", path, pos.Line, pos.Column)
		}
	}
	if body == nil {
		return file, nil
	}
	n := nodes{sizes: map[string]int{}, path: path}
	if _, err := n.count(body); err != nil {
		return nil, err
	}
	if err := yaml.NodeToValue(body, into, yaml.Strict()); err != nil {
		return nil, remedy.With(located(path, body, err), remedy.SampleConfig, "")
	}
	return file, nil
}

// shallow returns an error where brackets or lines are nested deeper than anybody writes them: what
// parses them calls itself for each.
func shallow(tokens token.Tokens, path string) error {
	depth := 0
	for _, t := range tokens {
		switch t.Type { //nolint:exhaustive // brackets alone
		case token.MappingStartType, token.SequenceStartType:
			depth++
		case token.MappingEndType, token.SequenceEndType:
			depth--
		}
		if depth > maxDepth || t.Position.IndentNum > 8*maxDepth {
			return fmt.Errorf("%s:%d:%d: it is nested more than %d deep", path, t.Position.Line,
				t.Position.Column, maxDepth)
		}
	}
	return nil
}

// nodes counts values, with what aliases stand for.
type nodes struct {
	sizes map[string]int
	path  string
}

func (n *nodes) bad(at ast.Node, text string) error {
	pos := at.GetToken().Position
	return fmt.Errorf("%s:%d:%d: %s", n.path, pos.Line, pos.Column, text)
}

// count returns how many values a node stands for.
func (n *nodes) count(node ast.Node) (size int, err error) {
	add := func(parts ...ast.Node) error {
		for _, p := range parts {
			if p == nil {
				continue
			}
			s, err := n.count(p)
			if err != nil {
				return err
			}
			if size += s; size > maxNodes {
				return n.bad(p, fmt.Sprintf("with what its aliases stand for it holds more than %d values", maxNodes))
			}
		}
		return nil
	}
	size = 1
	switch v := node.(type) {
	case *ast.MappingNode:
		for _, kv := range v.Values {
			if err := add(kv); err != nil {
				return 0, err
			}
		}
	case *ast.MappingValueNode:
		err = add(v.Key, v.Value)
	case *ast.SequenceNode:
		err = add(v.Values...)
	case *ast.AnchorNode:
		name := v.Name.GetToken().Value
		n.sizes[name] = -1 // within itself
		if err = add(v.Value); err == nil {
			n.sizes[name] = size
		}
	case *ast.AliasNode:
		s, known := n.sizes[v.Value.GetToken().Value]
		if !known {
			return 0, n.bad(node, "no anchor "+v.Value.GetToken().Value+" is above it")
		}
		if s < 0 {
			return 0, n.bad(node, "it stands for what it is part of")
		}
		size = s
	case *ast.TagNode:
		err = add(v.Value)
	}
	return size, err
}

// include reads the files that are dropped beside the configuration: they add clusters and policies.
func (c *Config) include(k *checker) {
	from := map[string]string{}
	for i, pattern := range c.Include {
		at := fmt.Sprintf("$.include[%d]", i)
		if !filepath.IsAbs(pattern) {
			pattern = filepath.Join(filepath.Dir(c.Path), pattern)
		}
		files, err := filepath.Glob(pattern)
		if err != nil {
			k.bad(at, "%q: %v", pattern, err)
		} else if len(files) == 0 && !strings.ContainsAny(pattern, "*?[") {
			k.bad(at, "there is no %s", pattern)
		}
		slices.Sort(files)
		for _, path := range files {
			if _, twice := from[path]; twice || path == c.Path {
				continue
			}
			from[path] = path
			c.Included = append(c.Included, path)
			data, err := readFile(path, maxSize)
			if err != nil {
				k.errs = append(k.errs, err)
				continue
			}
			var part struct {
				Clusters map[string]Cluster `yaml:"clusters"`
				Policies map[string]Policy  `yaml:"policies"`
			}
			file, err := parse(data, path, &part)
			if err != nil {
				k.errs = append(k.errs, err)
				continue
			}
			own := source{path, file}
			add(k, own, "clusters", &c.Clusters, part.Clusters)
			add(k, own, "policies", &c.Policies, part.Policies)
			k.sources = append(k.sources, own)
		}
	}
}

// add takes the entries of a file's section. One that is there already is an error: neither counts more.
func add[V any](k *checker, from source, section string, all *map[string]V, more map[string]V) {
	if *all == nil {
		*all = map[string]V{}
	}
	for name, v := range sorted(more) {
		if _, there := (*all)[name]; there {
			k.errs = append(k.errs, fmt.Errorf("%s: %s.%s: it is in %s too", locate("$."+section+"."+name, from),
				section,
				name, locate("$."+section+"."+name, k.sources...)))
			continue
		}
		(*all)[name] = v
	}
}

// located turns a YAML error into path:line:column: message. An error that tells no place quotes what
// it is about: that is looked for in the document.
func located(path string, body ast.Node, err error) error {
	var ye yaml.Error
	if errors.As(err, &ye) && ye.GetToken() != nil {
		pos := ye.GetToken().Position
		return fmt.Errorf("%s:%d:%d: %s", path, pos.Line, pos.Column, ye.GetMessage())
	}
	if body != nil {
		for _, kind := range []ast.NodeType{ast.StringType, ast.IntegerType, ast.FloatType} {
			for _, n := range ast.Filter(kind, body) {
				if t := n.GetToken(); strings.HasPrefix(err.Error(), strconv.Quote(t.Value)) {
					return fmt.Errorf("%s:%d:%d: %w", path, t.Position.Line, t.Position.Column, err)
				}
			}
		}
	}
	return fmt.Errorf("%s: %w", path, err)
}

// Where returns file:line:column of an entry such as policies.nightly.log, or of
// the nearest one around it.
func (c *Config) Where(entry string) string { return locate("$."+entry, c.sources...) }

// locate returns where an entry is, or the nearest one around it.
func locate(at string, sources ...source) string {
	for p := at; p != "" && p != "$"; p = p[:max(0, strings.LastIndexByte(p, '.'))] {
		yp, err := yaml.PathString(p)
		if err != nil {
			continue
		}
		for _, s := range sources {
			if n, err := yp.FilterFile(s.file); err == nil && n != nil && n.GetToken() != nil {
				pos := n.GetToken().Position
				return fmt.Sprintf("%s:%d:%d", s.path, pos.Line, pos.Column)
			}
		}
	}
	if len(sources) == 0 {
		return "the configuration"
	}
	return sources[0].path
}

// checker gathers what is wrong.
type checker struct {
	sources []source
	errs    []error
	// lacking is what is needed and not there now; it may be elsewhere, or later.
	lacking []string
	// warnings are of what works and should not be so.
	warnings []string
}

// lack notes something that is named and not there.
func (k *checker) lack(at, format string, args ...any) {
	k.lacking = append(k.lacking, fmt.Sprintf("%s: %s: %s", locate(at, k.sources...), strings.TrimPrefix(at, "$."),
		fmt.Sprintf(format, args...)))
}

// bad notes an error at a YAML path such as $.clusters.meadow.address.
func (k *checker) bad(at, format string, args ...any) {
	k.errs = append(k.errs, fmt.Errorf("%s: %s: %s", locate(at, k.sources...), strings.TrimPrefix(at, "$."),
		fmt.Sprintf(format, args...)))
}
