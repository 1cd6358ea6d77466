package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"go.yaml.in/yaml/v3"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/link"
	"zealousferry/core/memory"
)

// maxSheet bounds a sheet's file.
const maxSheet = 1 << 20

var (
	compiledSheet   = sync.OnceValue(func() *jsonschema.Schema { return compile("sheet.schema.json", Schema) })
	compiledRelease = sync.OnceValue(func() *jsonschema.Schema { return compile("release.schema.json", ReleaseSchema) })
)

func compile(name string, text []byte) *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		panic(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(name, doc); err != nil {
		panic(err)
	}
	return c.MustCompile(name)
}

// ReadSheet reads and checks a model sheet. Errors are of kind bad-file and name
// line and field.
func ReadSheet(data []byte) (*Sheet, error) { return ReadSheetFor(data, nil) }

// OwnRules are what a loader's own options must keep to.
type OwnRules interface {
	Schema() []byte
}

// OwnCheck is a loader that looks further than a schema can; path is where in the
// options the fault stands.
type OwnCheck interface {
	Check(own map[string]any) (path []string, err error)
}

// ReadSheetFor also checks the options that are a loader's own, with the rules that
// rulesOf gives for a kind of loader.
func ReadSheetFor(data []byte, rulesOf func(kind string) (OwnRules, error)) (*Sheet, error) {
	root, err := readYAML(data, compiledSheet())
	if err != nil {
		return nil, err
	}
	if rulesOf != nil {
		if err := checkLoaders(root, rulesOf); err != nil {
			return nil, err
		}
	}
	var s Sheet
	if err := root.Decode(&s); err != nil {
		return nil, core.Fail(core.BadFile, "the sheet cannot be read: %w", err)
	}
	if s.Format == 1 { // one section, whose fields stand at the top
		var x struct {
			Loader      Loader           `yaml:"loader"`
			Application link.Application `yaml:"application"`
			Memory      memory.Map       `yaml:"memory"`
			Settings    *Settings        `yaml:"settings"`
			Header      *Header          `yaml:"header"`
		}
		if err := root.Decode(&x); err != nil {
			return nil, core.Fail(core.BadFile, "the sheet cannot be read: %w", err)
		}
		s.Sections, s.Program = []Section{{Name: TheOne, Loader: x.Loader, Application: x.Application, Memory: x.Memory, Settings: x.Settings, Header: x.Header}}, TheOne
	}
	if err := s.checkSections(); err != nil {
		return nil, err
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	s.Digest = core.DigestOf(data)
	return &s, nil
}

// checkLoaders holds the own options of each loader in a sheet against the loader's
// schema.
func checkLoaders(root *yaml.Node, rulesOf func(kind string) (OwnRules, error)) error {
	paths := [][]string{{"loader"}}
	if n := nodeAt(root, []string{"sections"}); n.Kind == yaml.SequenceNode {
		paths = nil
		for i := range n.Content {
			paths = append(paths, []string{"sections", strconv.Itoa(i), "loader"})
		}
	}
	for _, own := range slices.Clone(paths) {
		section := own[:len(own)-1]
		if hasKey(nodeAt(root, section), "header") {
			paths = append(paths, append(slices.Clone(section), "header", "loader"))
		}
	}
	for _, path := range paths {
		plain, err := plainValue(nodeAt(root, path), 0)
		if err != nil {
			return err
		}
		own := plain.(map[string]any) // the sheet's schema asks for it
		kind := own["kind"].(string)
		rules, err := rulesOf(kind)
		if err != nil {
			return core.Fail(core.BadFile, "line %d: %s.kind: %w", lineOf(root, append(path, "kind")), strings.Join(path, "."), err)
		}
		for _, common := range []string{"kind", "says", "await"} {
			delete(own, common)
		}
		if err := compile("loader."+kind+".schema.json", rules.Schema()).Validate(own); err != nil {
			return locate(root, err, path...)
		}
		if further, ok := rules.(OwnCheck); ok {
			var typed map[string]any
			if err := nodeAt(root, path).Decode(&typed); err != nil {
				return core.Fail(core.BadFile, "the sheet cannot be read: %w", err)
			}
			if at, err := further.Check(typed); err != nil {
				at = append(slices.Clone(path), at...)
				return core.Fail(core.BadFile, "line %d: %s: %w", lineOf(root, at), strings.Join(at, "."), err)
			}
		}
	}
	return nil
}

// readYAML reads a document and checks it against its schema.
func readYAML(data []byte, schema *jsonschema.Schema) (*yaml.Node, error) {
	if len(data) > maxSheet {
		return nil, core.Fail(core.BadFile, "a sheet has at most %d bytes, this has %d", maxSheet, len(data))
	}
	var root yaml.Node
	if err := yaml.Unmarshal(data, &root); err != nil {
		return nil, core.Fail(core.BadFile, "the sheet is not YAML: %w", err)
	}
	if len(root.Content) != 1 {
		return nil, core.Fail(core.BadFile, "line 1: the sheet is empty")
	}
	plain, err := plainValue(root.Content[0], 0)
	if err != nil {
		return nil, err
	}
	if err := schema.Validate(plain); err != nil {
		return nil, locate(root.Content[0], err)
	}
	return root.Content[0], nil
}

// ReleaseSheet is the file that describes a release before its images are known
// by digest.
type ReleaseSheet struct {
	Format     int                 `yaml:"release"`
	Model      string              `yaml:"model"`
	Version    string              `yaml:"version"`
	Number     string              `yaml:"number"`
	Channel    Channel             `yaml:"channel"`
	Cures      Words               `yaml:"cures"`
	Changes    Words               `yaml:"changes"`
	Supersedes []string            `yaml:"supersedes"`
	Floor      string              `yaml:"floor"`
	Fits       map[string][]string `yaml:"fits"`
	Rules      []Rule              `yaml:"rules"`
	Wants      []Want              `yaml:"wants"`
	Origin     *Origin             `yaml:"origin"`
	Parts      []PartFile          `yaml:"parts"`
	Settings   []Carry             `yaml:"settings"`
}

// PartFile is a part by its file.
type PartFile struct {
	Name    string       `yaml:"name"`
	Section string       `yaml:"section"`
	Runs    string       `yaml:"runs"`
	File    string       `yaml:"file"`
	Format  string       `yaml:"format"`
	Member  string       `yaml:"member"`
	Address uint64       `yaml:"address"`
	Counts  image.Counts `yaml:"counts"`
	Because string       `yaml:"because"`
}

// Part is what is known of a part before its file was read.
func (p PartFile) Part() Part {
	return Part{Name: p.Name, Section: p.Section, Runs: p.Runs, Format: p.Format, Address: p.Address, Counts: p.Counts}
}

// ReadRelease reads and checks a release sheet. Errors are of kind bad-file and
// name line and field.
func ReadRelease(data []byte) (*ReleaseSheet, error) {
	root, err := readYAML(data, compiledRelease())
	if err != nil {
		return nil, err
	}
	r := ReleaseSheet{Channel: Stable}
	if err := root.Decode(&r); err != nil {
		return nil, core.Fail(core.BadFile, "the release sheet cannot be read: %w", err)
	}
	return &r, nil
}

// plainValue turns a node into what a JSON Schema sees. Aliases are refused:
// a small file could unfold without end.
func plainValue(n *yaml.Node, depth int) (any, error) {
	if depth > 32 {
		return nil, core.Fail(core.BadFile, "line %d: nested deeper than 32 levels", n.Line)
	}
	switch n.Kind {
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := n.Content[i].Value
			if _, twice := m[key]; twice {
				return nil, core.Fail(core.BadFile, "line %d: %s is given twice", n.Content[i].Line, key)
			}
			v, err := plainValue(n.Content[i+1], depth+1)
			if err != nil {
				return nil, err
			}
			m[key] = v
		}
		return m, nil
	case yaml.SequenceNode:
		all := []any{}
		for _, c := range n.Content {
			v, err := plainValue(c, depth+1)
			if err != nil {
				return nil, err
			}
			all = append(all, v)
		}
		return all, nil
	case yaml.ScalarNode:
		var v any
		if err := n.Decode(&v); err != nil {
			return nil, core.Fail(core.BadFile, "line %d: %w", n.Line, err)
		}
		switch x := v.(type) {
		case int, int64, uint64:
			return json.Number(fmt.Sprint(x)), nil
		case float64:
			return json.Number(strconv.FormatFloat(x, 'g', -1, 64)), nil
		case nil, bool, string:
			return x, nil
		}
		return n.Value, nil
	}
	return nil, core.Fail(core.BadFile, "line %d: aliases are not used in sheets", n.Line)
}

