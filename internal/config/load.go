package config

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"amber.example/gatekeeper/internal/core/plain"
)

// largestFile is how long a file of settings may be, in bytes.
const largestFile = 1 << 20

// Sources are where settings are looked for. What is typed goes before the environment, that before the file, that before the default.
type Sources struct {
	Given    map[string][]string         // what was typed, by setting
	Variable func(string) (string, bool) // the environment; several values are parted by commas
	File     string                      // "" for none
	Optional bool                        // the file need not be there
	State    string                      // the default of "state"
	Defaults map[string]string           // other defaults than those of the table
}

// Load reads all settings and checks each by itself. Its errors are of kind *Fault.
func Load(from Sources) (*Config, error) {
	settings := Settings(from.State)
	said, err := readFile(from.File, from.Optional, settings)
	if err != nil {
		return nil, err
	}
	c := new(Config)
	for i := range settings {
		s := &settings[i]
		values, at := from.of(s, said)
		if err := s.set(c, values); err != nil {
			return nil, &Fault{s.Name, at, err.Error()}
		}
		c.values = append(c.values, Value{s.Name, strings.Join(values, ", "), at, s.Live})
	}
	if (c.Certificate == "") != (c.Key == "") {
		name := "tls-key"
		if c.Certificate == "" {
			name = "tls-certificate"
		}
		return nil, &Fault{name, c.from(name), "a certificate and its key are given together"}
	}
	if c.BackupTo == "" && len(c.BackupRecipients) > 0 {
		return nil, &Fault{"backup-recipient", c.from("backup-recipient"), "no backups are written by themselves: backup-to says where to"}
	}
	return c, nil
}

// of looks one setting up.
func (from *Sources) of(s *Setting, said map[string]inFile) ([]string, From) {
	if values, ok := from.Given[s.Name]; ok && len(values) > 0 {
		return values, From{"flag", "--" + s.Name}
	}
	if from.Variable != nil {
		if value, ok := from.Variable(s.Variable()); ok && value != "" {
			values := []string{value}
			if s.Many {
				values = strings.Split(value, ",")
			}
			for i := range values {
				values[i] = strings.TrimSpace(values[i])
			}
			return values, From{"environment", s.Variable()}
		}
	}
	if one, ok := said[s.Name]; ok {
		return one.values, From{"file", fmt.Sprintf("%s line %d", from.File, one.line)}
	}
	if other, ok := from.Defaults[s.Name]; ok {
		return []string{other}, From{Kind: "default"}
	}
	return []string{s.Default}, From{Kind: "default"}
}

// Values are what all settings are, in the order of the table.
func (c *Config) Values() []Value { return slices.Clone(c.values) }

func (c *Config) from(name string) From {
	for _, v := range c.values {
		if v.Name == name {
			return v.From
		}
	}
	return From{Kind: "default"}
}

// Wrong is a fault of a setting that was only found by trying it out.
func (c *Config) Wrong(name, says string) error { return &Fault{name, c.from(name), says} }

type inFile struct {
	values []string
	line   int
}

// readFile reads the settings of a file: YAML, a mapping of names to texts, or of those that may be given several times to lists.
// What is relative in it is relative to its directory.
func readFile(name string, optional bool, settings []Setting) (map[string]inFile, error) {
	if name == "" {
		return nil, nil
	}
	at := func(line int, setting, says string, args ...any) error {
		where := name
		if line > 0 {
			where = fmt.Sprintf("%s line %d", name, line)
		}
		return &Fault{setting, From{"file", where}, fmt.Sprintf(says, args...)}
	}
	f, err := os.Open(name)
	if errors.Is(err, os.ErrNotExist) && optional {
		return nil, nil
	}
	if err != nil {
		return nil, at(0, "", "it cannot be read: %s", plain.Reason(err))
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, largestFile+1))
	if err != nil {
		return nil, at(0, "", "it cannot be read: %s", plain.Reason(err))
	}
	if len(raw) > largestFile {
		return nil, at(0, "", "it is longer than 1 MiB, and no file of settings")
	}
	tree, err := parser.ParseBytes(raw, 0)
	if err != nil {
		var wrong *yaml.SyntaxError
		line := 0
		if errors.As(err, &wrong) && wrong.Token != nil && wrong.Token.Position != nil {
			line = wrong.Token.Position.Line
		}
		return nil, at(line, "", "it is no YAML: a line of settings looks like  smb: 0.0.0.0:445")
	}
	out := make(map[string]inFile)
	for _, doc := range tree.Docs {
		if err := settingsOf(doc.Body, filepath.Dir(name), settings, out, at); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func settingsOf(body ast.Node, dir string, settings []Setting, out map[string]inFile, at func(int, string, string, ...any) error) error {
	var pairs []*ast.MappingValueNode
	switch n := body.(type) {
	case nil, *ast.NullNode, *ast.CommentGroupNode:
		return nil
	case *ast.MappingNode:
		pairs = n.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{n}
	default:
		return at(body.GetToken().Position.Line, "", "settings are lines such as  smb: 0.0.0.0:445")
	}
	for _, pair := range pairs {
		key, line := pair.Key.GetToken().Value, pair.Key.GetToken().Position.Line
		i := slices.IndexFunc(settings, func(s Setting) bool { return s.Name == key })
		if i < 0 {
			says := fmt.Sprintf("there is no setting %q", key)
			var names []string
			for _, s := range settings {
				names = append(names, s.Name)
			}
			if near := plain.Nearest(key, names); near != "" {
				says += "; there is " + near
			}
			return at(line, "", "%s", says)
		}
		s := &settings[i]
		if was, twice := out[key]; twice {
			return at(line, key, "it is said in line %d already", was.line)
		}
		values, ok := valuesOf(pair.Value, s.Many)
		if !ok {
			if s.Many {
				return at(line, key, "it takes a text, or a list of texts")
			}
			return at(line, key, "it takes one text")
		}
		if s.Path {
			for j, v := range values {
				if v != "" && !filepath.IsAbs(v) {
					values[j] = filepath.Join(dir, v)
				}
			}
		}
		out[key] = inFile{values, line}
	}
	return nil
}

// valuesOf reads a text, or a list of texts where there may be several.
func valuesOf(n ast.Node, many bool) ([]string, bool) {
	switch n := n.(type) {
	case *ast.NullNode:
		return []string{""}, true
	case *ast.SequenceNode:
		if !many {
			return nil, false
		}
		out := []string{}
		for _, one := range n.Values {
			v, ok := valuesOf(one, false)
			if !ok {
				return nil, false
			}
			out = append(out, v...)
		}
		return out, true
	case *ast.StringNode:
		return []string{n.Value}, true
	case *ast.LiteralNode:
		return []string{strings.TrimSpace(n.Value.Value)}, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return []string{n.GetToken().Value}, true
	}
	return nil, false
}

// With is the same, with what another says of settings that are taken up while the service runs.
func (c *Config) With(other *Config) *Config {
	out := *c
	out.Certificate, out.Key, out.ClientAuthorities, out.LogLevel = other.Certificate, other.Key, other.ClientAuthorities, other.LogLevel
	out.values = slices.Clone(c.values)
	for i, v := range other.values {
		if v.Live {
			out.values[i] = v
		}
	}
	return &out
}