var english = message.NewPrinter(language.English)

// locate turns the schema's complaint into line, field and what was expected.
// under is where in the document the schema began.
func locate(root *yaml.Node, err error, under ...string) error {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return core.Fail(core.BadFile, "the sheet does not follow its schema: %w", err)
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	path := append(under, v.InstanceLocation...)
	if extra, ok := v.ErrorKind.(*kind.AdditionalProperties); ok && len(extra.Properties) > 0 {
		path = append(append([]string(nil), path...), extra.Properties[0])
	}
	field := strings.Join(path, ".")
	if field == "" {
		field = "(top)"
	}
	return core.Fail(core.BadFile, "line %d: %s: %s", lineOf(root, path), field, v.ErrorKind.LocalizedString(english))
}

func lineOf(n *yaml.Node, path []string) int {
	line, _ := follow(n, path)
	return line
}

// hasKey tells whether a map has a key.
func hasKey(n *yaml.Node, key string) bool {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return true
		}
	}
	return false
}

// nodeAt is the node at a path that is there.
func nodeAt(n *yaml.Node, path []string) *yaml.Node {
	_, at := follow(n, path)
	return at
}

// follow goes along a path as far as it leads: the line there, and the node.
func follow(n *yaml.Node, path []string) (int, *yaml.Node) {
	line := n.Line
	for _, step := range path {
		var next *yaml.Node
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == step {
					line, next = n.Content[i].Line, n.Content[i+1]
				}
			}
		case yaml.SequenceNode:
			if i, err := strconv.Atoi(step); err == nil && i < len(n.Content) {
				next = n.Content[i]
				line = next.Line
			}
		}
		if next == nil {
			return line, n
		}
		n = next
	}
	return line, n
}
